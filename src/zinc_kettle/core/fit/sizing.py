"""How much memory a model needs: weights exactly, KV cache by its formula, working buffers by a fitted one.

Formulas, fit and error: docs/fit.md.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from zinc_kettle.core.model_shape import ModelShape
from zinc_kettle.core.plan.factors import Level
from zinc_kettle.core.plan.recipe import SettingRole
from zinc_kettle.core.storage_types import CACHE_TYPES

DEPTH_SHARE = 0.5
"""Speed is predicted with the context half full, where it is not known how full it will be."""
CONTEXT_STEP = 256
"""The engine rounds each slot's cells up to this."""
ACTIVATION_WIDTHS, ACTIVATION_FFNS = 5, 3
"""Floats of working memory for each token of a micro-batch, in model widths and in feed-forward sizes. Fitted on 17
shapes (width 256 to 3,072): the engine's own report is met within 0.2% in every one."""
CAST_WIDTHS = 6
"""The same while attention reads a cache of full precision, which is first copied to half precision."""
ENGINE_BYTES = 9_000_000
"""What a server of the engine needs beside model and cache: vocabulary, threads, HTTP. 8.5 to 10.5 MB measured."""
ENGINE_SLOT_BYTES = 180_000
REQUEST_BYTES = 1_500_000
"""What answering a request adds: prompt as text, template, streaming. 0 to 2.7 MB measured over 60 launches."""
ALL_LAYERS = 10_000
"""More than any model has."""
REPACKED = frozenset({"Q4_0", "Q4_K", "IQ4_NL"})
"""Types the engine copies into another layout on a processor with AVX2; a mapped file then counts twice."""


@dataclass(frozen=True, slots=True)
class LaunchSettings:
    """How a model is to be run."""

    context: int = 2048
    """Tokens per slot."""
    slots: int = 1
    cache: str = "f16"
    batch: int = 2048
    micro_batch: int = 512
    unified: bool = False
    """All slots share one KV cache of context × slots cells, instead of one each."""
    load_mode: str = "mapped"
    device_layers: int | None = None
    """Layers put on fast devices; None puts as many as fit."""
    expert_layers_in_main: int = 0
    """So many of the first layers keep their experts in main memory."""
    repacked: bool = True
    """Weights of some types are copied into another layout."""


def wish_of(roles: Mapping[SettingRole, Level]) -> LaunchSettings:
    """How a model is run by an engine with these settings, by what they mean; the usual where one is not set."""
    layers = roles.get("device-layers")
    numbers: dict[SettingRole, str] = {
        "context": "context",
        "slots": "slots",
        "batch": "batch",
        "micro-batch": "micro_batch",
    }
    given = {name: int(level) for role, name in numbers.items() if (level := roles.get(role))}
    return LaunchSettings(
        **given,
        cache=str(roles.get("cache-precision", "f16")),
        load_mode=str(roles.get("load-mode", "mapped")),
        unified=bool(roles.get("one-cache", False)),
        device_layers=None if layers is None else int(layers),
        expert_layers_in_main=ALL_LAYERS
        if roles.get("experts-in-main")
        else int(roles.get("expert-layers-in-main") or 0),
        repacked=bool(roles.get("repacking", True)),
    )


@dataclass(frozen=True, slots=True)
class Sizes:
    """Bytes by what they are for."""

    weights_bytes: int
    kv_bytes: int
    buffers_bytes: int
    """Working memory of one device: activations and the attention mask, and the logits."""
    engine_bytes: int
    """What the engine's process needs for itself."""
    repacked_bytes: int
    """Weights held a second time, in another layout; resident beside the mapped file."""

    @property
    def total_bytes(self) -> int:
        """Resident while requests are answered, with the mapped file's pages as long as nothing else wants memory."""
        return self.loaded_bytes + self.buffers_bytes + REQUEST_BYTES

    @property
    def loaded_bytes(self) -> int:
        """Resident after the load: buffers are set aside by then, but not yet touched."""
        return self.weights_bytes + self.repacked_bytes + self.kv_bytes + self.engine_bytes


def sizes(shape: ModelShape, wish: LaunchSettings) -> Sizes:
    """All sizes of a model run as wished."""
    return Sizes(
        weights_bytes=shape.weights_bytes,
        kv_bytes=kv_bytes(shape, wish),
        buffers_bytes=buffers_bytes(shape, wish),
        engine_bytes=ENGINE_BYTES + ENGINE_SLOT_BYTES * wish.slots,
        repacked_bytes=_repacked(shape) if wish.load_mode == "mapped" and wish.repacked else 0,
    )


def cells(context: int) -> int:
    """Cells the engine sets aside for a context: rounded up."""
    return -(-context // CONTEXT_STEP) * CONTEXT_STEP


def layer_kv_bytes(shape: ModelShape, wish: LaunchSettings) -> list[int]:
    """KV cache of each layer.

    cells × KV heads × (key size × bytes + value size × bytes), for every slot, or once over all where the cache is
    unified. A windowed layer keeps no more than its window and the micro-batch that is being written.
    """
    kind = CACHE_TYPES[wish.cache]
    streams = 1 if wish.unified else wish.slots
    whole = cells(wish.context * (wish.slots if wish.unified else 1))
    seen = (shape.window or 0) * (wish.slots if wish.unified else 1) + wish.micro_batch
    short = min(whole, cells(seen))
    out = []
    for layer, heads in enumerate(shape.kv_heads):
        kept = short if shape.window and shape.windowed and shape.windowed[layer] else whole
        out.append(streams * kept * (kind.size_bytes(heads * shape.key_dim) + kind.size_bytes(heads * shape.value_dim)))
    return out


def kv_bytes(shape: ModelShape, wish: LaunchSettings) -> int:
    """KV cache of all layers."""
    return sum(layer_kv_bytes(shape, wish))


def buffers_bytes(shape: ModelShape, wish: LaunchSettings, *, depth: int | None = None) -> int:
    """Working memory, as the engine sets it aside; or what of it is touched up to a depth.

    micro-batch × (5 widths + 3 feed-forward sizes) floats, and a mask of context × micro-batch half-precision numbers;
    or, where it is more, the copies of a full-precision cache. With experts the feed-forward size is that of the
    active ones together, which is not fitted.
    """
    tokens = min(wish.micro_batch, wish.batch, wish.context * wish.slots)
    wide = cells(wish.context * (wish.slots if wish.unified else 1))
    if depth is not None:
        wide = min(wide, cells(depth))
    ffn = shape.ffn * max(1, shape.experts_active)
    mask = wide * tokens * 2
    usual = tokens * (ACTIVATION_WIDTHS * shape.width + ACTIVATION_FFNS * ffn) * 4 + mask
    if wish.cache == "f32":
        streams = 1 if wish.unified else wish.slots
        heads = max(shape.kv_heads, default=0)
        copies = streams * wide * heads * (shape.key_dim + shape.value_dim) * 2
        usual = max(usual, copies + mask + tokens * CAST_WIDTHS * shape.width * 4)
    return usual + shape.vocab * wish.slots * 4


def _repacked(shape: ModelShape) -> int:
    return sum(g.size_bytes for g in shape.groups if g.type in REPACKED and g.kind != "embedding")
