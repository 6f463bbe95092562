"""One load that was tried: how the promised percentiles stood to their limits, each time it was measured."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from zinc_kettle.core.measures.traffic import first_output_s, in_one_piece
from zinc_kettle.core.plan.traffic import Promise
from zinc_kettle.core.record.repeat import Repeat
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.core.stats import median
from zinc_kettle.core.units import NS_PER_S

Limit = Literal["ttft", "tpot", "failures"]
VISITS = 2
"""So many times, apart from each other, a load is measured that an end of the interval rests on."""


@dataclass(frozen=True)
class Trial:
    """What one load came to."""

    load: float
    over: Mapping[Limit, float]
    """Logarithm of the percentile over its limit, of each limit that is promised; 0 is just kept."""
    spread: Mapping[Limit, float]
    """Standard deviation of the same between repeats."""
    repeats: int
    failed: float
    """Share of the requests that failed."""
    visits: tuple[Mapping[Limit, float], ...] = ()
    """`over` of each time it was measured; one where it is empty."""
    thin: bool = False
    """True where there were so few requests that the percentile lies beyond all of them."""
    at_ns: int = 0
    """When it was last measured, on the clock of the requests."""

    def broken(self, promise: Promise) -> bool:
        """True where the promise was not kept."""
        return self.failed * 100 > promise.failures_percent or any(v > 0 for v in self.over.values())


def trial_of(load: float, visits: Sequence[Sequence[Repeat]], promise: Promise, *, lost: int = 0) -> Trial | None:
    """What the repeats of a load came to; None where nothing is known of it, or not how a promised pace was kept.

    An answer in one piece has no pace, only a bound: its whole time by its tokens. That stands for it where there are
    few such answers, no more than may be slower than the percentile, or a single one.

    Args:
        load: Streams, or requests per minute.
        visits: The repeats that count, of each time it was measured.
        promise: What was promised.
        lost: Repeats that failed as a whole: a load of which no repeat can be measured breaks any promise.
    """
    repeats = [r for visit in visits for r in visit]
    asked = [t for r in repeats for t in r.timelines if t.role == "measured"]
    if not any(r.measured for r in repeats):
        return Trial(load, {}, {}, lost, 1.0) if lost else None
    answered = [in_one_piece(t) for r in repeats for t in r.measured]
    few = max(1, (1 - promise.percentile / 100) * len(answered))
    if promise.tpot_s is not None and (all(answered) or sum(answered) > few):
        return None
    spread: dict[Limit, float] = {}
    told: list[dict[Limit, float]] = [{} for _ in visits]
    over: dict[Limit, float] = {}
    seen = [len([t for r in visit for t in in_full_load(r)]) for visit in visits]
    for limit, allowed in _allowed(promise):
        logs = [_over(values, allowed, promise) for r in repeats if (values := _values([r], limit))]
        if not logs:
            continue
        spread[limit] = float(np.std(logs, ddof=1)) if len(logs) > 1 else math.nan
        for row, visit in zip(told, visits, strict=True):
            if values := _values(visit, limit):
                row[limit] = _over(values, allowed, promise)
        each = [row[limit] for row in told if limit in row]
        # Of three visits and more one may have met a slow minute.
        over[limit] = median(each) if len(each) > VISITS else _over(_values(repeats, limit), allowed, promise)
    failed = sum(1 for t in asked if not t.usable) / len(asked)
    thin = (max(seen) + 1) * (1 - promise.percentile / 100) < 1
    return Trial(load, over, spread, len(repeats), failed, tuple(told), thin, max(t.sent_ns for t in asked))


def _allowed(promise: Promise) -> list[tuple[Limit, float]]:
    limits: tuple[tuple[Limit, float | None], ...] = (("ttft", promise.ttft_s), ("tpot", promise.tpot_s))
    return [(limit, allowed) for limit, allowed in limits if allowed is not None]


def _over(values: Sequence[float], allowed: float, promise: Promise) -> float:
    """Logarithm of the percentile over its limit; of a percentile that does not lean to either side (Hyndman and Fan
    1996, type 6), as few requests need."""
    return math.log(float(np.quantile(values, promise.percentile / 100, method="weibull")) / allowed)


FILLING, DRAINING = 0.25, 0.1
"""Of an open loop's requests, the first of which meet an engine whose queue is still filling, and the last of which
have no others behind them."""


def in_full_load(repeat: Repeat) -> list[Timeline]:
    """The requests of a repeat that met the load as it is in the long run.

    Of a closed loop without the first request of each stream, which all came at once, and without the last ones, beside
    which streams had nothing left to send; of an open loop without its beginning and its end. All of them, where that
    would leave fewer than half of the streams' number.
    """
    there = sorted((t for t in repeat.measured), key=lambda t: t.wanted_ns)
    many = len(there)
    if repeat.open_loop:
        return there[math.ceil(many * FILLING) : many - math.ceil(many * DRAINING)] or there
    wave = repeat.concurrency
    return there[wave : many - wave] if many - 2 * wave >= max(1, wave / 2) else there


def _values(repeats: Iterable[Repeat], limit: str) -> list[float]:
    requests = [t for r in repeats for t in in_full_load(r)]
    if limit == "ttft":
        found = (first_output_s(t) for t in requests)
        return [v for v in found if v is not None and v > 0]
    return [
        (t.duration_ns / t.total_tokens if in_one_piece(t) else t.decode_ns / t.decode_tokens) / NS_PER_S
        for t in requests
        if in_one_piece(t) or (t.decode_ns > 0 and t.decode_tokens > 0)
    ]
