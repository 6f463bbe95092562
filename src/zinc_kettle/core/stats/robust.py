"""Medians, quantiles, robust spread and flukes."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

MAD_TO_SIGMA = 1.4826
"""1 / Φ⁻¹(0.75): makes the median absolute deviation of normal data its standard deviation."""
FLUKE_SIGMAS = 8.0
"""A repeat this many robust deviations off is no tail of the same distribution."""
FLUKE_FACTOR = 1.5
"""And at least this factor off: with three equal repeats the deviation is 0 and a tremble would be a fluke."""
FLUKE_MIN_REPEATS = 3
THIN_REQUESTS = 10
"""Requests wanted beyond a percentile: below this its estimate is a single request's luck."""

Numbers = Sequence[float] | npt.NDArray[np.float64] | npt.NDArray[np.int64]


def quantile(values: Numbers, p: float) -> float:
    """Quantile by linear interpolation (Hyndman and Fan 1996, type 7).

    Args:
        values: At least one number.
        p: In [0, 1].

    Raises:
        ValueError: No values, or p outside [0, 1].
    """
    if not 0.0 <= p <= 1.0:
        raise ValueError(f"a quantile needs p in [0, 1], not {p}")
    if len(values) == 0:
        raise ValueError("a quantile of no values")
    return interpolated(np.sort(np.asarray(values, dtype=np.float64)), p)


def interpolated(ordered: npt.NDArray[np.float64], p: float) -> float:
    """The quantile of numbers that are in order; the library's own takes fifty times as long for a handful of them.

    Args:
        ordered: At least one number, in ascending order.
        p: In [0, 1].
    """
    at = p * (len(ordered) - 1)
    below = int(at)
    share, low = at - below, float(ordered[below])
    if not share:
        return low
    high = float(ordered[below + 1])
    return low + (high - low) * share if share < 0.5 else high - (high - low) * (1 - share)


def median(values: Numbers) -> float:
    """The median; ValueError for no values."""
    if isinstance(values, list | tuple) and values:
        # A handful of numbers: an array would take thirty times as long, and plans of 10,000 cells ask often.
        ordered, half = sorted(values), len(values) // 2
        return float(ordered[half]) if len(values) % 2 else (ordered[half - 1] + ordered[half]) / 2
    return quantile(values, 0.5)


def mean(values: Numbers) -> float:
    """The arithmetic mean; ValueError for no values."""
    if len(values) == 0:
        raise ValueError("a mean of no values")
    return float(np.mean(np.asarray(values, dtype=np.float64)))


def robust_spread(values: Numbers) -> float | None:
    """1.4826 · MAD ÷ median, a share; None for fewer than two values or a median of 0."""
    if len(values) < 2:
        return None
    array = np.asarray(values, dtype=np.float64)
    middle = float(np.median(array))
    if middle == 0:
        return None
    return float(MAD_TO_SIGMA * np.median(np.abs(array - middle)) / abs(middle))


def flukes(values: Numbers) -> list[int]:
    """Indexes of values so far off that something else happened there. They are flagged and never dropped."""
    if len(values) < FLUKE_MIN_REPEATS:
        return []
    array = np.asarray(values, dtype=np.float64)
    middle = float(np.median(array))
    sigma = MAD_TO_SIGMA * float(np.median(np.abs(array - middle)))
    if middle <= 0:
        return []
    far = np.abs(array - middle) > FLUKE_SIGMAS * sigma
    factor = (array > FLUKE_FACTOR * middle) | (array < middle / FLUKE_FACTOR)
    return [int(i) for i in np.flatnonzero(far & factor)]


def thin(n: int, p: float) -> bool:
    """True where n requests cannot carry the p quantile: n · (1 − p) < 10."""
    return n * (1.0 - p) < THIN_REQUESTS - 1e-9
