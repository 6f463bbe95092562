"""A study of one factor as points over its levels, each with its interval and its repeats."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

from zinc_kettle.core.compare.cells import Ranking
from zinc_kettle.core.grid import Slice
from zinc_kettle.core.record.value import Value
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.core.units import scale
from zinc_kettle.present.charts.map import TIED_WORDS, lines_of
from zinc_kettle.present.planned import NOTHING_KNOWN, Planned


@dataclass(frozen=True, slots=True)
class StripPoint:
    """One level: its cell, drawn as a point, an interval and its repeats, all in the unit of the value."""

    key: str | None
    """None where the design has no cell."""
    level: str
    head: str = ""
    """The level with what it is a level of, for the first one."""
    value: float | None = None
    low: float = 0.0
    high: float = 0.0
    repeats: tuple[float, ...] = ()
    lines: tuple[str, ...] = ()
    """What is said below it: value, bounds, state."""
    best: bool = False
    tied: bool = False
    predicted: tuple[float, float] | None = None
    """The band that was predicted for decode."""


@dataclass(frozen=True, slots=True)
class Strip:
    """Points over the levels of one factor."""

    unit: str
    points: tuple[StripPoint, ...]

    @property
    def extent(self) -> tuple[float, float] | None:
        """The lowest and the highest of all there is to draw; None where there is nothing."""
        found = [v for p in self.points if p.value is not None for v in (p.low, p.high, p.value, *p.repeats)]
        found += [v for p in self.points if p.predicted is not None for v in p.predicted]
        return (min(found), max(found)) if found else None


def strip_of(
    results: StudyResults,
    name: str,
    part: Slice,
    *,
    rank: Ranking,
    planned: Mapping[str, Planned],
    running: str | None = None,
) -> Strip:
    """The points of a slice that is one row.

    Args:
        results: The study.
        name: Of the measure.
        part: The slice.
        rank: Which cell is best.
        planned: What is known of cells before they are measured.
        running: Key of the cell that is being measured.
    """
    (row,) = part.cells(results)
    values = [v for cell in row if cell is not None and isinstance(v := cell.value(name), Value)]
    unit, factor = "", 1.0
    if values:
        _, unit, factor = scale(max(v.value for v in values), values[0].unit)
    elif name == "decode" and any(_band(planned.get(c.cell.key, NOTHING_KNOWN)) for c in row if c is not None):
        unit = "tok/s predicted"
    tied, best = {c.cell.key for c in rank.tied}, {c.cell.key for c in rank.bests}
    points = []
    for place, (level, cell) in enumerate(zip(part.columns.labels, row, strict=True)):
        if cell is None:
            points.append(StripPoint(None, level, level, lines=("–",)))
            continue
        head = _first(cell, part.columns.factor, level) if place == 0 and part.columns.factor is not None else level
        key = cell.cell.key
        known = planned.get(key, NOTHING_KNOWN)
        point = _point(cell, level, name, factor, known, best=key in best, tied=key in tied, running=key == running)
        points.append(replace(point, head=head))
    return Strip(unit, tuple(points))


def _first(cell: CellResults, factor: str, level: str) -> str:
    """The first level with what it is a level of."""
    found = cell.cell.factors.get(factor)
    return level if found is None or found.alone or "/" in level else found.says(cell.cell.levels[factor])


def _point(
    cell: CellResults, level: str, name: str, factor: float, known: Planned, *, best: bool, tied: bool, running: bool
) -> StripPoint:
    figure, key = cell.value(name), cell.cell.key
    words = (*lines_of(cell, name, known, running=running), *((TIED_WORDS,) if tied else ()))
    if not isinstance(figure, Value):
        band = _band(known) if name == "decode" and not cell.done else None
        return StripPoint(key, level, lines=words, predicted=band)
    repeats = tuple(v * factor for v in cell.series(name))
    return StripPoint(
        key, level, "", figure.value * factor, figure.low * factor, figure.high * factor, repeats, words, best, tied
    )


def _band(known: Planned) -> tuple[float, float] | None:
    row = known.fit
    return None if row is None or row.decode is None else (row.decode.low, row.decode.high)
