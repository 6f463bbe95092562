"""What a model is made of, as far as memory and speed go: layers, heads, and its tensors by kind, layer and type."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from typing import Literal

from zinc_kettle.core.storage_types import STORAGE_TYPES, StorageType

TensorKind = Literal["embedding", "output", "attention", "feed-forward", "experts", "norm", "other"]
KINDS: tuple[TensorKind, ...] = ("embedding", "output", "attention", "feed-forward", "experts", "norm", "other")


@dataclass(frozen=True, slots=True)
class TensorGroup:
    """Tensors of one kind, one layer and one storage type, added up."""

    kind: TensorKind
    layer: int | None
    """Layer counted from 0; None for what belongs to no layer."""
    type: str
    weights: int
    size_bytes: int


@dataclass(frozen=True, slots=True)
class ModelShape:
    """A model without its weights."""

    name: str
    architecture: str
    layers: int
    width: int
    heads: int
    kv_heads: tuple[int, ...]
    """One entry a layer; 0 for a layer without attention."""
    key_dim: int
    value_dim: int
    ffn: int
    vocab: int
    context_length: int | None = None
    experts: int = 0
    experts_active: int = 0
    window: int | None = None
    """Tokens a windowed layer looks back."""
    windowed: tuple[bool, ...] = ()
    """One entry a layer; empty where none is windowed."""
    label: str | None = None
    """The quantization the file claims, which is only a label."""
    tokenizer: str | None = None
    tied: bool = False
    """The output matrix is the input embedding."""
    groups: tuple[TensorGroup, ...] = ()
    notes: tuple[str, ...] = field(default=())
    """What could not be read for certain, in plain sentences."""

    @property
    def weights(self) -> int:
        """Number of weights."""
        return sum(g.weights for g in self.groups)

    @property
    def weights_bytes(self) -> int:
        """Bytes of all tensors, exactly as stored."""
        return sum(g.size_bytes for g in self.groups)

    @property
    def bits_per_weight(self) -> float:
        """Bits a weight takes in the mean, as really stored."""
        return 8 * self.weights_bytes / self.weights if self.weights else 0.0

    def bits_by_kind(self) -> dict[TensorKind, float]:
        """Bits per weight of each kind of tensor that the model has."""
        size: dict[TensorKind, int] = defaultdict(int)
        count: dict[TensorKind, int] = defaultdict(int)
        for g in self.groups:
            size[g.kind] += g.size_bytes
            count[g.kind] += g.weights
        return {kind: 8 * size[kind] / count[kind] for kind in KINDS if count.get(kind)}

    def bytes_of(self, *kinds: TensorKind) -> int:
        """Bytes of all tensors of these kinds."""
        return sum(g.size_bytes for g in self.groups if g.kind in kinds)

    @property
    def main_type(self) -> str:
        """The storage type most weights have."""
        count: dict[str, int] = defaultdict(int)
        for g in self.groups:
            count[g.type] += g.weights
        return max(count, key=lambda name: count[name]) if count else "?"

    def at(self, quantization: str) -> ModelShape:
        """The same model with every matrix stored as `quantization`; norms stay as they are.

        Raises:
            KeyError: No such storage type.
        """
        kind = STORAGE_TYPES[quantization]
        groups = tuple(g if g.kind == "norm" else _stored(g, kind) for g in self.groups)
        return replace(self, groups=groups, label=quantization)


def _stored(group: TensorGroup, kind: StorageType) -> TensorGroup:
    return replace(group, type=kind.name, size_bytes=kind.size_bytes(group.weights))


def add_up(tensors: Iterable[TensorGroup]) -> tuple[TensorGroup, ...]:
    """Add up tensors that share kind, layer and type, in the order they first came."""
    sums: dict[tuple[TensorKind, int | None, str], list[int]] = {}
    for t in tensors:
        total = sums.setdefault((t.kind, t.layer, t.type), [0, 0])
        total[0] += t.weights
        total[1] += t.size_bytes
    return tuple(TensorGroup(kind, layer, name, w, b) for (kind, layer, name), (w, b) in sums.items())


def from_sizes(
    *,
    layers: int,
    heads: int,
    kv_heads: int | None = None,
    head_dim: int | None = None,
    width: int | None = None,
    ffn: int,
    vocab: int,
    weight_type: str = "F16",
    gated: bool = True,
    tied: bool = False,
    experts: int = 0,
    experts_active: int = 0,
    window: int | None = None,
    window_every: int = 1,
    name: str = "given by its shape",
) -> ModelShape:
    """A transformer decoder from its sizes, every matrix at one storage type, norms F32.

    Args:
        layers: Number of layers.
        heads: Attention heads.
        kv_heads: Heads of the KV cache; the same as `heads` where not given.
        head_dim: Size of a head; width / heads where not given.
        width: Size of a token's vector; heads × head_dim where not given.
        ffn: Size of the feed-forward part, of one expert where there are experts.
        vocab: Tokens of the vocabulary.
        weight_type: Storage type of the matrices.
        gated: Three feed-forward matrices instead of two.
        tied: The output matrix is the input embedding.
        experts: Experts in each layer; 0 for none.
        experts_active: Experts that work on one token.
        window: Tokens a windowed layer looks back.
        window_every: Each layer is windowed but every so-manyth; 1 makes all of them windowed.
        name: What it is called.

    Raises:
        ValueError: Neither width nor head size is given, or a number is out of range.
    """
    if head_dim is None and width is None:
        raise ValueError("give head-dim or width")
    head = head_dim if head_dim is not None else int(width or 0) // heads
    wide = width if width is not None else heads * head
    kv = heads if kv_heads is None else kv_heads
    if min(layers, heads, kv, head, wide, ffn, vocab) < 1 or experts_active > experts:
        raise ValueError("every size must be at least 1, and no more experts active than there are")
    kind = STORAGE_TYPES[weight_type]
    matrices = 3 if gated else 2

    def group(what: TensorKind, layer: int | None, rows: int, columns: int) -> TensorGroup:
        if what == "norm":
            return TensorGroup(what, layer, "F32", rows * columns, 4 * rows * columns)
        return TensorGroup(what, layer, kind.name, rows * columns, rows * kind.size_bytes(columns))

    parts = [group("embedding", None, vocab, wide)]
    for layer in range(layers):
        parts += [group("norm", layer, 2, wide), group("attention", layer, heads * head, wide)]
        parts += [group("attention", layer, 2 * kv * head, wide), group("attention", layer, wide, heads * head)]
        if experts:
            parts += [group("experts", layer, experts * matrices * ffn, wide)]
            parts += [TensorGroup("feed-forward", layer, "F32", experts * wide, 4 * experts * wide)]
        else:
            parts += [group("feed-forward", layer, (matrices - 1) * ffn, wide), group("feed-forward", layer, wide, ffn)]
    parts.append(group("norm", None, 1, wide))
    if not tied:
        parts.append(group("output", None, vocab, wide))
    # With every n-th layer looking at everything, that is the last of each n.
    windowed = tuple(window_every == 1 or (i + 1) % window_every != 0 for i in range(layers)) if window else ()
    return ModelShape(
        name=name,
        architecture="given",
        layers=layers,
        width=wide,
        heads=heads,
        kv_heads=(kv,) * layers,
        key_dim=head,
        value_dim=head,
        ffn=ffn,
        vocab=vocab,
        experts=experts,
        experts_active=experts_active,
        window=window,
        windowed=windowed,
        label=weight_type,
        tied=tied,
        groups=add_up(parts),
    )
