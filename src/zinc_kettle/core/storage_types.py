"""Storage types of weights: how many weights share a block, and how many bytes a block takes.

Source: the published GGUF specification and the block layouts of its reference implementation.
"""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class StorageType:
    """How weights are stored."""

    name: str
    number: int
    """The type's number in a GGUF file; −1 where it is not one of its types."""
    block_weights: int
    block_bytes: int

    @property
    def bits_per_weight(self) -> float:
        """Bits a weight takes, scales included."""
        return self.block_bytes * 8 / self.block_weights

    def size_bytes(self, weights: int) -> int:
        """Bytes of `weights` weights; rows are whole blocks, so that this is exact for whole rows."""
        return -(-weights // self.block_weights) * self.block_bytes


_ALL = (
    StorageType("F32", 0, 1, 4),
    StorageType("F16", 1, 1, 2),
    StorageType("BF16", 30, 1, 2),
    StorageType("F64", 28, 1, 8),
    StorageType("I8", 24, 1, 1),
    StorageType("I16", 25, 1, 2),
    StorageType("I32", 26, 1, 4),
    StorageType("I64", 27, 1, 8),
    StorageType("Q8_0", 8, 32, 34),
    StorageType("Q8_1", 9, 32, 36),
    StorageType("Q5_0", 6, 32, 22),
    StorageType("Q5_1", 7, 32, 24),
    StorageType("Q4_0", 2, 32, 18),
    StorageType("Q4_1", 3, 32, 20),
    StorageType("Q6_K", 14, 256, 210),
    StorageType("Q5_K", 13, 256, 176),
    StorageType("Q4_K", 12, 256, 144),
    StorageType("Q3_K", 11, 256, 110),
    StorageType("Q2_K", 10, 256, 84),
    StorageType("Q8_K", 15, 256, 292),
    StorageType("IQ4_NL", 20, 32, 18),
    StorageType("IQ4_XS", 23, 256, 136),
    StorageType("IQ3_S", 21, 256, 110),
    StorageType("IQ3_XXS", 18, 256, 98),
    StorageType("IQ2_S", 22, 256, 82),
    StorageType("IQ2_XS", 17, 256, 74),
    StorageType("IQ2_XXS", 16, 256, 66),
    StorageType("IQ1_S", 19, 256, 50),
    StorageType("IQ1_M", 29, 256, 56),
    StorageType("TQ1_0", 34, 256, 54),
    StorageType("TQ2_0", 35, 256, 66),
    StorageType("MXFP4", 39, 32, 17),
    StorageType("F8", -1, 1, 1),
)
STORAGE_TYPES: dict[str, StorageType] = {t.name: t for t in _ALL}
BY_NUMBER: dict[int, StorageType] = {t.number: t for t in _ALL if t.number >= 0}

CACHE_TYPES: dict[str, StorageType] = {
    "f32": STORAGE_TYPES["F32"],
    "f16": STORAGE_TYPES["F16"],
    "q8_0": STORAGE_TYPES["Q8_0"],
    "q4_0": STORAGE_TYPES["Q4_0"],
}
"""Precisions of the KV cache, best first."""

LADDER = ("F16", "Q8_0", "Q6_K", "Q5_K", "Q5_0", "Q4_K", "Q4_0", "Q3_K", "Q2_K")
"""Quantizations from the best to the smallest, as far as bits tell; the order in which a best one is looked for."""
