"""One description of a chart: panels of marks on axes, as pure data. Who draws it decides how, never what."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal, TypeAlias

Scale = Literal["linear", "log", "categories"]
Tone = Literal["series", "ink", "muted", "faint", "best", "caution", "failure", "waiting", "busy"]
"""What a mark stands for; each backend has a colour, and where it must a shape, for each."""


@dataclass(frozen=True, slots=True)
class Axis:
    """One side of a panel. Positions of categories are 0, 1, 2 …"""

    title: str = ""
    scale: Scale = "linear"
    labels: tuple[str, ...] = ()
    """Of categories, in order."""
    low: float | None = None
    """Where it begins; by the marks where it is not said."""
    high: float | None = None
    unit: str = ""
    """Unit of the numbers along it, as units.with_unit knows it; empty for plain numbers."""
    hidden: bool = False
    """True where its numbers say nothing."""
    levels: tuple[float, ...] = ()
    """Where its numbers are to stand if there is room: those that were measured. Round numbers where it is empty."""


@dataclass(frozen=True, slots=True)
class Cell:
    """A box of a grid with a few lines of text."""

    key: str
    """The cell of the study it stands for."""
    column: int
    row: int
    lines: tuple[str, ...]
    shade: float | None = None
    """From 0, the worst, to 1, the best of the panel's values; None where it has no value."""
    best: bool = False
    tied: bool = False
    """True where it shows no clear difference from the best; its last line says so."""
    failed: bool = False
    further: tuple[str, ...] = ()
    """What it says besides, where there is room."""


@dataclass(frozen=True, slots=True)
class Line:
    """A line through points."""

    x: tuple[float, ...]
    y: tuple[float, ...]
    name: str = ""
    series: int = 0
    """Marks of one series have one colour."""
    tone: Tone = "series"
    dashed: bool = False
    """True for what was not measured: an ideal, a fit, a prediction."""


@dataclass(frozen=True, slots=True)
class Points:
    """Points, with intervals where `low` and `high` are given."""

    x: tuple[float, ...]
    y: tuple[float, ...]
    low: tuple[float, ...] = ()
    high: tuple[float, ...] = ()
    name: str = ""
    series: int = 0
    tone: Tone = "series"
    hollow: frozenset[int] = frozenset()
    """Indexes of points that are drawn hollow: flukes, and what was not measured here."""
    keys: tuple[str, ...] = ()
    """The cells the points stand for, where they do."""


@dataclass(frozen=True, slots=True)
class Bars:
    """Upright bars from zero."""

    x: tuple[float, ...]
    height: tuple[float, ...]
    name: str = ""
    series: int = 0


@dataclass(frozen=True, slots=True)
class Spans:
    """Lying bars from a start to an end, each in a row of the y axis."""

    row: tuple[int, ...]
    start: tuple[float, ...]
    end: tuple[float, ...]
    tone: Tone
    name: str = ""
    series: int = 0
    """Of spans whose tone is `series`: parts of one bar, each with a colour and a shape of its own."""


@dataclass(frozen=True, slots=True)
class Ranges:
    """Lying intervals with a point, each in a row of the y axis."""

    row: tuple[int, ...]
    value: tuple[float, ...]
    low: tuple[float, ...]
    high: tuple[float, ...]
    tones: tuple[Tone, ...]
    before: tuple[str, ...] = ()
    """Said left of each row, behind its name."""
    after: tuple[str, ...] = ()
    """Said right of each row."""
    keys: tuple[str, ...] = ()
    """What each row stands for, where it leads somewhere."""


@dataclass(frozen=True, slots=True)
class Band:
    """The area between two lines."""

    x: tuple[float, ...]
    low: tuple[float, ...]
    high: tuple[float, ...]
    series: int = 0


@dataclass(frozen=True, slots=True)
class Steps:
    """A value that holds until the next one."""

    x: tuple[float, ...]
    y: tuple[float, ...]
    name: str = ""
    series: int = 0
    tone: Tone = "series"


@dataclass(frozen=True, slots=True)
class Rule:
    """A straight line across the panel at a value of one axis."""

    at: float
    axis: Literal["x", "y"]
    label: str = ""
    tone: Tone = "ink"


@dataclass(frozen=True, slots=True)
class Label:
    """A word at a point, to the right of it."""

    x: float
    y: float
    text: str
    tone: Tone = "muted"
    beside: str = ""
    """Words behind it that may be cut."""

    @property
    def whole(self) -> str:
        """All of its words."""
        return f"{self.text} {self.beside}".rstrip()


Mark: TypeAlias = Cell | Line | Points | Bars | Spans | Ranges | Band | Steps | Rule | Label


@dataclass(frozen=True, slots=True)
class Panel:
    """Marks that share two axes."""

    x: Axis
    y: Axis
    marks: tuple[Mark, ...] = ()
    title: str = ""
    empty: str = ""
    """What to say where there are no marks."""

    @property
    def cells(self) -> tuple[Cell, ...]:
        """Its boxes, where it is a grid."""
        return tuple(mark for mark in self.marks if isinstance(mark, Cell))


@dataclass(frozen=True, slots=True)
class Chart:
    """A chart whole: its question, what its figures are, its panels, and what must be said with it."""

    title: str
    subtitle: str
    panels: tuple[Panel, ...]
    notes: tuple[str, ...] = ()


def extent(values: Sequence[float], low: float | None, high: float | None) -> tuple[float, float]:
    """Where an axis begins and ends: as it says, else by the values; never of no length."""
    bottom = min(values, default=0.0) if low is None else low
    top = max(values, default=1.0) if high is None else high
    return (bottom, top) if top > bottom else (bottom, bottom + (abs(bottom) or 1.0))


def ticks(low: float, high: float, most: int, *, log: bool = False) -> tuple[float, ...]:
    """Round numbers of an axis, ascending, all within it.

    Args:
        low: Where it begins.
        high: Where it ends.
        most: How many there is room for.
        log: True for a logarithmic axis: powers of ten with 2 and 5 between; over less than that as on a linear one.
    """
    if not high > low or most < 1:
        return (low,)
    if log and low > 0 and high / low >= 8:
        for steps in ((1, 2, 5), (1, 3), (1,)):
            found = [
                m * 10.0**e for e in range(math.floor(math.log10(low)), math.ceil(math.log10(high)) + 1) for m in steps
            ]
            inside = tuple(v for v in found if low * 0.999 <= v <= high * 1.001)
            if len(inside) <= most:
                return inside
        return inside[:: math.ceil(len(inside) / most)]
    rough = (high - low) / most
    base = 10.0 ** math.floor(math.log10(rough))
    step = next(m * base for m in (1, 2, 5, 10) if m * base >= rough * 0.999)
    first = math.ceil(low / step - 1e-9)
    return tuple(round(i * step, 12) for i in range(first, math.floor(high / step + 1e-9) + 1)) or (low,)


def numbers_along(axis: Axis, low: float, high: float, most: int, *, log: bool = False) -> tuple[float, ...]:
    """Where the numbers of an axis stand: at its levels that are not too near to each other, else at round numbers.

    Args:
        axis: The axis.
        low: Where it begins.
        high: Where it ends.
        most: How many there is room for.
        log: True for a logarithmic axis.
    """
    log = log and low > 0
    inside = sorted(v for v in axis.levels if low <= v * 1.001 and v <= high * 1.001 and (v > 0 or not log))
    if len(inside) < 2:
        return ticks(low, high, most, log=log)
    ends = (math.log(low), math.log(high)) if log else (low, high)
    least = (ends[1] - ends[0]) / (2 * most)
    kept = [inside[-1]]
    for value in reversed(inside[:-1]):
        last = kept[-1]
        if (math.log(last / value) if log else last - value) >= least:
            kept.append(value)
    return tuple(reversed(kept))


def positions(panel: Panel, axis: Literal["x", "y"]) -> list[float]:
    """Every position the marks of a panel take on an axis, bounds of intervals included."""
    out: list[float] = []
    for mark in panel.marks:
        out += _along_x(mark) if axis == "x" else _along_y(mark)
    return out


def _along_x(mark: Mark) -> list[float]:
    if isinstance(mark, Cell):
        return [float(mark.column)]
    if isinstance(mark, Spans):
        return [*mark.start, *mark.end]
    if isinstance(mark, Ranges):
        return [*mark.low, *mark.value, *mark.high]
    if isinstance(mark, Rule):
        return [mark.at] if mark.axis == "x" else []
    return [mark.x] if isinstance(mark, Label) else [*mark.x]


def _along_y(mark: Mark) -> list[float]:
    if isinstance(mark, Cell):
        return [float(mark.row)]
    if isinstance(mark, Spans | Ranges):
        return [float(row) for row in mark.row]
    if isinstance(mark, Rule):
        return [mark.at] if mark.axis == "y" else []
    if isinstance(mark, Bars):
        return [0.0, *mark.height]
    if isinstance(mark, Band):
        return [*mark.low, *mark.high]
    if isinstance(mark, Label):
        return [mark.y]
    return [*mark.y, *mark.low, *mark.high] if isinstance(mark, Points) else [*mark.y]
