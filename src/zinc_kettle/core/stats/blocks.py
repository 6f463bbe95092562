"""Figures laid side by side in the blocks they share."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
import numpy.typing as npt

ByBlock = Mapping[int, float]
"""A figure in each block that has it."""


def shared_blocks(rows: Sequence[ByBlock]) -> list[int]:
    """The blocks that all of them have, in order; none where there are no rows."""
    return sorted(set(rows[0]).intersection(*rows[1:])) if rows else []


def in_blocks(rows: Sequence[ByBlock], blocks: Sequence[int]) -> npt.NDArray[np.float64]:
    """The figures in these blocks, which all rows have; shape (rows, blocks)."""
    return np.array([[row[block] for block in blocks] for row in rows], dtype=np.float64).reshape(
        len(rows), len(blocks)
    )
