"""Straight lines through measured points, with intervals, and the curve where one does better.

Weighted least squares with weights 1/y²: the noise of a time grows with the time (Draper and Smith 1998, chapter 9).
Points of one block share the machine of that minute, so where there are blocks each has a line of its own, and
Student's t over these lines gives the bounds: a slow minute is one observation, not as many as it has points.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

Array = npt.NDArray[np.float64]
CURVED_P = 0.05
"""Where a squared term is so unlikely to be chance, a line is not the truth."""
CURVED_SHARE = 0.02
"""And where it also changes a fitted value by more than this share: with little noise any engine is a little curved."""
CONFIDENCE = 0.95


@dataclass(frozen=True, slots=True)
class Curve:
    """y = first + slope_first · d + bend · d², where d = x − x_low of the line it belongs to."""

    p: float
    """Of the squared term being chance."""
    share: float
    """The most the squared term changes a fitted value, as a share of it."""
    first: float
    """The value at the smallest x."""
    slope_first: float
    """There."""
    slope_last: float
    """At the largest x."""
    bend: float


@dataclass(frozen=True, slots=True)
class FittedLine:
    """y = intercept + slope · x."""

    slope: float
    slope_low: float
    slope_high: float
    intercept: float
    intercept_low: float
    intercept_high: float
    x_low: float
    x_high: float
    n: int
    curve: Curve | None
    """With the squared term; None where there are too few points or lengths."""

    @property
    def curved(self) -> bool:
        """True where a line is not the truth."""
        return self.curve is not None and self.curve.p < CURVED_P and self.curve.share > CURVED_SHARE


ROUNDS = 3
"""In turn a curve is fitted and the blocks' factors are found; where blocks hold the same lengths one would do."""
MIN_BLOCKS = 3
"""So many blocks with a line of their own are needed for bounds over blocks."""


def fit_line(x: Sequence[float], y: Sequence[float], blocks: Sequence[int] = ()) -> FittedLine | None:
    """A line through points; None for fewer than three, fewer than three different x, or a y that is not positive.

    Args:
        x: Of each point.
        y: Of each point.
        blocks: Which block each point is of; empty where that is not known, or each point stands alone.
    """
    xs, ys = np.asarray(x, dtype=np.float64), np.asarray(y, dtype=np.float64)
    if len(xs) < 3 or len(np.unique(xs)) < 3 or float(ys.min()) <= 0:
        return None
    from scipy import stats

    beta, covariance, freedom = _weighted(np.stack([np.ones_like(xs), xs], axis=1), ys)
    t = float(stats.t.ppf((1 + CONFIDENCE) / 2, freedom))
    wide = t * np.sqrt(np.diag(covariance))
    each = _lines_of_blocks(xs, ys, blocks)
    if each is not None:
        t = float(stats.t.ppf((1 + CONFIDENCE) / 2, len(each) - 1))
        beta, wide = each.mean(axis=0), t * each.std(axis=0, ddof=1) / len(each) ** 0.5
    return FittedLine(
        slope=float(beta[1]),
        slope_low=float(beta[1] - wide[1]),
        slope_high=float(beta[1] + wide[1]),
        intercept=float(beta[0]),
        intercept_low=float(beta[0] - wide[0]),
        intercept_high=float(beta[0] + wide[0]),
        x_low=float(xs.min()),
        x_high=float(xs.max()),
        n=len(xs),
        curve=_curve(xs, ys, blocks),
    )


def _lines_of_blocks(xs: Array, ys: Array, blocks: Sequence[int]) -> Array | None:
    """Intercept and slope of each block, shape (blocks, 2); None where too few blocks have three different x."""
    of = np.asarray(blocks)
    found = [
        _weighted(np.stack([np.ones(int(mine.sum())), xs[mine]], axis=1), ys[mine])[0]
        for block in sorted(set(blocks))
        if len(np.unique(xs[mine := of == block])) >= 3
    ]
    return np.array(found) if len(found) >= MIN_BLOCKS and len(found) == len(set(blocks)) else None


def _weighted(columns: Array, ys: Array, lost: int = 0) -> tuple[Array, Array, int]:
    """Coefficients, their covariance, degrees of freedom; rows are divided by y, which is the weight's root.

    Args:
        columns: Shape (points, coefficients).
        ys: Shape (points,).
        lost: Degrees of freedom that were spent on `ys` before.
    """
    scaled = columns / ys[:, None]
    beta, *_ = np.linalg.lstsq(scaled, np.ones_like(ys), rcond=None)
    freedom = len(ys) - columns.shape[1] - lost
    residual = 1.0 - scaled @ beta
    variance = float(residual @ residual) / freedom
    covariance: Array = variance * np.linalg.inv(scaled.T @ scaled)
    return np.asarray(beta, dtype=np.float64), covariance, int(freedom)


def _curve(xs: Array, ys: Array, blocks: Sequence[int]) -> Curve | None:
    """The points with a squared term; None where there are too few.

    Where there are blocks, what one of them slows all of its points by is taken out first: it hides a curve, and makes
    one of a block that has more long prompts than others.
    """
    # From the smallest and scaled, so that the squares of long prompts do not drown the rest.
    wide = max(float(np.ptp(xs)), 1.0)
    placed = (xs - xs.min()) / wide
    columns = np.stack([np.ones_like(xs), placed, placed**2], axis=1)
    even, lost = _without_blocks(columns, ys, blocks)
    if len(ys) - 3 - lost < 1:
        return None
    from scipy import stats

    beta, covariance, freedom = _weighted(columns, even, lost)
    line, _, _ = _weighted(columns[:, :2], even, lost)
    fitted = columns[:, :2] @ line
    change = float(np.max(np.abs(columns @ beta - fitted) / np.abs(fitted)))
    deviation = float(np.sqrt(max(covariance[2, 2], 0.0)))
    first, slope, bend = (float(b) for b in beta)
    # Of points without any scatter the test has no meaning but its answer: a squared term, or none.
    p = float(2 * stats.t.sf(abs(bend) / deviation, freedom)) if deviation > 1e-12 else float(change < 1e-9)
    return Curve(p, change, first, slope / wide, (slope + 2 * bend) / wide, bend / wide**2)


def _without_blocks(columns: Array, ys: Array, blocks: Sequence[int]) -> tuple[Array, int]:
    """The points with the factor of their block taken out, and the degrees of freedom that this costs."""
    of = np.asarray(blocks)
    numbers = np.unique(of)
    if len(of) != len(ys) or len(numbers) < 2 or len(ys) - columns.shape[1] - (len(numbers) - 1) < 1:
        return ys, 0
    even = ys.copy()
    for _ in range(ROUNDS):
        fitted = columns @ _weighted(columns, even)[0]
        if float(fitted.min()) <= 0:
            return ys, 0
        rest = np.log(ys / fitted)
        for block in numbers:
            even[of == block] = ys[of == block] / np.exp(rest[of == block].mean())
    return even, len(numbers) - 1
