"""What one token makes a machine read and unpack."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass

from zinc_kettle.core.facts import ModelFacts, TouchedFacts
from zinc_kettle.core.model_shape import ModelShape
from zinc_kettle.core.storage_types import CACHE_TYPES

UNPACK_COST: dict[str, float] = {"Q5_0": 1.6, "Q5_1": 1.6, "Q5_K": 1.4, "Q4_0": 0.7, "Q4_K": 0.7, "IQ4_NL": 0.7}
"""Cost of turning a stored weight into an operand, relative to F16, Q8_0 and Q6_K, which are alike. Five-bit types keep
their fifth bits apart; the four-bit ones are repacked for wide loads. Fitted on a 250 M model at one thread on one
processor with AVX2, and tried on others (docs/fit.md)."""

FUSED_COST: dict[str, float] = {"f32": 3.3, "q8_0": 0.8, "q4_0": 0.8}
"""Cost of a product of attention in one fused step, by the cache's precision, relative to f16. Seen with a 60 M model
at one thread on one processor with AVX2 (docs/fit.md)."""
APART_COST: dict[str, float] = {"f32": 0.6}
"""The same where attention is not fused; f16 where not named."""
APART_F16 = 0.35


@dataclass(frozen=True, slots=True)
class Touched:
    """Reads and work of one decoding step."""

    bytes: float
    """Weights read, with the KV cache of all streams at their depth."""
    operands: float
    """Weights unpacked and multiplied, each times its UNPACK_COST."""
    weights: float
    """The same without the cost; two operations each."""
    attention: float = 0.0
    """Products of attention, each times the cost of its kind: heads × (key + value size) of each layer, for each token
    of context it looks at."""

    def plain(self) -> TouchedFacts:
        """For keeping with a measurement."""
        return {"bytes": self.bytes, "operands": self.operands, "weights": self.weights}


def touched(shape: ModelShape, *, depth: float = 0.0, cache: str = "f16", streams: int = 1) -> Touched:
    """What one step of `streams` streams touches, each `depth` tokens deep.

    The input embedding is only looked up, one row per token, unless it is also the output matrix. Of the experts the
    expected number of distinct ones is read: E · (1 − (1 − k/E)^streams).

    Args:
        shape: Sizes of the model.
        depth: Tokens in context.
        cache: Precision of the KV cache, such as f16.
        streams: Streams decoding at once.
    """
    share = expert_share(shape, streams)
    size: dict[str, float] = defaultdict(float)
    count: dict[str, float] = defaultdict(float)
    for group in shape.groups:
        if group.kind == "embedding" and not shape.tied:
            continue
        part = share if group.kind == "experts" else 1.0
        size[group.type] += group.size_bytes * part
        count[group.type] += group.weights * part
    kv = kv_bytes_at(shape, depth, cache) * streams
    operands = sum(n * UNPACK_COST.get(name, 1.0) for name, n in count.items())
    attention = attention_at(shape, depth) * streams * attention_cost(cache)
    return Touched(sum(size.values()) + kv, operands, sum(count.values()), attention)


def expert_share(shape: ModelShape, streams: int = 1) -> float:
    """Share of the experts that one step reads."""
    if not shape.experts or not shape.experts_active:
        return 1.0
    return 1.0 - (1.0 - shape.experts_active / shape.experts) ** streams


def kv_bytes_at(shape: ModelShape, depth: float, cache: str) -> float:
    """KV cache that one step of one stream reads at a depth; windowed layers read no more than their window."""
    values = sum(seen * heads for seen, heads in zip(_looks_back(shape, depth), shape.kv_heads, strict=True))
    return values * (shape.key_dim + shape.value_dim) * CACHE_TYPES[cache].bits_per_weight / 8


def attention_cost(cache: str, *, fused: bool = True) -> float:
    """Cost of a product of attention relative to that of one fused step over a cache of f16.

    Args:
        cache: Precision of the KV cache.
        fused: Attention is one fused step, which engines usually choose by themselves.
    """
    return FUSED_COST.get(cache, 1.0) if fused else APART_COST.get(cache, APART_F16)


def attention_at(shape: ModelShape, depth: float) -> float:
    """Products of attention in one step of one stream at a depth; every head multiplies, however few share a cache."""
    looks = sum(seen for seen, heads in zip(_looks_back(shape, depth), shape.kv_heads, strict=True) if heads)
    return looks * shape.heads * (shape.key_dim + shape.value_dim)


def _looks_back(shape: ModelShape, depth: float) -> list[float]:
    """Tokens each layer looks back at: windowed ones no further than their window."""
    windowed = shape.windowed if shape.window and shape.windowed else (False,) * len(shape.kv_heads)
    return [min(depth, float(shape.window or 0)) if within else depth for within in windowed]


def describe(shape: ModelShape) -> ModelFacts:
    """What is kept of a model with each of its measurements, enough to compute limits and to calibrate by."""
    at_zero, at_one = touched(shape), touched(shape, depth=1.0)
    windowed: ModelFacts = {}
    if shape.window and any(shape.windowed):
        # Beyond the window only the other layers' cache grows.
        further = kv_bytes_at(shape, shape.window + 1.0, "f16") - kv_bytes_at(shape, float(shape.window), "f16")
        looks = attention_at(shape, shape.window + 1.0) - attention_at(shape, float(shape.window))
        windowed = {
            "kv_windowed_per_token_f16": at_one.bytes - at_zero.bytes - further,
            "window": shape.window,
            "attention_windowed_per_token": at_one.attention - looks,
        }
    return {
        **windowed,
        "name": shape.name,
        "architecture": shape.architecture,
        "layers": shape.layers,
        "weights": shape.weights,
        "weights_bytes": shape.weights_bytes,
        "main_type": shape.main_type,
        "touched": at_zero.plain(),
        "kv_bytes_per_token_f16": at_one.bytes - at_zero.bytes,
        "attention_per_token": at_one.attention,
        "experts_bytes": shape.bytes_of("experts"),
        "experts": shape.experts,
        "experts_active": shape.experts_active,
    }
