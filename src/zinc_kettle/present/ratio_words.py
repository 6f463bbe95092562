"""How a measure and a ratio of two of its figures are spoken of."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

from zinc_kettle.core.measures.kinds import Measure
from zinc_kettle.core.stats import Interval
from zinc_kettle.core.units import digits

PERCENT_BELOW = 1.1
"""Under this a ratio is said in percent: 6% faster, and not 1.06 times as fast."""
TIMES_FROM = 2.0
"""From here on a rise is said in times: by 100% is twice as much, and larger percentages are hard to picture."""
Kind = Literal["speed", "time", "size", "more", "less"]
_KINDS: dict[str, Kind] = {"tokens/s": "speed", "chars/s": "speed", "requests/s": "speed", "s": "time", "bytes": "size"}
SUPERLATIVES: dict[Kind, str] = {
    "speed": "is the fastest",
    "time": "has the shortest",
    "size": "has the smallest",
    "more": "has the most",
    "less": "has the least",
}
"""Of these, those of speed stand alone, and the name of the measure follows the others."""
TIMES: dict[Kind, tuple[str, str]] = {
    "speed": ("as fast", "faster"),
    "time": ("as long", "longer"),
    "size": ("as much", "more"),
    "more": ("as much", "more"),
    "less": ("as much", "more"),
}
"""How a ratio is said in times, and in percent."""
ONE_SIDED: frozenset[Kind] = frozenset({"time", "size", "less"})
"""Where less is better: the other one takes so many times as much."""


def kind_of(measure: Measure) -> Kind:
    """How a measure is spoken of."""
    return _KINDS.get(measure.unit, "more" if measure.better == "more" else "less")


def times_text(found: Interval, kind: Kind) -> str:
    """`1.28 times as fast (1.26–1.31)`, or `6% faster (4–8%)`; of a ratio above 1."""
    in_times, in_percent = TIMES[kind]
    if found.value < PERCENT_BELOW:
        shares = [digits(100 * (v - 1), significant=2) for v in (found.value, found.low, found.high)]
        return f"{shares[0]}% {in_percent}{_bounds(shares, '%')}"
    said = [times(v, found) for v in (found.value, found.low, found.high)]
    return f"{said[0]} times {in_times}{_bounds(said)}"


def _bounds(said: Sequence[str], unit: str = "") -> str:
    """Both ends of an interval; empty where it is too narrow to be told from its value."""
    value, low, high = said
    return "" if value == low == high else f" ({low}–{high}{unit})"


def times(value: float, found: Interval) -> str:
    """A ratio or one of its bounds, with the digits its interval carries."""
    return digits(value, spread=max(found.high - found.value, found.value - found.low) or None)


def change_words(found: Interval) -> str:
    """How far something rose or fell: `by 37% (35–40%)`, `to 4.7 times as much (4.2–5.1)`."""
    if found.value < TIMES_FROM:
        ends = (found.low, found.high) if found.value > 1 else (found.high, found.low)
        shares = [digits(100 * abs(v - 1), significant=2) for v in (found.value, *ends)]
        return f"by {shares[0]}%{_bounds(shares, '%')}"
    said = [times(v, found) for v in (found.value, found.low, found.high)]
    return f"to {said[0]} times as much{_bounds(said)}"


def listed(words: Sequence[str]) -> str:
    """`a, b and c`."""
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} and {words[-1]}"
