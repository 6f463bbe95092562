"""When a cell has been repeated often enough: repeats until the interval is as narrow as asked for.

An interval that is looked at after every repeat is too narrow at the moment it stops the repeating: the figures that
happen to agree stop it. So it is looked at a few planned times only, and the 5% it may be wrong by are divided among
them (Pocock 1977 for planned looks; Bonferroni for their shares): whichever look ends it, the bounds then shown hold
the cell's median with 95%. docs/claims.md has the coverage.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from functools import lru_cache

from zinc_kettle.core.plan.study import Repeats
from zinc_kettle.core.stats.interval import CONFIDENCE, median_interval

LOOK_GROWTH = 1.4
"""Each look has so many times the repeats of the one before: more looks would each need wider bounds."""
ANSWER_GROWTH = 1.25
"""The same where the question decides: looks that come early cost little there, see core.run.stopping."""


@lru_cache(maxsize=256)
def looks(floor: int, ceiling: int, growth: float = LOOK_GROWTH, *, carried: bool = True) -> tuple[int, ...]:
    """Numbers of repeats at which is looked whether they are enough; the last is the ceiling.

    Args:
        floor: The first look comes no earlier.
        ceiling: The most repeats there may be.
        growth: From one look to the next.
        carried: The first look comes where bounds at the level of so many looks are within the figures.
    """
    first = min(floor, ceiling)
    while True:
        found, at = [], float(first)
        while at < ceiling:
            found.append(math.floor(at))
            at = max(at * growth, at + 1)
        found.append(ceiling)
        if not carried or 2.0 * 0.5 ** found[0] <= (1 - CONFIDENCE) / len(found) or first >= ceiling:
            return tuple(found)
        first += 1


def answer_looks(plan: Repeats) -> tuple[int, ...]:
    """Numbers of repeats at which is looked whether the question is answered."""
    return looks(plan.count, plan.most, ANSWER_GROWTH, carried=False)


def look_level(plan: Repeats) -> float:
    """Of the bounds at each look, so that all of them hold together with 95%."""
    return 1 - (1 - CONFIDENCE) / len(looks(plan.count, plan.most))


def half_width_percent(values: Sequence[float], *, level: float = CONFIDENCE) -> float | None:
    """Half of the interval's width in percent of the median; None where these repeats carry no such interval."""
    if not values:
        return None
    interval = median_interval(values, level=level)
    if interval.bound != "interval95" or interval.value == 0:
        return None
    return 100.0 * max(interval.high - interval.value, interval.value - interval.low) / abs(interval.value)


def wanted_repeats(plan: Repeats, values: Sequence[float]) -> int:
    """How many repeats a cell needs by itself, given the measure's value in those it has.

    A fixed count where nothing decides. Else the first look whose interval is narrow enough, as far as there are
    values, and otherwise the next look; where the question decides, the next look.
    """
    if plan.until_answered is not None:
        return next((n for n in answer_looks(plan) if n > len(values)), plan.most)
    if plan.until_percent is None:
        return plan.count
    level = look_level(plan)
    for look in looks(plan.count, plan.most):
        if len(values) < look:
            return look
        half = half_width_percent(values[:look], level=level)
        if half is not None and half <= plan.until_percent:
            return look
    return plan.most
