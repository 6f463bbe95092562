"""A value as people read it: digits by its spread, bounds beside it, and what the bounds are."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from zinc_kettle.core.record.value import CellFigure, Value
from zinc_kettle.core.results import CellState
from zinc_kettle.core.stats import Interval, median
from zinc_kettle.core.units import digits, duration, scale

LOPSIDED = 1.5
"""Bounds are shown as (low–high) where one side is this many times the other."""
STATE_MARKS: dict[CellState, str] = {"planned": "○", "partly": "◐", "measured": "●", "failed": "✕", "skipped": "–"}
CAUTION_MARK = "▲"
NO_VALUE = "–"
STEPS = "▁▂▃▄▅▆▇█"
MOST_STEPS = 24
JSON_DIGITS = 6
"""Significant digits: more than any spread here, fewer than a float's noise."""


def value_text(figure: CellFigure) -> tuple[str, str]:
    """A value and its unit as text; a dash and the reason where it is missing."""
    if not isinstance(figure, Value):
        return NO_VALUE, figure.reason
    scaled, unit, factor = scale(figure.value, figure.unit)
    if figure.unit == "tokens" and scaled == round(scaled):
        return f"{scaled:,.0f}", unit
    return ("> " if figure.beyond else "") + digits(scaled, spread=_half(figure) * factor), unit


def bounds_text(figure: CellFigure) -> str:
    """`±0.2`, or `(12.1–13.0)` where it is lopsided; empty for one repeat or a missing value.

    A percentile with too few requests beyond it is called thin first.
    """
    if isinstance(figure, Value) and figure.beyond:
        return "(requests failed)"
    if not isinstance(figure, Value) or figure.n < 2:
        return "thin" if isinstance(figure, Value) and figure.thin else ""
    return f"thin {_bounds(figure)}".strip() if figure.thin else _bounds(figure)


def whole_text(figure: CellFigure) -> str:
    """Value, bounds and unit in one: `16.1 ± 0.2 tok/s`, `13 s (8.8–19)`; a dash where it is missing."""
    text, unit = value_text(figure)
    if not isinstance(figure, Value):
        return NO_VALUE
    even = "" if figure.thin or figure.beyond or figure.n < 2 else _even_bounds(figure)
    if even:
        return f"{text} ± {even} {unit}".strip()
    return " ".join(part for part in (text, unit, bounds_text(figure)) if part)


def _bounds(figure: Value) -> str:
    _, _, factor = scale(figure.value, figure.unit)
    half = _half(figure) * factor
    if half <= 0:
        return ""
    even = _even_bounds(figure)
    low, high = figure.low * factor, figure.high * factor
    return f"±{even}" if even else f"({digits(low, spread=half)}–{digits(high, spread=half)})"


def _even_bounds(figure: Value) -> str:
    """Half the width of an interval that is about equally far on both sides of the value; empty where it is lopsided,
    where there is none, and for a range, whose ends are what was seen and nothing more."""
    if figure.bound != "interval95":
        return ""
    _, _, factor = scale(figure.value, figure.unit)
    half = _half(figure)
    lopsided = min(figure.value - figure.low, figure.high - figure.value) * LOPSIDED < half
    return "" if half <= 0 or lopsided else digits(half * factor, significant=2)


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
    return f"{kind} of {figure.n} {noun}{scope(figure)}"


def scope(figure: Value) -> str:
    """`, this run` where the bounds tell of this run only, because it was too short to see how the machine wanders."""
    return ", this run" if figure.this_run else ""


def left_text(seconds: float | None) -> str:
    """`about 3 min left`, as far as it is known."""
    return "time left not known before the first repeat" if seconds is None else f"about {duration(seconds)} left"


def rounded(value: float) -> float:
    """A number as JSON has it."""
    return float(f"{value:.{JSON_DIGITS}g}")


def interval_json(found: Interval) -> dict[str, Any]:
    """A ratio with its interval as JSON has it."""
    return {
        "value": rounded(found.value),
        "low": rounded(found.low),
        "high": rounded(found.high),
        "bound": found.bound,
        "n": found.n,
    }


def repeats_line(values: Sequence[float], spread: float) -> str:
    """The newest repeats in their order, as steps around their median.

    Args:
        values: One measure of each repeat.
        spread: What the lowest and the highest step stand for, as a share of the median to each side.
    """
    middle = median(values)
    if middle <= 0:
        return ""
    places = [(v / middle - 1) / spread / 2 + 0.5 for v in values[-MOST_STEPS:]]
    return "".join(STEPS[min(len(STEPS) - 1, max(0, int(place * len(STEPS))))] for place in places)
