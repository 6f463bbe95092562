"""How a person looks at a chart: series off and on, the other scale, a part of it, and the points it has."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from zinc_kettle.core.chart import Axis, Band, Chart, Label, Line, Mark, Panel, Points, Rule, Steps, positions


@dataclass(frozen=True, slots=True)
class View:
    """What a person hides, stretches and enlarges of a chart."""

    hidden: frozenset[str] = frozenset()
    """Names of series that are not drawn."""
    log: frozenset[str] = frozenset()
    """Axes drawn by the other scale: a linear one by logarithms, a logarithmic one evenly."""
    window: tuple[float, float] | None = None
    """The part of the x axis that is drawn; None for all of it."""


def viewed(chart: Chart, view: View) -> Chart:
    """A chart as a person looks at it; axes of categories stay as they are."""
    return replace(chart, panels=tuple(_viewed(panel, view) for panel in chart.panels))


def _viewed(panel: Panel, view: View) -> Panel:
    marks = [m for m in panel.marks if getattr(m, "name", "") not in view.hidden or not getattr(m, "name", "")]
    x, y = (_rescaled(axis, swap=which in view.log) for axis, which in ((panel.x, "x"), (panel.y, "y")))
    found = replace(panel, marks=tuple(marks), x=x, y=y)
    if view.window is None or x.scale == "categories":
        return _positive(found)
    low, high = view.window
    cut = tuple(part for mark in marks if (part := _cut(mark, low, high)) is not None)
    return _positive(replace(found, marks=cut, x=replace(x, low=low, high=high)))


def _rescaled(axis: Axis, *, swap: bool) -> Axis:
    if not swap or axis.scale == "categories":
        return axis
    return replace(axis, scale="linear", low=0.0) if axis.scale == "log" else replace(axis, scale="log", low=None)


def _positive(panel: Panel) -> Panel:
    """A logarithmic axis begins at its smallest positive value."""
    out = panel
    for which in ("x", "y"):
        axis: Axis = getattr(out, which)
        if axis.scale == "log" and axis.low is None:
            found = [v for v in positions(out, which) if v > 0]
            out = replace(out, **{which: replace(axis, low=min(found, default=1.0))})  # type: ignore[arg-type]
    return out


def _cut(mark: Mark, low: float, high: float) -> Mark | None:
    """What of a mark lies between two places of the x axis; lines are cut where they leave it."""
    if isinstance(mark, Line | Steps | Band):
        return _cut_line(mark, low, high)
    if isinstance(mark, Points):
        kept = [i for i, x in enumerate(mark.x) if low <= x <= high]
        pick = {
            name: tuple(getattr(mark, name)[i] for i in kept if i < len(getattr(mark, name)))
            for name in ("x", "y", "low", "high", "keys")
        }
        hollow = frozenset(new for new, old in enumerate(kept) if old in mark.hollow)
        return replace(mark, **pick, hollow=hollow) if kept else None  # type: ignore[arg-type]
    if isinstance(mark, Label):
        return mark if low <= mark.x <= high else None
    if isinstance(mark, Rule) and mark.axis == "x":
        return mark if low <= mark.at <= high else None
    return mark


def _cut_line(mark: Line | Steps | Band, low: float, high: float) -> Mark | None:
    ys = (mark.low, mark.high) if isinstance(mark, Band) else (mark.y,)
    inside = [x for x in mark.x if low < x < high]
    if not mark.x or max(mark.x) < low or min(mark.x) > high or list(mark.x) != sorted(mark.x):
        return None if not inside else mark
    at = [x for x in (max(low, mark.x[0]), *inside, min(high, mark.x[-1]))]
    cut = [tuple(_height(mark.x, y, x, held=isinstance(mark, Steps)) for x in at) for y in ys]
    if isinstance(mark, Band):
        return replace(mark, x=tuple(at), low=cut[0], high=cut[1])
    return replace(mark, x=tuple(at), y=cut[0])


def _height(xs: Sequence[float], ys: Sequence[float], x: float, *, held: bool) -> float:
    """Of a line at a place: between its points, or that of the point before it where it holds."""
    right = next((i for i, value in enumerate(xs) if value >= x), len(xs) - 1)
    left = max(0, right - 1)
    if xs[right] == x or xs[right] == xs[left]:
        return ys[right]
    return ys[left] if held else ys[left] + (ys[right] - ys[left]) * (x - xs[left]) / (xs[right] - xs[left])


@dataclass(frozen=True, slots=True)
class Spot:
    """A point of a chart that a crosshair can stand on."""

    panel: int
    series: str
    x: float
    y: float
    low: float | None = None
    high: float | None = None
    key: str = ""
    """Of the cell it stands for."""


def spots(chart: Chart) -> list[Spot]:
    """Every measured point of a chart's panels, from left to right."""
    out = []
    for place, panel in enumerate(chart.panels):
        found = [spot for mark in panel.marks if isinstance(mark, Points) for spot in _spots(place, mark)]
        out += sorted(found, key=lambda s: (s.x, s.y))
    return out


def _spots(panel: int, mark: Points) -> list[Spot]:
    bounds: list[tuple[float, float] | tuple[None, None]] = [*zip(mark.low, mark.high, strict=True)]
    return [
        Spot(panel, mark.name, x, y, around[0], around[1], key)
        for x, y, around, key in zip(
            mark.x, mark.y, bounds or [(None, None)] * len(mark.x), mark.keys or [""] * len(mark.x), strict=True
        )
    ]


def series_of(chart: Chart) -> list[str]:
    """The names of a chart's series, in order."""
    names = (getattr(mark, "name", "") for panel in chart.panels for mark in panel.marks)
    return list(dict.fromkeys(name for name in names if name))
