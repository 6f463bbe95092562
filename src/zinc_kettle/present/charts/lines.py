"""A measure over one factor: a line for each level of the other."""

from __future__ import annotations

from zinc_kettle.core.chart import Axis, Chart, Line, Mark, Panel, Points
from zinc_kettle.core.grid import Grid, grid_of
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.core.units import scale
from zinc_kettle.core.value import Value
from zinc_kettle.present.charts.kinds import ChartKind, Subject
from zinc_kettle.present.charts.subtitle import measure_line, notes


def _needs(subject: Subject) -> str:
    name = subject.measure
    if any(isinstance(c.value(name), Value) for c in subject.results.cells):
        return ""
    return f"there is no {MEASURES[name].title} to draw yet"


def _rows(results: StudyResults, grid: Grid) -> list[tuple[str, list[CellResults]]]:
    """A title and its cells along the x axis, for each line."""
    if grid.columns.factor is None:
        return [(part.title, [results.cell(row[0]) for row in part.rows]) for part in grid.slices]
    return [
        (" · ".join(word for word in (part.title, level) if word), [results.cell(key) for key in row])
        for part in grid.slices
        for level, row in zip(grid.rows.labels, part.rows, strict=True)
    ]


def _build(subject: Subject) -> Chart:
    results, name = subject.results, subject.measure
    grid = grid_of(results)
    side = grid.columns if grid.columns.factor else grid.rows
    marks: list[Mark] = []
    unit = ""
    for series, (title, cells) in enumerate(_rows(results, grid)):
        found = [(float(i), v) for i, c in enumerate(cells) if isinstance(v := c.value(name), Value)]
        if not found:
            continue
        _, unit, factor = scale(found[0][1].value, found[0][1].unit)
        x, y = tuple(at for at, _ in found), tuple(v.value * factor for _, v in found)
        low, high = tuple(v.low * factor for _, v in found), tuple(v.high * factor for _, v in found)
        marks += [Line(x, y, title, series), Points(x, y, low, high, title, series)]
    measure = MEASURES[name]
    panel = Panel(Axis(side.heading, "categories", side.labels), Axis(f"{measure.title} ({unit})", low=0.0),
                  tuple(marks))  # fmt: skip
    return Chart(results.study.question, measure_line(results, name), (panel,), notes(results))


LINES = ChartKind(
    "lines", "lines", "How does the measure change over one factor, for each level of the other?", "study",
    needs=_needs, build=_build,
)  # fmt: skip
