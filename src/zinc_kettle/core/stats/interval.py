"""Intervals: what repeats can carry, and what they cannot.

Six or more repeats carry a 95% interval (bootstrap over repeats, BCa where it behaves: Efron 1987); fewer only their
range, called so.
"""

from __future__ import annotations

import warnings
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
import numpy.typing as npt

MIN_FOR_INTERVAL = 6
"""Of five or fewer repeats even the whole range covers the median with less than 95% (1 − 2 · 0.5⁵ = 93.75%)."""
RESAMPLES = 2_000
LEAST_RESAMPLES = 400
WORK = 20_000_000
"""Values looked at in all resamples of a pool."""
CONFIDENCE = 0.95

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


def median_interval(values: Sequence[float], *, seed: int = 0) -> Interval:
    """Median over repeats with the bounds these repeats can carry.

    Raises:
        ValueError: No values.
    """
    array = np.asarray(values, dtype=np.float64)
    if len(array) == 0:
        raise ValueError("an interval of no values")
    middle = float(np.median(array))
    if len(array) < MIN_FOR_INTERVAL:
        return Interval(middle, float(array.min()), float(array.max()), "range", len(array))
    if float(np.ptp(array)) == 0.0:
        return Interval(middle, middle, middle, "interval95", len(array))
    low, high = _bca(array, seed)
    # Interpolation may step past the ends by a rounding error.
    low, high = max(low, float(array.min())), min(high, float(array.max()))
    return Interval(middle, min(low, middle), max(high, middle), "interval95", len(array))


def _bca(array: npt.NDArray[np.float64], seed: int) -> tuple[float, float]:
    from scipy import stats

    low = high = float("nan")
    with warnings.catch_warnings():
        # A degenerate BCa says so by a warning and NaN; the percentile method below answers it.
        warnings.simplefilter("ignore")
        result = stats.bootstrap(
            (array,), np.median, n_resamples=RESAMPLES, confidence_level=CONFIDENCE, method="BCa",
            rng=np.random.default_rng(seed), vectorized=True,
        )  # fmt: skip
        low, high = float(result.confidence_interval.low), float(result.confidence_interval.high)
    if not (np.isfinite(low) and np.isfinite(high)):
        medians = _resampled_medians(array, np.random.default_rng(seed))
        low, high = (float(q) for q in np.quantile(medians, [(1 - CONFIDENCE) / 2, (1 + CONFIDENCE) / 2]))
    return low, high


def _resampled_medians(array: npt.NDArray[np.float64], rng: np.random.Generator) -> npt.NDArray[np.float64]:
    picks = rng.integers(0, len(array), (RESAMPLES, len(array)))
    medians: npt.NDArray[np.float64] = np.median(array[picks], axis=1)
    return medians


def pooled_quantile_interval(groups: Sequence[npt.NDArray[np.float64]], p: float, *, seed: int = 0) -> Interval:
    """A quantile over requests pooled across repeats, with bounds from resampling the groups.

    Args:
        groups: One array a group; a group is a repeat, or a request where there is one repeat. Values within a group
            are correlated (gaps of one stream), so whole groups are drawn.
        p: In [0, 1].
        seed: Seed of the resampling.

    Raises:
        ValueError: No values at all.
    """
    filled = [g for g in groups if len(g)]
    if not filled:
        raise ValueError("a quantile of no values")
    value = float(np.quantile(np.concatenate(filled), p))
    each = [value, *(float(np.quantile(g, p)) for g in filled)]
    if len(filled) < MIN_FOR_INTERVAL:
        return Interval(value, min(each), max(each), "range", len(filled))
    draws = _resampled_quantiles(filled, p, np.random.default_rng(seed))
    low, high = (float(q) for q in np.quantile(draws, [(1 - CONFIDENCE) / 2, (1 + CONFIDENCE) / 2]))
    return Interval(value, min(low, value), max(high, value), "interval95", len(filled))


def _resampled_quantiles(
    groups: Sequence[npt.NDArray[np.float64]], p: float, rng: np.random.Generator
) -> npt.NDArray[np.float64]:
    """The p quantile of resamples of whole groups: sorted once, each resample only counts how often a group was drawn.

    Large pools are resampled less often, though never under LEAST_RESAMPLES: a screen waits for this.
    """
    values = np.concatenate(groups)
    owner = np.repeat(np.arange(len(groups)), [len(g) for g in groups])
    by_value = np.argsort(values, kind="stable")
    values, owner = values[by_value], owner[by_value]
    count = int(min(RESAMPLES, max(LEAST_RESAMPLES, WORK // len(values))))
    out = np.empty(count)
    even = np.full(len(groups), 1.0 / len(groups))
    for i in range(count):
        upto = np.cumsum(rng.multinomial(len(groups), even)[owner])
        position = (int(upto[-1]) - 1) * p
        below = int(position)
        # Type 7 between the two neighbours in the sorted resample.
        first, second = np.searchsorted(upto, [below, min(below + 1, int(upto[-1]) - 1)], side="right")
        out[i] = values[first] + (position - below) * (values[second] - values[first])
    return out
