"""A model as people say it, without a file: `70b at 4 bits`, `8b Q4_K_M`; in the shape that models of its size have.

Layers and widths are those of the usual open decoders of a size, the feed-forward part is made to meet the weights that
were said. A mix stores part of the matrices at a higher type: the shares below give its usual bits per weight.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass, replace

from zinc_kettle.core.model_shape import ModelShape, TensorGroup, from_sizes
from zinc_kettle.core.problem import nearest
from zinc_kettle.core.storage_types import LADDER, STORAGE_TYPES

SAID = re.compile(r"\s*(?P<size>\d+(?:\.\d+)?)\s*b(?:illion)?\b(?:\s*(?:at|@|,)?\s*(?P<stored>.+?))?\s*", re.IGNORECASE)
BITS = re.compile(r"(?P<bits>\d+(?:\.\d+)?)\s*bits?", re.IGNORECASE)
LEAST, MOST = 0.05, 5_000.0
"""Billions of weights that a model may have."""


@dataclass(frozen=True, slots=True)
class _Usual:
    layers: int
    heads: int
    kv_heads: int
    head_dim: int
    vocab: int


_USUAL: tuple[tuple[float, _Usual], ...] = (
    (0.5, _Usual(24, 14, 2, 64, 128_000)),
    (1.2, _Usual(16, 32, 8, 64, 128_000)),
    (3.2, _Usual(28, 24, 8, 128, 128_000)),
    (8.0, _Usual(32, 32, 8, 128, 128_000)),
    (14.0, _Usual(40, 40, 8, 128, 128_000)),
    (32.0, _Usual(64, 40, 8, 128, 128_000)),
    (70.0, _Usual(80, 64, 8, 128, 128_000)),
    (120.0, _Usual(88, 96, 8, 128, 128_000)),
    (400.0, _Usual(126, 128, 8, 128, 128_000)),
)
"""By billions of weights."""
MIXES: dict[str, tuple[str, str, float]] = {
    "Q2_K_M": ("Q2_K", "Q4_K", 0.25),
    "Q3_K_S": ("Q3_K", "Q6_K", 0.03),
    "Q3_K_M": ("Q3_K", "Q5_K", 0.23),
    "Q3_K_L": ("Q3_K", "Q5_K", 0.40),
    "Q4_K_S": ("Q4_K", "Q5_K", 0.08),
    "Q4_K_M": ("Q4_K", "Q6_K", 0.17),
    "Q5_K_S": ("Q5_K", "Q6_K", 0.04),
    "Q5_K_M": ("Q5_K", "Q6_K", 0.17),
}
"""The type of most matrices, the one of the rest, and the rest's share of the weights."""


def said_model(text: str) -> ModelShape | None:
    """The shape of a model that is said; None where the text says none.

    Raises:
        ValueError: It says a model that cannot be, or a precision that is not known.
    """
    found = SAID.fullmatch(text)
    if found is None:
        return None
    size, stored = float(found["size"]), (found["stored"] or "").strip() or "F16"
    if not LEAST <= size <= MOST:
        raise ValueError(f"a model of {size:g} billion weights is not one that can be laid out")
    return replace(mixed(_of_size(size), _named(stored)), name=f"{size:g}b {_named(stored)}")


def _named(stored: str) -> str:
    """The storage type or mix that is meant."""
    bits = BITS.fullmatch(stored)
    if bits is not None:
        return min(LADDER, key=lambda name: abs(STORAGE_TYPES[name].bits_per_weight - float(bits["bits"]) - 0.4))
    known = {name.upper(): name for name in (*STORAGE_TYPES, *MIXES)}
    if stored.upper() not in known:
        raise ValueError(f"{stored[:40]!r} is no precision; try {nearest(stored, [*LADDER, *MIXES])}")
    return known[stored.upper()]


def _of_size(size: float) -> ModelShape:
    _, usual = min(_USUAL, key=lambda row: abs(math.log(row[0] / size)))
    layers = max(1, round(usual.layers * min(1.0, (size / 0.3))))

    def made(ffn: int) -> ModelShape:
        return from_sizes(
            layers=layers,
            heads=usual.heads,
            kv_heads=usual.kv_heads,
            head_dim=usual.head_dim,
            ffn=ffn,
            vocab=usual.vocab if size >= 1 else usual.vocab // 4,
            tied=size < 2,
        )

    step = 256
    least, more = made(step).weights, made(2 * step).weights - made(step).weights
    return made(max(step, step + round((size * 1e9 - least) / more) * step))


def mixed(shape: ModelShape, stored: str) -> ModelShape:
    """The same model with its matrices at a storage type, or at a mix of two."""
    if stored in STORAGE_TYPES:
        return shape.at(stored)
    base, higher, share = MIXES[stored]
    groups: list[TensorGroup] = []
    for low, high in zip(shape.at(base).groups, shape.at(higher).groups, strict=True):
        if low.kind == "norm":
            groups.append(low)
            continue
        # The output matrix is the first that a mix stores better.
        part = low.weights if low.kind == "output" else round(low.weights * share)
        kept = round(low.size_bytes * (1 - part / low.weights))
        groups += [replace(low, weights=low.weights - part, size_bytes=kept)] if part < low.weights else []
        groups += [
            replace(high, weights=part, size_bytes=high.size_bytes - round(high.size_bytes * (1 - part / high.weights)))
        ]
    return replace(shape, groups=tuple(groups), label=stored)
