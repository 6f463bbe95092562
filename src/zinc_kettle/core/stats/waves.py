"""How a run's blocks wander, from all of its cells together, and how much wider that makes the bounds of one cell.

Repeats of a cell that remember the one before tell less than so many independent ones. How much they remember is one
number for all cells of a run: the first autocorrelation, pooled over cells and corrected for the mean having been taken
out (Marriott and Pope 1954). The bounds are widened as for a first-order process. Waves that are as long as the run can
not be seen from within it but by their beginning: where the run's blocks, averaged over all its cells, show any memory,
or are fewer than twenty, its bounds say no more than what the machine did in this run.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

SEEN_BLOCKS = 20
"""With fewer, long waves and a steady machine look alike (docs/claims.md)."""
STEADY = 0.5
"""Standard errors that the memory of a run's blocks stays below, where the machine is said to be steady."""
MOST_SHORT, MOST = 0.6, 0.95
"""The strongest memory that is believed of fewer than SEEN_BLOCKS blocks, and of any number: an estimate from few
repeats is very uncertain, and the bounds then say 'this run' anyway."""
ASSUMED = 0.5
"""The memory of a run of fewer than five repeats, where it is held against another one."""
SURE = 0.7
"""Standard errors from which on a memory that is seen is taken to be there, and then one of them is added to it."""


@dataclass(frozen=True, slots=True)
class Waves:
    """What is known of the blocks of a run."""

    memory: float | None = None
    """First autocorrelation of a cell's repeats, the mean taken out; None where too few repeats can tell."""

    def widening(self, n: int) -> float:
        """How many times as wide the bounds of a cell with n repeats are as those of independent ones."""
        if self.memory is None or n < 5:
            return 1.0
        raised = self.memory + 1 / n
        if n < SEEN_BLOCKS:
            return _widening(float(np.clip(raised / (1 - 3 / n), 0.0, MOST_SHORT)), n)
        return _widening(self._believed(n), n)

    def apart(self, n: int) -> float:
        """How many times as wide the error of a cell's mean is, where it is held against another run.

        There even waves that are longer than the run are part of the difference, so that what few repeats suggest of
        them is believed, and some memory is assumed where there are too few to tell.
        """
        if self.memory is None or n < 5:
            return _widening(ASSUMED, n)
        return _widening(self._believed(n), n)

    def _believed(self, n: int) -> float:
        """The memory with its bias taken out, and one standard error added where it is there."""
        raised, error = self.memory + 1 / n if self.memory is not None else 0.0, n**-0.5
        found = raised / (1 - 4 / n) + (error if raised > SURE * error else 0.0)
        return float(np.clip(found, 0.0, MOST)) if raised > 0 else 0.0


Memory = tuple[float, float]
"""Of one cell: its first autocorrelation times its repeats less one, and these; both 0 where it tells nothing."""


def memory_of(row: Sequence[float]) -> Memory:
    """What the repeats of one cell tell, in the order they ran; on the logarithm where all are positive."""
    if len(row) < 3:
        return 0.0, 0.0
    values = np.asarray(row, dtype=np.float64)
    values = np.log(values) if values.min() > 0 else values
    rest = values - values.mean()
    squares = float(rest @ rest)
    weight = len(row) - 1.0
    return (float(rest[1:] @ rest[:-1]) / squares * weight, weight) if squares > 0 else (0.0, 0.0)


def pooled(memories: Iterable[Memory]) -> Waves:
    """From what all cells of a run tell of a measure."""
    above = below = 0.0
    for one, weight in memories:
        above, below = above + one, below + weight
    return Waves(above / below if below else None)


def waves(rows: Sequence[Sequence[float]]) -> Waves:
    """From a measure of all cells of a run, each in the order its repeats ran."""
    return pooled(map(memory_of, rows))


def _widening(rho: float, n: int) -> float:
    """Of the standard error of a mean of n values of a first-order process, over what their own spread suggests."""
    if n < 2:
        return 1.0
    lags = np.arange(1, n)
    share = float(1 + 2 * ((1 - lags / n) * rho**lags).sum()) / n
    return max(1.0, float((n * share / (n / (n - 1) * (1 - share))) ** 0.5))


def steady(rows: Sequence[Mapping[int, float]]) -> bool:
    """True where a run has seen that its machine does not wander: twenty blocks or more whose means, over all cells,
    show no memory.

    Averaged over cells the blocks have little noise of their own, which would hide a slow wave.

    Args:
        rows: Of each cell a positive measure by block.
    """
    sums: dict[int, list[float]] = {}
    for row in rows:
        middle = sum(map(math.log, row.values())) / len(row) if row else 0.0
        for block, value in row.items():
            sums.setdefault(block, []).append(math.log(value) - middle)
    means = np.array([sum(sums[block]) / len(sums[block]) for block in sorted(sums)])
    n = len(means)
    if n < SEEN_BLOCKS:
        return False
    rest = means - means.mean()
    squares = float(rest @ rest)
    return squares <= 0 or float(rest[1:] @ rest[:-1]) / squares + 1 / n < STEADY / n**0.5
