"""The frontier of two measures of which more is better, and its knee."""

from __future__ import annotations

from collections.abc import Sequence


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


def knee(points: Sequence[tuple[float, float]]) -> int | None:
    """The place on a curve beyond which more of one costs ever more of the other; None for fewer than three points.

    The point farthest from the straight line between the ends, after both axes are scaled to run from 0 to 1
    (Satopää and others 2011).

    Args:
        points: Of the curve, in the order of x.
    """
    if len(points) < 3:
        return None
    xs, ys = [p[0] for p in points], [p[1] for p in points]
    wide, tall = max(xs) - min(xs), max(ys) - min(ys)
    if wide <= 0 or tall <= 0:
        return None
    scaled = [((x - min(xs)) / wide, (y - min(ys)) / tall) for x, y in points]
    (x0, y0), (x1, y1) = scaled[0], scaled[-1]
    far = [abs((y1 - y0) * x - (x1 - x0) * y + x1 * y0 - y1 * x0) for x, y in scaled]
    at = max(range(len(far)), key=lambda i: far[i])
    return at if 0 < at < len(points) - 1 and far[at] > 1e-9 else None
