"""Drift: a trend over the order in which repeats ran."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

MIN_FOR_DRIFT = 6
"""Of five values even a perfect order has a two-sided p of 0.017, but one exchanged pair already 0.083."""
DRIFT_P = 0.01
"""Looked at for every cell, so stricter than usual: one cell in a hundred is named by chance."""
DRIFT_SHARE = 0.03
"""Of the median over the whole run: a smaller trend changes no conclusion."""


@dataclass(frozen=True, slots=True)
class Trend:
    """A monotone trend: Kendall's tau against order (Mann 1945), its size by the Theil and Sen slope."""

    share: float
    """Change from the first to the last position, as a share of the median; negative where it falls."""
    p: float

    @property
    def drifts(self) -> bool:
        """True where it is neither chance nor small."""
        return self.p < DRIFT_P and abs(self.share) > DRIFT_SHARE


def trend(values: Sequence[float], positions: Sequence[float] | None = None) -> Trend | None:
    """The trend of values over their positions (their order where none are given); None for too few or all equal."""
    y = np.asarray(values, dtype=np.float64)
    x = np.arange(len(y), dtype=np.float64) if positions is None else np.asarray(positions, dtype=np.float64)
    middle = float(np.median(y)) if len(y) else 0.0
    if len(y) < MIN_FOR_DRIFT or float(np.ptp(y)) == 0.0 or middle == 0:
        return None
    from scipy import stats

    p = float(stats.kendalltau(x, y).pvalue)
    slope = float(stats.theilslopes(y, x).slope)
    return Trend(slope * float(np.ptp(x)) / abs(middle), p)
