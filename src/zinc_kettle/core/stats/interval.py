"""Intervals: what repeats can carry, and what they cannot.

Bounds are order statistics of the figures themselves, with ranks from the binomial distribution (Thompson 1936): they
hold what they say for any distribution of the noise. Percentiles over requests do the same with an effective number of
requests, since those of one repeat hang together (Woodruff 1952; Korn and Graubard 1998). Where ranks would lie beyond
the figures there are, the bounds are the range that was seen, called so. docs/claims.md has the coverage.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Literal

import numpy as np
import numpy.typing as npt

from zinc_kettle.core.stats.robust import interpolated, thin

MIN_FOR_INTERVAL = 6
"""Of five or fewer repeats even the whole range covers the median with less than 95% (1 − 2 · 0.5⁵ = 93.75%)."""
CONFIDENCE = 0.95
MIN_TOGETHER = 3
"""Fewer repeats do not tell how the requests of one hang together."""
TAIL_TIMES = 3.0
"""How much requests hang together is looked at this much further inside, too: beyond a high percentile too few of them
are left to tell, and by their luck the bounds would be too narrow."""
GATE = 0.1
"""Bounds of a high percentile are only given where, with requests that hang together as those in the middle do, the
chance that none of them lies beyond the percentile is at most this: the middle tells that best, and the bounds would
otherwise be given just where luck makes requests look independent (docs/claims.md)."""

Bound = Literal["interval95", "range"]


@dataclass(frozen=True, slots=True)
class Interval:
    """A value with its bounds."""

    value: float
    low: float
    high: float
    bound: Bound
    n: int
    p: float = 1.0
    """Of a ratio: how often one so far from 1 would be seen where there is no difference; 1 where that is not known."""
    error: float = 0.0
    """Of a ratio with a 95% interval: the standard error of its logarithm."""
    df: float = 0.0
    """Of the same: its degrees of freedom."""
    run_error: float = 0.0
    """Of a ratio of two runs: the same by how far earlier runs lay apart; 0 where there are none."""
    run_df: float = 0.0
    """Of the same: its degrees of freedom."""

    def inverse(self) -> Interval:
        """Of a ratio: the same the other way round."""
        return replace(self, value=1 / self.value, low=1 / self.high, high=1 / self.low)

    def halves(self, alpha: float) -> tuple[float, float]:
        """Of a ratio: how far a bound that is passed with `alpha` lies from its logarithm (Student), by the repeats and
        by earlier runs; 0 where there is no such error."""
        from scipy import special

        both = (self.df, self.error), (self.run_df, self.run_error)
        own, runs = (float(special.stdtrit(df, 1 - alpha)) * error if error > 0 else 0.0 for df, error in both)
        return own, runs

    @property
    def by_runs(self) -> bool:
        """True where the bounds are those of how far earlier runs lay apart, which more repeats do not narrow."""
        own, runs = self.halves((1 - CONFIDENCE) / 2)
        return runs > own


def median_interval(values: Sequence[float], *, level: float = CONFIDENCE) -> Interval:
    """Median over repeats with the bounds these repeats can carry.

    Args:
        values: One a repeat.
        level: How often the bounds hold the median of all repeats there could be; more than 95% where an interval is
            looked at again and again.

    Raises:
        ValueError: No values.
    """
    array = np.sort(np.asarray(values, dtype=np.float64))
    n = len(array)
    if n == 0:
        raise ValueError("an interval of no values")
    middle, rank = interpolated(array, 0.5), _rank(n, level)
    if rank < 1:
        return Interval(middle, float(array[0]), float(array[-1]), "range", n)
    return Interval(middle, float(array[rank - 1]), float(array[n - rank]), "interval95", n)


@lru_cache(maxsize=4096)
def _rank(n: int, level: float) -> int:
    """The value so many from each end bounds the median; 0 where none does."""
    from scipy import stats

    # The largest rank r with P(fewer than r of n lie below the median) ≤ (1 − level) / 2.
    return int(stats.binom.ppf((1 - level) / 2, n, 0.5))


def share_interval(hits: int, n: int) -> tuple[float, float, float]:
    """Lower bound, share and upper bound of `hits` of `n`, exact with 95% (Clopper and Pearson 1934).

    Raises:
        ValueError: Not 0 ≤ hits ≤ n, or n is 0.
    """
    if not 0 <= hits <= n or n < 1:
        raise ValueError("a share of nothing")
    from scipy import special

    tail = (1 - CONFIDENCE) / 2
    low = float(special.betaincinv(hits, n - hits + 1, tail)) if hits else 0.0
    high = float(special.betaincinv(hits + 1, n - hits, 1 - tail)) if hits < n else 1.0
    return low, hits / n, high


def pooled_share(hits: Sequence[int], sizes: Sequence[int]) -> Interval:
    """A share of requests over several repeats, exact (Clopper and Pearson 1934) for as many independent ones as they
    are worth: those of one repeat hang together, and few repeats tell little of how much.

    Args:
        hits: Of each repeat.
        sizes: Requests of each repeat, all above 0.

    Raises:
        ValueError: No repeats, or more hits than requests.
    """
    if not sizes or any(not 0 <= h <= n for h, n in zip(hits, sizes, strict=True)):
        raise ValueError("a share of nothing")
    share, k = sum(hits) / sum(sizes), len(sizes)
    if k < MIN_TOGETHER:
        each = [h / n for h, n in zip(hits, sizes, strict=True)]
        return Interval(share, min(each), max(each), "range", k)
    low, high = _share_bounds(share, _effective(_together(hits, sizes), sum(sizes), k))
    return Interval(share, low, high, "interval95", k)


def tolerance_bound(values: npt.NDArray[np.float64], p: float, n: int, least: float) -> float:
    """An upper bound of the `p` quantile of what is normally distributed, with 97.5% (one-sided tolerance limit by the
    noncentral t distribution; Owen 1968).

    Args:
        values: At least two.
        p: In (0, 1).
        n: So many of them tell something of their own, from 2 on.
        least: The standard deviation is taken to be no less.
    """
    from scipy import special, stats

    at = float(special.ndtri(p)) * math.sqrt(n)
    factor = float(stats.nct.ppf((1 + CONFIDENCE) / 2, n - 1, at)) / math.sqrt(n)
    return float(values.mean()) + factor * max(least, float(values.std(ddof=1)))


def pooled_quantile_interval(groups: Sequence[npt.NDArray[np.float64]], p: float) -> Interval:
    """A quantile over requests pooled across repeats, with bounds that know that those of one repeat hang together.

    Args:
        groups: One array a group; a group is a repeat, or a request where there is one repeat.
        p: In (0, 1).

    Raises:
        ValueError: No values at all.
    """
    filled = [np.asarray(g, dtype=np.float64) for g in groups if len(g)]
    if not filled:
        raise ValueError("a quantile of no values")
    pool = np.sort(np.concatenate(filled))
    value = interpolated(pool, p)
    ends = None if len(filled) < MIN_FOR_INTERVAL or thin(len(pool), p) else _levels(filled, pool, p)
    if ends is None:
        each = [value, *(interpolated(np.sort(g), p) for g in filled)]
        return Interval(value, min(each), max(each), "range", len(filled))
    n = len(pool)
    ranks = math.floor(ends[0] * n) - 1, math.ceil(ends[1] * n) - 1
    low, high = (float(pool[min(max(rank, 0), n - 1)]) for rank in ranks)
    return Interval(value, min(low, value), max(high, value), "interval95", len(filled))


def _levels(
    groups: Sequence[npt.NDArray[np.float64]], pool: npt.NDArray[np.float64], p: float
) -> tuple[float, float] | None:
    """Which quantiles of the pool, which is in order, bound the p quantile: those of a binomial share of the effective
    requests (Clopper and Pearson 1934); None where one of them lies beyond the pool."""
    n, k, tail = len(pool), len(groups), (1 - CONFIDENCE) / 2
    inside = p if p <= 0.5 else 1 - min(0.5, TAIL_TIMES * (1 - p))
    effect = max(_design_effect(groups, pool, level) for level in {p, inside})
    effective = _effective(effect, n, k)
    by_middle = min(effective, _effective(_design_effect(groups, pool, 0.5), n, k))
    if max(p, 1 - p) ** effective > tail or max(p, 1 - p) ** by_middle > GATE:
        return None
    return _share_bounds(p, effective)


def _effective(effect: float, n: int, k: int) -> float:
    """So many independent requests tell as much as `n` in `k` repeats with a design effect. Few repeats tell little of
    how requests hang together: Student's t says how much less than many would."""
    from scipy import special

    tail = (1 - CONFIDENCE) / 2
    loss = (special.stdtrit(n - 1.0, 1 - tail) / special.stdtrit(k - 1.0, 1 - tail)) ** 2
    return min(float(n), n / effect * float(loss))


def _share_bounds(share: float, effective: float) -> tuple[float, float]:
    """Bounds of a share of so many independent requests, with 95%."""
    from scipy import special

    hits, tail = effective * share, (1 - CONFIDENCE) / 2
    low = float(special.betaincinv(hits, effective - hits + 1, tail)) if hits > 0 else 0.0
    return low, float(special.betaincinv(hits + 1, effective - hits, 1 - tail)) if hits < effective else 1.0


def _design_effect(groups: Sequence[npt.NDArray[np.float64]], pool: npt.NDArray[np.float64], p: float) -> float:
    """How many requests of these repeats tell as much as one independent request."""
    at = interpolated(pool, p)
    return _together([int((g <= at).sum()) for g in groups], [len(g) for g in groups])


def _together(hits: Sequence[int], sizes: Sequence[int]) -> float:
    """The design effect of a share: how much more it scatters between repeats than single requests would make it."""
    counts, all_of = np.array(hits), np.array(sizes)
    n, k = int(all_of.sum()), len(all_of)
    share = counts.sum() / n
    if not 0 < share < 1:
        return 1.0
    between = k / (k - 1) * float(((counts - share * all_of) ** 2).sum()) / n**2
    return max(1.0, between / float(share * (1 - share) / n))
