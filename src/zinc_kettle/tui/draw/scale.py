"""From values to places and colours: what all charts in text share."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from zinc_kettle.core.chart import Axis, Tone, extent
from zinc_kettle.core.units import digits, with_unit
from zinc_kettle.tui.theme import Palette

TIMES = "×"
"""Unit of an axis that says how many times one is better, on both sides of 1."""
DOT, HOLLOW, OVER = "●", "○", "│"


def tone_colour(tone: Tone, series: int, palette: Palette) -> str:
    """The theme's colour of a mark."""
    if tone == "series":
        return palette.series[series % len(palette.series)]
    plain = {
        "ink": palette.ink,
        "muted": palette.muted,
        "faint": palette.faint,
        "best": palette.copper,
        "caution": palette.caution,
        "failure": palette.failure,
        "waiting": palette.muted,
        "busy": palette.ink,
    }
    return plain[tone]


@dataclass(frozen=True)
class Scale:
    """From values of an axis to places of a line of characters or dots."""

    low: float
    high: float
    places: int
    log: bool = False

    @classmethod
    def of(cls, axis: Axis, values: Sequence[float], places: int) -> Scale:
        """The scale of an axis on so many places."""
        if axis.scale == "categories":
            return cls(-0.5, len(axis.labels) - 0.5 if axis.labels else 0.5, places)
        low, high = extent(values, axis.low, axis.high)
        return cls(low, high, places, axis.scale == "log" and low > 0)

    def at(self, value: float) -> int:
        """The place of a value, from 0; those outside are put to the ends."""
        low, high = (math.log(self.low), math.log(self.high)) if self.log else (self.low, self.high)
        where = math.log(value) if self.log and value > 0 else value
        share = (where - low) / (high - low) if high > low else 0.5
        return round(min(1.0, max(0.0, share)) * (self.places - 1))


def number(value: float, axis: Axis, *, span: float | None = None) -> str:
    """A number along an axis, with its unit; not finer than the span of the axis asks for."""
    if axis.unit == TIMES:
        return f"{digits(max(value, 1 / value), significant=2)}×"
    if axis.unit:
        return with_unit(value, axis.unit)
    return digits(value, spread=None if span is None else span / 50)
