"""Whether a load that was planned keeps the promise: by the share of all of its requests that do.

Where so few requests were sent that their share alone cannot tell, waits far below their limits do: by a tolerance
bound of their logarithms.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from zinc_kettle.core.measures.traffic import first_output_s, keeps, pace_s, promise_kept
from zinc_kettle.core.plan.traffic import Promise
from zinc_kettle.core.record.repeat import Missing, Repeat
from zinc_kettle.core.stats import Interval
from zinc_kettle.core.stats.interval import pooled_share, tolerance_bound

Stands = Literal["kept", "broken", "open"]
LEAST_SPREAD = 0.02
"""Of the logarithms of waits: what scatters less was not seen long enough."""


@dataclass(frozen=True, slots=True)
class PromiseVerdict:
    """How a cell stands to the promise."""

    stands: Stands
    share: Interval | None = None
    """Of all of its requests, those that kept it; None where that is not known of each repeat."""


def promise_verdict(repeats: Sequence[Repeat], promise: Promise) -> PromiseVerdict:
    """Kept where surely so many requests keep it as were promised, broken where surely fewer do.

    Args:
        repeats: Of one cell, those that count.
        promise: What was promised.
    """
    if not repeats or any(isinstance(promise_kept(repeat), Missing) for repeat in repeats):
        return PromiseVerdict("open")
    sizes = [sum(1 for t in r.timelines if t.role == "measured") for r in repeats]
    hits = [sum(1 for t in r.measured if keeps(t, r)) for r in repeats]
    share, wanted = pooled_share(hits, sizes), promise.percentile / 100
    if share.bound == "range":
        return PromiseVerdict("open", share)
    if share.high < wanted:
        return PromiseVerdict("broken", share)
    far = hits == sizes and _far_below(repeats, promise)
    return PromiseVerdict("kept" if share.low >= wanted or far else "open", share)


def _far_below(repeats: Sequence[Repeat], promise: Promise) -> bool:
    """True where waits and paces lie so far below their limits that the promised percentile surely does, as though each
    repeat told no more than one request."""
    requests = [t for r in repeats for t in r.measured]
    both = ((promise.ttft_s, first_output_s), (promise.tpot_s, pace_s))
    for limit, figure in both:
        seconds = [] if limit is None else [v for v in map(figure, requests) if v is not None and v > 0]
        if limit is None or not seconds:  # answers of one token have no pace that could be too slow
            continue
        if len(seconds) < len(repeats):
            return False
        bound = tolerance_bound(np.log(seconds), promise.percentile / 100, len(repeats), LEAST_SPREAD)
        if bound > math.log(limit):
            return False
    return True
