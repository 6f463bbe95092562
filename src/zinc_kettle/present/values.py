"""A value as people read it: digits by its spread, bounds beside it, and what the bounds are."""

from __future__ import annotations

from zinc_kettle.core.results import CellState
from zinc_kettle.core.units import digits, scale
from zinc_kettle.core.value import CellFigure, Value

LOPSIDED = 1.5
"""Bounds are shown as (low–high) where one side is this many times the other."""
STATE_MARKS: dict[CellState, str] = {"planned": "○", "partly": "◐", "measured": "●", "failed": "✕", "skipped": "–"}
CAUTION_MARK = "▲"
NO_VALUE = "–"


def value_text(figure: CellFigure) -> tuple[str, str]:
    """A value and its unit as text; a dash and the reason where it is missing."""
    if not isinstance(figure, Value):
        return NO_VALUE, figure.reason
    scaled, unit, factor = scale(figure.value, figure.unit)
    if figure.unit == "tokens" and scaled == round(scaled):
        return f"{scaled:,.0f}", unit
    return digits(scaled, spread=_half(figure) * factor), unit


def bounds_text(figure: CellFigure) -> str:
    """`±0.2`, or `(12.1–13.0)` where it is lopsided; empty for one repeat or a missing value.

    A percentile with too few requests beyond it is called thin first.
    """
    if not isinstance(figure, Value) or figure.n < 2:
        return "thin" if isinstance(figure, Value) and figure.thin else ""
    return f"thin {_bounds(figure)}".strip() if figure.thin else _bounds(figure)


def whole_text(figure: CellFigure) -> str:
    """Value, bounds and unit in one: `16.1 ± 0.2 tok/s`, `13 s (8.8–19)`; a dash where it is missing."""
    text, unit = value_text(figure)
    if text == NO_VALUE:
        return NO_VALUE
    bounds = bounds_text(figure)
    if bounds.startswith("±"):
        return f"{text} ± {bounds[1:]} {unit}".strip()
    return " ".join(part for part in (text, unit, bounds) if part)


def _bounds(figure: Value) -> str:
    _, _, factor = scale(figure.value, figure.unit)
    below, above = (figure.value - figure.low) * factor, (figure.high - figure.value) * factor
    half = max(below, above)
    if half <= 0:
        return ""
    if min(below, above) * LOPSIDED < half:
        low, high = figure.low * factor, figure.high * factor
        return f"({digits(low, spread=half)}–{digits(high, spread=half)})"
    return f"±{digits(half, significant=2)}"


def _half(figure: Value) -> float:
    return max(figure.high - figure.value, figure.value - figure.low)


def bound_name(figure: CellFigure) -> str:
    """What the bounds are: `95% interval` or `range`, with the number behind them."""
    if not isinstance(figure, Value):
        return ""
    noun = figure.of
    if figure.n == 1:
        return f"one {noun.removesuffix('es') if noun == 'launches' else noun.removesuffix('s')}, no bounds"
    kind = "95% interval" if figure.bound == "interval95" else "range"
    return f"{kind} of {figure.n} {noun}"
