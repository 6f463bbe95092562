"""When a cell has been repeated often enough: repeats until the interval is as narrow as asked for.

The interval is looked at after each repeat from the floor on, so it is a little too narrow at the moment it stops the
repeating (Chow and Robbins 1965 for the rule, and for why it is right in the limit only); a floor of six and a ceiling
keep that small. docs/measures.md has a simulation of the coverage.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

from zinc_kettle.core.plan import Repeats
from zinc_kettle.core.stats.interval import median_interval

GROWTH = 2.0
"""An estimate of how many repeats are wanted grows by no more than this at once."""


def half_width_percent(values: Sequence[float], *, seed: int = 0) -> float | None:
    """Half of the 95% interval's width in percent of the median; None where these repeats carry no such interval."""
    if not values:
        return None
    interval = median_interval(values, seed=seed)
    if interval.bound != "interval95" or interval.value == 0:
        return None
    return 100.0 * max(interval.high - interval.value, interval.value - interval.low) / abs(interval.value)


def wanted_repeats(plan: Repeats, values: Sequence[float], *, seed: int = 0) -> int:
    """How many repeats a cell needs, given the measure's value in those it has.

    A fixed count where the plan has no `until_percent`. Else the floor at first; then as many as there are where the
    interval is narrow enough, and otherwise an estimate, between one more and the ceiling, from the width's falling
    with the square root of the number.
    """
    if plan.until_percent is None or len(values) < plan.count:
        return plan.count
    if len(values) >= plan.most:
        return plan.most
    half = half_width_percent(values, seed=seed)
    if half is None:
        return len(values) + 1
    if half <= plan.until_percent:
        return len(values)
    estimate = len(values) * min(GROWTH, (half / plan.until_percent) ** 2)
    return min(plan.most, max(len(values) + 1, math.ceil(estimate)))
