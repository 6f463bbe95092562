"""A measure over one factor: a line for each level of the other."""

from __future__ import annotations

from collections.abc import Sequence

from zinc_kettle.core.chart import Axis, Chart, Line, Mark, Panel, Points
from zinc_kettle.core.grid import Slice, grid_of
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.record.value import Value
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.core.units import scale
from zinc_kettle.present.charts.kinds import ChartKind, Subject
from zinc_kettle.present.charts.subtitle import measure_line, notes


def _needs(subject: Subject) -> str:
    name = subject.measure
    if any(isinstance(c.value(name), Value) for c in subject.results.cells):
        return ""
    return f"there is no {MEASURES[name].title} to draw yet"


def _rows(results: StudyResults, parts: Sequence[Slice]) -> list[tuple[str, list[CellResults | None]]]:
    """A title and its cells along the x axis, for each line."""
    out = []
    for part in parts:
        cells = part.cells(results)
        if part.columns.factor is None:
            out.append((part.title, [row[0] for row in cells]))
            continue
        named = zip(part.rows.labels, cells, strict=True)
        out += [(" · ".join(word for word in (part.title, level) if word), row) for level, row in named]
    return out


def _panel(results: StudyResults, name: str, parts: Sequence[Slice]) -> Panel:
    side = parts[0].columns if parts[0].columns.factor else parts[0].rows
    marks: list[Mark] = []
    unit = ""
    for series, (title, cells) in enumerate(_rows(results, parts)):
        found = [(float(i), v) for i, c in enumerate(cells) if c is not None and isinstance(v := c.value(name), Value)]
        if not found:
            continue
        _, unit, factor = scale(found[0][1].value, found[0][1].unit)
        x, y = tuple(at for at, _ in found), tuple(v.value * factor for _, v in found)
        low, high = tuple(v.low * factor for _, v in found), tuple(v.high * factor for _, v in found)
        marks += [Line(x, y, title, series), Points(x, y, low, high, title, series)]
    measure = MEASURES[name]
    return Panel(
        Axis(side.heading, "categories", side.labels), Axis(f"{measure.title} ({unit})", low=0.0), tuple(marks)
    )


def _build(subject: Subject) -> Chart:
    results, name = subject.results, subject.measure
    parts = grid_of(results).slices
    # Slices share their axes, but for a design of one factor at a time, where each factor has its own.
    groups = [parts] if len({part.columns for part in parts}) == 1 else [(part,) for part in parts]
    panels = tuple(_panel(results, name, group) for group in groups)
    return Chart(results.study.question, measure_line(results, name), panels, notes(results))


LINES = ChartKind(
    "lines",
    "lines",
    "How does the measure change over one factor, for each level of the other?",
    "study",
    needs=_needs,
    build=_build,
)
