"""Statistics of repeats: quantiles, intervals, robust spread, ratios of two sets of repeats.

Every quantile takes p in [0, 1]. May import numpy, and scipy.stats late, inside the function that needs it.
"""

from zinc_kettle.core.stats.interval import Interval, median_interval
from zinc_kettle.core.stats.line import FittedLine, fit_line
from zinc_kettle.core.stats.robust import flukes, mean, median, quantile, robust_spread, thin

__all__ = [
    "FittedLine",
    "Interval",
    "fit_line",
    "flukes",
    "mean",
    "median",
    "median_interval",
    "quantile",
    "robust_spread",
    "thin",
]
