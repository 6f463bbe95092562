"""The map: rows by columns of cells with their values, in one panel a slice."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from zinc_kettle.core.cautions import QUIET_CODES
from zinc_kettle.core.cautions.machine import SPILLED
from zinc_kettle.core.chart import Axis, Cell, Chart, Panel
from zinc_kettle.core.compare.cells import Ranking
from zinc_kettle.core.compare.choice import marked
from zinc_kettle.core.grid import Axes, GridAxis, grid_of
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.record.value import Value
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.core.units import byte_size, digits, duration
from zinc_kettle.present.charts.kinds import ChartKind, Subject
from zinc_kettle.present.charts.subtitle import measure_line, notes
from zinc_kettle.present.planned import NOTHING_KNOWN, Planned
from zinc_kettle.present.values import CAUTION_MARK, STATE_MARKS, bounds_text, repeats_line, value_text

TIED_WORDS = "≈ best"
"""Last line of a cell that shows no clear difference from the best."""


@dataclass(frozen=True, slots=True)
class Window:
    """The part of a slice that is to be built: a screen shows no more of ten thousand cells than it has room for."""

    top: int = 0
    left: int = 0
    rows: int = 1 << 30
    columns: int = 1 << 30


ALL = Window()
LEAST_SPREAD = 0.02
"""Repeats that differ by less are drawn as alike."""


def map_panel(
    results: StudyResults,
    name: str,
    part: int,
    *,
    at: Window = ALL,
    rank: Ranking | None = None,
    planned: Mapping[str, Planned] | None = None,
    running: str | None = None,
    by: Axes | None = None,
    further: Sequence[str] = (),
    room: int = 0,
) -> Panel:
    """One slice of a study's map.

    Args:
        results: The study.
        name: Of the measure.
        part: Which slice.
        at: The part of it to build.
        rank: Which cell is best; nothing is marked where it is not given.
        planned: What is known of cells that are not measured yet, by key.
        running: Key of the cell that is being measured.
        by: The factors that span it; the usual ones where none are named.
        further: Measures that are said below the value, where a cell has the room.
        room: Lines of a cell; 0 says no more than is needed.
    """
    here = grid_of(results, by).slices[part]
    rank = rank or Ranking()
    tied = {cell.cell.key for cell in rank.tied}
    best = {cell.cell.key for cell in rank.bests}
    spread = _spread(results, name) if room else LEAST_SPREAD
    marks = []
    for r, row in enumerate(here.keys[at.top : at.top + at.rows]):
        for c, key in enumerate(row[at.left : at.left + at.columns]):
            if key is None:
                continue
            cell = results.cell(key)
            lines = lines_of(cell, name, (planned or {}).get(key, NOTHING_KNOWN), running=key == running)
            if key in tied:
                lines.append(TIED_WORDS)
            more = _further(cell, name, further, room - len(lines), spread) if cell.done else ()
            shade = _shade(cell, name, rank)
            marks.append(
                Cell(key, c, r, tuple(lines), shade, key in best, key in tied, cell.state == "failed", tuple(more))
            )
    return Panel(
        _axis(here.columns, at.left, at.columns),
        _axis(here.rows, at.top, at.rows),
        tuple(marks),
        title=here.title,
    )


def _spread(results: StudyResults, name: str) -> float:
    """How far repeats lie from the median of their cell, at most over all cells, as a share; at least LEAST_SPREAD."""
    return results.once(("spread", name), lambda: max(LEAST_SPREAD, *(cell.reach(name) for cell in results.cells)))


def _further(cell: CellResults, name: str, further: Sequence[str], room: int, spread: float) -> list[str]:
    """What a large cell says besides: its repeats in their order, and further measures."""
    out = []
    values = cell.series(name)
    if room >= 2 and len(values) > 1:
        out.append(repeats_line(values, spread))
    for other in further:
        if other != name and room - len(out) >= 2:
            figure = cell.value(other)
            if isinstance(figure, Value):
                text, unit = value_text(figure)
                out.append(f"{MEASURES[other].title.partition(',')[0]} {text} {unit}")
    return out


def _axis(side: GridAxis, start: int, count: int) -> Axis:
    return Axis(side.heading, "categories", side.labels[start : start + count])


def _shade(cell: CellResults, name: str, rank: Ranking) -> float | None:
    figure = cell.value(name)
    if not isinstance(figure, Value):
        return None
    share = (figure.value - rank.low) / (rank.high - rank.low) if rank.high > rank.low else 0.5
    share = min(1.0, max(0.0, share))
    return 1 - share if MEASURES[name].better == "less" else share


def lines_of(cell: CellResults, name: str, planned: Planned, *, running: bool) -> list[str]:
    """What is said of a cell in a few short lines: its value, else how it stands and what is known of it."""
    figure = cell.value(name)
    if isinstance(figure, Value):
        return _measured_lines(cell, figure, running=running)
    return _planned_lines(cell, planned, running=running)


def _measured_lines(cell: CellResults, figure: Value, *, running: bool) -> list[str]:
    text, unit = value_text(figure)
    warned = any(c.code not in QUIET_CODES for c in cell.cautions)
    mark = f"{CAUTION_MARK} {SPILLED.code}" if cell.spilled else CAUTION_MARK if warned else ""
    second = " ".join(part for part in (bounds_text(figure), mark) if part)
    lines = [f"{text} {unit}", second or f"{cell.done} repeat" + ("" if cell.done == 1 else "s")]
    if running and not cell.skipped:
        lines.append(f"▸ {cell.done} of {cell.wanted}")
    elif cell.state == "partly":
        lines.append(f"{STATE_MARKS['partly']} {cell.done} of {cell.wanted}")
    elif cell.state == "skipped":
        lines.append(f"{STATE_MARKS['skipped']} skipped after {cell.done}")
    return lines


def _planned_lines(cell: CellResults, planned: Planned, *, running: bool) -> list[str]:
    if running:
        return ["▸ measuring", f"{cell.done} of {cell.wanted}"]
    lines = [STATE_MARKS[cell.state] if cell.not_needed else f"{STATE_MARKS[cell.state]} {cell.state}"]
    if cell.state == "failed":
        failure = cell.kept.failure
        return [*lines, "did not load" if failure is not None and failure.kind == "launch" else "open it for details"]
    if cell.done:
        return [*lines, "no figure"]
    row = planned.fit
    if row is not None and row.placement is not None:
        lines[0] = f"{STATE_MARKS[cell.state] if row.placement.works else '⊘'} {row.placement.state}"
        if row.decode is not None:
            low, high = (digits(v, significant=2) for v in (row.decode.low, row.decode.high))
            lines += [f"{low}–{high} tok/s", "predicted"]
    if planned.size_bytes is not None:
        lines.append(f"file {byte_size(planned.size_bytes)}")
    if planned.seconds is not None:
        lines.append(f"{duration(planned.seconds)} a repeat")
    return lines


def _build(subject: Subject) -> Chart:
    results, name = subject.results, subject.measure
    rank = marked(results, name)
    grid = grid_of(results)
    panels = tuple(map_panel(results, name, i, rank=rank) for i in range(len(grid.slices)))
    each = " and ".join(results.study.factors[n].heading for n in results.study.conditions)
    best = f"best for each {each}" if len(rank.bests) > 1 else "best"
    words = (f"copper: {best}; ≈: no clear difference from it",) if rank.bests else ()
    return Chart(results.study.question, measure_line(results, name), panels, (*notes(results), *words))


MAP = ChartKind(
    "map",
    "map",
    "Which combination is best, and which show no clear difference from it?",
    "study",
    needs=lambda _subject: "",
    build=_build,
)
