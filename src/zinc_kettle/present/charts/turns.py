"""What each further turn of a conversation costs: the wait and the speed of writing, turn by turn."""

from __future__ import annotations

from collections.abc import Callable

from zinc_kettle.core.chart import Axis, Chart, Line, Mark, Panel, Points
from zinc_kettle.core.family import Turn
from zinc_kettle.core.results import CellResults
from zinc_kettle.core.units import plural, scale
from zinc_kettle.present.charts.kinds import ChartKind, Subject
from zinc_kettle.present.charts.subtitle import notes

LEAST_TURNS = 2


def _cells(subject: Subject) -> list[CellResults]:
    return [c for c in subject.results.cells if c.done and len(c.summary.turns) >= LEAST_TURNS]


def _needs(subject: Subject) -> str:
    return "" if _cells(subject) else "no conversation of two turns or more is measured yet"


def _panel(cells: list[CellResults], title: str, unit: str, of: Callable[[Turn], float | None]) -> Panel:
    found = [[(float(t.turn + 1), v) for t in c.summary.turns if (v := of(t)) is not None] for c in cells]
    _, shown, times = scale(max((v for row in found for _, v in row), default=1.0), unit)
    marks: list[Mark] = []
    for series, (cell, row) in enumerate(zip(cells, found, strict=True)):
        x, y = tuple(at for at, _ in row), tuple(v * times for _, v in row)
        if row:
            marks += [Line(x, y, cell.title, series), Points(x, y, name=cell.title, series=series)]
    turns = tuple(sorted({x for row in found for x, _ in row}))
    empty = "" if marks else f"no {title} of a turn is known"
    return Panel(Axis("turn", low=0.0, levels=turns), Axis(f"{title} ({shown})", low=0.0), tuple(marks), empty=empty)


def _build(subject: Subject) -> Chart:
    cells = _cells(subject)
    each = plural(min(c.summary.turns[0].requests for c in cells), "conversation")
    panels = (
        _panel(cells, "TTFT", "s", lambda t: t.ttft_s),
        _panel(cells, "decode", "tokens/s", lambda t: t.decode),
    )
    line = f"turn by turn · medians over {each} or more, without interval"
    return Chart(subject.results.study.question, line, panels, notes(subject.results))


TURNS = ChartKind("turns", "turns", "What does each further turn of a conversation cost?", "study", _needs, _build)
