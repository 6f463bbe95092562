"""Ratios of two sets of repeats, and families of comparisons, on the logarithms of the figures.

A block measures every cell once, close in time: log(figure) = cell + block + rest. What the machine does to a whole
block cancels in the difference of two of its cells, so ratios are paired by block (Student 1908); without blocks they
are Welch's (1947). Of many comparisons the chance that any is wrong is held at 5%: by dividing it among all pairs
(Dunn 1961) where all cells are held against each other, by Holm's step-down (1979) for other families. Tukey's range
would be narrower by a tenth at most, and takes a screen a quarter of a second to find. docs/claims.md has what these do
under noise that is not normal.
"""

from __future__ import annotations

import math
from collections.abc import Hashable, Sequence
from dataclasses import replace

import numpy as np
import numpy.typing as npt

from zinc_kettle.core.stats.interval import CONFIDENCE, MIN_FOR_INTERVAL, Interval

MIN_FOR_CLAIM = 3
"""Two differences may agree by chance whatever bounds are drawn: under noise of two levels one pair of equal cells in
eight would be told apart."""
ALPHA = 1.0 - CONFIDENCE

Columns = npt.NDArray[np.float64]
Strata = Sequence[tuple[Hashable, ...]]
"""What each cell was measured with, outermost first, such as a rig and a launch on it: cells that share one share its
luck in a block, so that they tell less of its difference from another than as many of their own would, and more of
their difference from each other. Empty where nothing is shared."""


def paired_ratio(a: Sequence[float] | Columns, b: Sequence[float] | Columns) -> Interval:
    """The ratio a over b of repeats that are paired by block, shape (blocks,) each, all positive.

    From three blocks on the geometric mean of the ratios with Student's interval of its logarithm; below that what was
    seen, as a range, which carries no claim.

    Raises:
        ValueError: No pairs, unlike lengths, or values that are not positive.
    """
    x, y = _logs(a), _logs(b)
    if len(x) != len(y):
        raise ValueError("pairs need as many values on both sides")
    difference = x - y
    n = len(difference)
    if n < MIN_FOR_CLAIM:
        return _seen(difference)
    error = float(difference.std(ddof=1)) / n**0.5
    return _student(float(difference.mean()), error, n - 1.0, n)


LEAST_DF = 2.0
"""However much the repeats of a run hang together, its error is not taken from fewer degrees of freedom."""


def unpaired_ratio(a: Sequence[float], b: Sequence[float], widening: tuple[float, float] = (1.0, 1.0)) -> Interval:
    """The ratio a over b of repeats that share no blocks: geometric means, with Welch's interval of the logarithm.

    Args:
        a: Positive figures, shape (repeats,).
        b: Positive figures, shape (repeats,).
        widening: How many times as large the error of each mean is as that of independent repeats (`Waves.apart`); the
            degrees of freedom are those of so many fewer repeats.

    Raises:
        ValueError: An empty side, or values that are not positive.
    """
    x, y = _logs(a), _logs(b)
    n = min(len(x), len(y))
    if n < MIN_FOR_CLAIM:
        return _seen((x[:, None] - y[None, :]).ravel(), n=n)
    parts = [float(z.var(ddof=1)) / len(z) * w**2 for z, w in zip((x, y), widening, strict=True)]
    free = [max(len(z) / w**2 - 1, min(LEAST_DF, len(z) - 1)) for z, w in zip((x, y), widening, strict=True)]
    whole = sum(parts)
    split = sum(part**2 / df for part, df in zip(parts, free, strict=True))
    return _student(float(x.mean() - y.mean()), whole**0.5, whole**2 / split if split else n - 1.0, n)


def pooled_ratios(rows: Sequence[tuple[Sequence[float], Sequence[float]]], *, paired: bool) -> list[Interval]:
    """Ratios of many rows of the same kind, first over second, each with the scatter that all rows have together.

    Three repeats that happen to agree look like certainty, and of many rows some always agree: what all rows scatter by
    is the least that is believed of one, and what it scatters by itself where that is more.

    Args:
        rows: Positive figures of both sides; as many on both where they are paired.
        paired: The figures of a row are paired by block.

    Returns:
        In the order of the rows; of fewer than three repeats on a side what was seen, as a range.
    """
    each: list[tuple[float, float, float, float, int] | Interval] = []
    for a, b in rows:
        x, y = _logs(a), _logs(b)
        n = min(len(x), len(y))
        if n < MIN_FOR_CLAIM:
            each.append(_seen(x - y if paired else (x[:, None] - y[None, :]).ravel(), n=n))
        elif paired:
            each.append((float((x - y).mean()), float((x - y).var() * n), n - 1.0, 1 / n, n))
        else:
            squares = float(x.var() * len(x) + y.var() * len(y))
            each.append((float(x.mean() - y.mean()), squares, len(x) + len(y) - 2.0, 1 / len(x) + 1 / len(y), n))
    known = [row for row in each if not isinstance(row, Interval)]
    df = sum(row[2] for row in known)
    pooled = sum(row[1] for row in known) / max(df, 1.0)
    return [
        row
        if isinstance(row, Interval)
        else _student(row[0], (max(pooled, row[1] / row[2]) * row[3]) ** 0.5, df, row[4])
        for row in each
    ]


def _logs(values: Sequence[float] | Columns) -> Columns:
    array = np.asarray(values, dtype=np.float64)
    if not len(array):
        raise ValueError("a ratio of no values")
    if array.min() <= 0:
        raise ValueError("a ratio needs positive values")
    return np.log(array)


def _seen(differences: Columns, *, n: int | None = None) -> Interval:
    low, high = float(np.exp(differences.min())), float(np.exp(differences.max()))
    return Interval(float(np.exp(np.median(differences))), low, high, "range", len(differences) if n is None else n)


def _student(mean: float, error: float, df: float, n: int) -> Interval:
    from scipy import special

    # Figures that are all alike have no error but that of their digits.
    if error <= 1e-12:
        same = abs(mean) <= 1e-12
        return Interval(float(np.exp(mean)), float(np.exp(mean)), float(np.exp(mean)), "interval95", n, float(same))
    half = float(special.stdtrit(df, 1 - ALPHA / 2)) * error
    p = 2 * float(special.stdtr(df, -abs(mean) / error))
    bounds = np.exp([mean, mean - half, mean + half])
    return Interval(float(bounds[0]), float(bounds[1]), float(bounds[2]), "interval95", n, p, error, df)


def allowing_for_runs(ratio: Interval, error: float, df: float) -> Interval:
    """A ratio of two runs that is a claim only where it would be one by how far earlier runs lay apart, too.

    Args:
        ratio: By what the two runs themselves have seen.
        error: The standard error of its logarithm by earlier runs.
        df: The degrees of freedom of that.
    """
    if ratio.bound != "interval95" or error <= 0:
        return ratio
    runs = _student(math.log(ratio.value), error, df, ratio.n)
    low, high = min(ratio.low, runs.low), max(ratio.high, runs.high)
    return replace(ratio, low=low, high=high, p=max(ratio.p, runs.p), run_error=error, run_df=df)


def one_sided(ratio: Interval, alpha: float) -> tuple[float, float]:
    """Two bounds of a ratio, each of which the true one passes with `alpha` at most; Student's, of its logarithm.

    Args:
        ratio: With a 95% interval.
        alpha: The chance, in (0, 0.5).

    Raises:
        ValueError: The ratio is a range, which has no error.
    """
    if ratio.bound != "interval95":
        raise ValueError("a range has no bounds of a chance")
    half = max(ratio.halves(alpha))
    return float(ratio.value * np.exp(-half)), float(ratio.value * np.exp(half))


TELL_POWER = 0.9
"""How surely a further series of repeats is to tell what it is planned for."""
MOST_TOLD = 100_000


def required_repeats(found: Interval, share: float, *, pairs: int = 1) -> int:
    """Repeats of each cell, those there are included, that would tell a difference with 90% (Lachin 1981).

    Args:
        found: The ratio of the two so far, with a 95% interval; how it scatters is taken from its width.
        share: The difference that is to be told, such as 0.03.
        pairs: How many pairs are looked at together.
    """
    from scipy import special

    df = found.n - 1.0
    spread = float(np.log(found.high / found.low) / 2 / special.stdtrit(df, 1 - ALPHA / 2)) * found.n**0.5
    n = 2 * MIN_FOR_CLAIM
    for _ in range(20):  # Student's quantile depends on the answer; a few rounds settle it
        t = special.stdtrit(n - 1.0, 1 - ALPHA / (2 * pairs)) + special.stdtrit(n - 1.0, TELL_POWER)
        wanted = min(MOST_TOLD, max(MIN_FOR_CLAIM, int(np.ceil((float(t) * spread / np.log1p(share)) ** 2))))
        if wanted == n:
            break
        n = wanted
    return n


def geometric_mean(values: Sequence[float]) -> float:
    """The mean on the logarithm, of positive values: what ratios are of."""
    return float(np.exp(np.log(np.asarray(values, dtype=np.float64)).mean()))


def geometric_interval(values: Sequence[float], widening: float = 1.0) -> Interval:
    """The geometric mean of repeats, with Student's 95% interval of its logarithm from six repeats on, else the range.

    Args:
        values: Positive figures, shape (repeats,).
        widening: How many times as large the mean's error is as that of independent repeats (`Waves.widening`).

    Raises:
        ValueError: No values, or some that are not positive.
    """
    logs = _logs(values)
    n = len(logs)
    if n < MIN_FOR_INTERVAL:
        low, high = np.exp([logs.min(), logs.max()])
        return Interval(float(np.exp(logs.mean())), float(low), float(high), "range", n)
    return replace(_student(float(logs.mean()), widening * float(logs.std(ddof=1)) / n**0.5, n - 1.0, n), p=1.0)


def holm(p: Sequence[float]) -> list[float]:
    """p values adjusted for their number: each below 5% is a claim, and any of them is wrong with 5% at most."""
    order = sorted(range(len(p)), key=lambda i: p[i])
    out, so_far = [1.0] * len(p), 0.0
    for rank, i in enumerate(order):
        so_far = max(so_far, min(1.0, p[i] * (len(p) - rank)))
        out[i] = so_far
    return out


def significantly_different(
    columns: Columns, at: int, *, strata: Strata = (), alpha: float = ALPHA, family: int | None = None
) -> npt.NDArray[np.bool_]:
    """Which cells are clearly apart from one of them, when all are held against each other; shape (cells,).

    All pairs of a randomized block design. The error is that of all pairs of the same kind (`pairs_error`), or of the
    pair's own differences where that is larger: a cell that is noisier than the others is not told apart by their
    quietness.

    Args:
        columns: Positive figures, shape (cells, blocks); three or more blocks.
        at: The cell the others are held against; it may have been chosen for being the best.
        strata: What each cell was measured with.
        alpha: The chance that any of them is wrong.
        family: Cells that were held against each other, where these are what is left of them.
    """
    from scipy import special

    cells = family or len(columns)
    distance, error, df = _errors(columns, np.full(len(columns), at), np.arange(len(columns)), strata)
    critical = special.stdtrit(df, 1 - alpha / (cells * (cells - 1)))
    apart: npt.NDArray[np.bool_] = distance > np.maximum(critical * error, 1e-12)
    return apart


def bound_behind_best(
    columns: Columns, at: int, *, strata: Strata = (), alpha: float = ALPHA, family: int | None = None
) -> Columns:
    """How far each cell may be behind the best of them, as a share of its own figure; shape (cells,).

    One-sided bounds against the cell that looks best (Hsu 1984, multiple comparisons with the best): all hold together.

    Args:
        columns: Positive figures, shape (cells, blocks); three or more blocks.
        at: The cell that looks best.
        strata: What each cell was measured with.
        alpha: The chance that any of them is wrong.
        family: Cells that were held against each other, where these are what is left of them.
    """
    from scipy import special

    distance, error, df = _errors(columns, np.full(len(columns), at), np.arange(len(columns)), strata)
    critical = special.stdtrit(df, 1 - alpha / max(1, (family or len(columns)) - 1))
    bounds: Columns = np.expm1(distance + critical * error)
    return bounds


def paired_ratios(columns: Columns, pairs: Sequence[tuple[int, int]]) -> list[Interval]:
    """`paired_ratio` of many pairs of cells at once, the first over the second.

    Args:
        columns: Positive figures, shape (cells, blocks); three or more blocks.
        pairs: Places of the cells.
    """
    from scipy import special

    if not pairs:
        return []
    logs, n = np.log(columns), columns.shape[1]
    a, b = np.array(pairs).T
    difference = logs[a] - logs[b]
    mean, error = difference.mean(axis=1), difference.std(axis=1, ddof=1) / n**0.5
    half = float(special.stdtrit(n - 1.0, 1 - ALPHA / 2)) * error
    t = np.where(error > 1e-12, np.abs(mean) / np.maximum(error, 1e-12), np.where(np.abs(mean) > 1e-12, np.inf, 0.0))
    p = 2 * special.stdtr(n - 1.0, -t)
    half = np.where(error > 1e-12, half, 0.0)
    rows = np.column_stack([np.exp(mean), np.exp(mean - half), np.exp(mean + half), p, error]).tolist()
    return [Interval(value, low, high, "interval95", n, chance, of, n - 1.0) for value, low, high, chance, of in rows]


def pairs_p(columns: Columns, pairs: Sequence[tuple[int, int]], strata: Strata = ()) -> list[float]:
    """The p value of the difference of each pair of cells, not adjusted for their number.

    The error is as in `significantly_different`: that of all cells together keeps three repeats that happen to agree
    from looking like certainty.

    Args:
        columns: Positive figures, shape (cells, blocks); three or more blocks.
        pairs: Places of the cells.
        strata: What each cell was measured with.
    """
    from scipy import special

    if not pairs:
        return []
    distance, error, df = pairs_error(columns, pairs, strata)
    t = np.where(error > 1e-12, distance / error, np.where(distance > 1e-12, np.inf, 0.0))
    return [float(p) for p in 2 * special.stdtr(df, -t)]


def pairs_error(
    columns: Columns, pairs: Sequence[tuple[int, int]], strata: Strata = ()
) -> tuple[Columns, Columns, Columns]:
    """How far the cells of each pair are apart on the logarithm, its standard error, and the degrees of freedom.

    Args:
        columns: Positive figures, shape (cells, blocks).
        pairs: Places of the cells; at least one pair.
        strata: What each cell was measured with.
    """
    a, b = np.array(pairs).T
    distance, error, df = _errors(columns, a, b, strata)
    return distance, np.maximum(error, 1e-12), df


def _errors(
    columns: Columns, a: npt.NDArray[np.int64], b: npt.NDArray[np.int64], strata: Strata
) -> tuple[Columns, Columns, Columns]:
    """Of each pair the distance on the logarithm, the standard error of that, and the error's degrees of freedom."""
    logs = np.log(columns)
    means = logs.mean(axis=1)
    levels = _levels(len(logs), strata)
    variances, dfs = _variances(logs, levels)
    own = (logs[a] - logs[b]).var(axis=1, ddof=1) / 2
    # The outermost level on which the two differ; a cell and itself differ on none, and are no distance apart.
    at = np.argmax(np.stack([level[a] != level[b] for level in levels]), axis=0)
    return np.abs(means[a] - means[b]), np.sqrt(2 * np.maximum(variances[at], own) / logs.shape[1]), dfs[at]


def _levels(cells: int, strata: Strata) -> list[npt.NDArray[np.int64]]:
    """Numbers of what the cells were measured with, outermost first; the last level is the cells themselves."""
    depth = len(strata[0]) if strata else 0
    out = []
    for i in range(depth):
        number: dict[tuple[Hashable, ...], int] = {}
        out.append(np.array([number.setdefault(tuple(each[: i + 1]), len(number)) for each in strata]))
    return [*out, np.arange(cells)]


def _variances(logs: Columns, levels: Sequence[npt.NDArray[np.int64]]) -> tuple[Columns, Columns]:
    """The variance of one repeat of a cell beside one that differs from it on each level, and its degrees of freedom.

    A nested analysis of variance by unweighted means, in which what differs on a level differs on all below it; degrees
    of freedom of a sum of mean squares by Satterthwaite (1946). Where nothing is shared it is the residual of the block
    design.
    """
    blocks = logs.shape[1]
    squares, dfs, weights = np.zeros(len(levels)), np.zeros(len(levels)), np.zeros(len(levels))
    below, inside = logs, levels[-1]
    for at in range(len(levels) - 1, -1, -1):
        parents = np.zeros(len(below), dtype=np.int64)
        if at:
            parents[inside] = levels[at - 1]
        children = np.bincount(parents)
        above = np.zeros((len(children), blocks))
        np.add.at(above, parents, below)
        above /= children[:, None]
        rest = below - above[parents]
        rest = rest - rest.mean(axis=1, keepdims=True)
        dfs[at] = (len(below) - len(children)) * (blocks - 1)
        squares[at] = float((rest**2).sum()) / max(dfs[at], 1)
        weights[at] = 1 - float((1 / children).mean()) if at else 1.0
        below, inside = above, levels[at - 1]
    # Two that differ on a level: its own mean square whole, and of each level below what its means have averaged out.
    terms = [np.concatenate([squares[at : at + 1], (weights * squares)[at + 1 :]]) for at in range(len(levels))]
    variances = np.array([float(each.sum()) for each in terms])
    free = [float((each**2 / np.maximum(dfs[at:], 1)).sum()) for at, each in enumerate(terms)]
    fewest = blocks - 1.0
    found = [max(v**2 / f, fewest) if f > 0 else fewest for v, f in zip(variances, free, strict=True)]
    return variances, np.array(found)
