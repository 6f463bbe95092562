"""Sizes of the model a cell was measured with: of its file, of a weight, of its KV cache."""

from __future__ import annotations

from zinc_kettle.core.facts import EngineFacts
from zinc_kettle.core.measures.kinds import Group, Measure, OfFacts
from zinc_kettle.core.plan.study import Cell
from zinc_kettle.core.record.repeat import Figure, Missing
from zinc_kettle.core.storage_types import CACHE_TYPES

NOT_KNOWN = Missing("the model's file was not read here")
GROUP = Group("model", together="sizes of the model")


def file_size(facts: EngineFacts, _: Cell) -> Figure:
    """Bytes of the model's file; of its weights where no file was read here, as on simulated rigs."""
    size = facts.get("file", {}).get("size_bytes") or facts.get("model", {}).get("weights_bytes")
    return NOT_KNOWN if size is None else float(size)


def bits_per_weight(facts: EngineFacts, _: Cell) -> Figure:
    """Bits a weight takes in the mean, over all tensors of the file."""
    model = facts.get("model", {})
    weights = model.get("weights", 0)
    return 8.0 * model["weights_bytes"] / weights if weights and "weights_bytes" in model else NOT_KNOWN


def cache_size(facts: EngineFacts, cell: Cell) -> Figure:
    """Bytes of the KV cache where the whole context is filled, at its precision; windowed layers keep their window."""
    model = facts.get("model", {})
    context, precision = cell.level("context"), CACHE_TYPES.get(str(cell.level("cache-precision") or "f16"))
    if "kv_bytes_per_token_f16" not in model or precision is None:
        return NOT_KNOWN
    if context is None:
        return Missing("the context's length is not set")
    windowed = model.get("kv_windowed_per_token_f16", 0.0)
    tokens, kept = float(context), float(min(int(context), model.get("window", int(context))))
    full = model["kv_bytes_per_token_f16"] - windowed
    return (full * tokens + windowed * kept) * precision.bits_per_weight / 16


MEASURES = (
    Measure(
        "file_size",
        "model file",
        "bytes",
        "less",
        GROUP,
        "size of the model's file; of its weights where no file was read here",
        OfFacts(file_size),
    ),
    Measure(
        "bits_per_weight",
        "bits per weight",
        "bits",
        "less",
        GROUP,
        "bits of a weight in the mean, over all tensors of the file",
        OfFacts(bits_per_weight),
        mistakes="Files of one quantization differ in it: some tensors are always kept at higher precision.",
    ),
    Measure(
        "cache_size",
        "KV cache, full",
        "bytes",
        "less",
        GROUP,
        "the KV cache where the whole context is filled, at its precision",
        OfFacts(cache_size),
        mistakes="Computed from the model's shape, not measured.",
    ),
)
