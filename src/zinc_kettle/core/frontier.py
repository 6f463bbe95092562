"""The frontier of two measures of which more is better, and its knee."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from zinc_kettle.core.stats.ratios import ALPHA

MIN_BLOCKS = 3
"""So many blocks are needed to tell a bend from scatter."""
LEAST_BULGE = 0.02
"""Of the length of both axes: with little noise every curve is a little bent, and nobody would choose by it."""


def frontier(points: Sequence[tuple[float, float]]) -> list[int]:
    """Places of the points that no other point beats in both measures, from the smallest x to the largest.

    Args:
        points: x and y; more of each is better.
    """
    order = sorted(range(len(points)), key=lambda i: (-points[i][0], -points[i][1]))
    out: list[int] = []
    best = float("-inf")
    for i in order:
        if points[i][1] > best:
            out.append(i)
            best = points[i][1]
    return out[::-1]


@dataclass(frozen=True, slots=True)
class Knee:
    """Where a frontier bends: beyond it more of one measure costs ever more of the other."""

    at: int
    """The point that bulges most from the straight line between the ends."""
    low: int
    """The first point that may be it just as well."""
    high: int
    """The last."""


def knee(curves: npt.NDArray[np.float64]) -> Knee | None:
    """The knee of a frontier that was measured in several blocks; None where it is not clearly bent.

    The point farthest on the better side of the straight line between the ends, after both axes are scaled to run from
    0 to 1 (Satopää and others 2011). It is named where its bulge over blocks is above `LEAST_BULGE` with 95% in a
    one-sided t test, adjusted for the number of points it was chosen from (Bonferroni).

    Args:
        curves: x and y of the points in each block, in the order of x, shape (blocks, points, 2); more is better.
    """
    blocks, points, _ = curves.shape
    if blocks < MIN_BLOCKS or points < 3:
        return None
    from scipy import special

    middle = curves.mean(axis=0)
    wide = middle.max(axis=0) - middle.min(axis=0)
    if wide.min() <= 0:
        return None
    scaled = (curves - middle.min(axis=0)) / wide
    start, end = scaled[:, :1], scaled[:, -1:]
    along, off = end - start, scaled - start
    length = np.maximum(np.hypot(along[..., 0], along[..., 1]), 1e-12)
    bulge = (along[..., 0] * off[..., 1] - along[..., 1] * off[..., 0]) / length  # shape (blocks, points)
    inner = range(1, points - 1)
    at = max(inner, key=lambda i: float(bulge[:, i].mean()))
    critical = float(special.stdtrit(blocks - 1.0, 1 - ALPHA / len(inner)))
    error = float(bulge[:, at].std(ddof=1)) / blocks**0.5
    if float(bulge[:, at].mean()) - critical * error <= LEAST_BULGE:
        return None
    behind = bulge[:, at : at + 1] - bulge
    errors = behind.std(axis=0, ddof=1) / blocks**0.5
    near = [i for i in inner if float(behind[:, i].mean()) <= critical * float(errors[i])]
    return Knee(at, min(near), max(near))
