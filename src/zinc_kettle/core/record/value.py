"""A headline with its bounds, or the reason why it is missing."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TypeAlias

from zinc_kettle.core.record.repeat import Missing
from zinc_kettle.core.stats.interval import Bound, Interval


@dataclass(frozen=True, slots=True)
class Value:
    """A headline with its bounds."""

    value: float
    low: float
    high: float
    bound: Bound
    n: int
    """What stands behind it: repeats, unless `of` says otherwise."""
    unit: str
    of: str = "repeats"
    """What `n` counts: repeats; for the load time launches; for percentiles within one repeat requests."""
    thin: bool = False
    """True for a percentile with fewer than ten requests beyond it."""
    beyond: bool = False
    """True for a percentile that lies among requests that failed, which count as later than all others: it is larger
    than the value, and its upper bound is not known."""
    this_run: bool = False
    """True where the bounds tell only of this run: it was too short to have seen how the machine wanders."""

    @classmethod
    def of_interval(
        cls, i: Interval, unit: str, *, of: str = "repeats", thin: bool = False, beyond: bool = False
    ) -> Value:
        """An interval as a headline.

        Args:
            i: The interval.
            unit: Of its value.
            of: What `n` counts, such as repeats.
            thin: Fewer than ten requests lie beyond the percentile.
            beyond: It lies among requests that failed.
        """
        return cls(i.value, i.low, i.high, i.bound, i.n, unit, of, thin, beyond)


CellFigure: TypeAlias = Value | Missing
