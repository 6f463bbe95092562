"""The limit that memory bandwidth sets: a step cannot take less time than reading its bytes."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from zinc_kettle.core.energy import WALL
from zinc_kettle.core.stats import median
from zinc_kettle.core.storage_types import CACHE_TYPES


def share_of_limit(*, tokens_per_s: float, streams: int, step_bytes: float, bandwidth_bytes_per_s: float) -> float:
    """Measured decode over what memory bandwidth allows: throughput ÷ (bandwidth × streams ÷ bytes per step).

    Args:
        tokens_per_s: Output of all streams together.
        streams: Streams decoding at once.
        step_bytes: Weights and KV cache read in a step of all streams.
        bandwidth_bytes_per_s: The best read bandwidth measured, over thread counts.
    """
    return tokens_per_s * step_bytes / (bandwidth_bytes_per_s * streams)


def limit_extras(
    engine_facts: Mapping[str, Any], rig_facts: Mapping[str, Any], *, streams: int, cache: str
) -> dict[str, float]:
    """What is kept with a repeat so that its share of the limit can be computed, now and under later definitions.

    Args:
        engine_facts: What is known of the engine: `model` as core.fit.touched describes it, `placement` as
            Placement.plain gives it.
        rig_facts: What is known of the rig: `probe`, `bandwidth`, `graphics`, `last_level_cache_bytes`.
        streams: Streams decoding at once.
        cache: Precision of the KV cache.
    """
    out: dict[str, float] = {}
    model = engine_facts.get("model")
    if model:
        read = float(model["touched"]["bytes"])
        if model["experts"] and model["experts_active"]:
            idle = 1.0 - model["experts_active"] / model["experts"]
            read += model["experts_bytes"] * (idle - idle**streams)
        out["step_weight_bytes"] = read
        out["kv_bytes_token"] = model["kv_bytes_per_token_f16"] * CACHE_TYPES[cache].bits_per_weight / 16
    bandwidth = _bandwidth(engine_facts, rig_facts)
    if bandwidth:
        out["bandwidth"] = bandwidth
    if rig_facts.get("last_level_cache_bytes") and not _on_devices(engine_facts):
        out["cache_bytes"] = float(rig_facts["last_level_cache_bytes"])
    if isinstance(rig_facts.get("load_w"), (int, float)):
        out[WALL] = float(rig_facts["load_w"])
    predicted = engine_facts.get("predicted")
    if predicted:
        out["predicted_decode_low"] = float(predicted["decode_low"])
        out["spill_predicted"] = float(predicted["state"] in {"spills", "will not fit"})
        out["has_devices"] = float(bool(rig_facts.get("graphics")))
    return out


def _on_devices(engine_facts: Mapping[str, Any]) -> bool:
    return bool((engine_facts.get("placement") or {}).get("layers_on_devices"))


def _bandwidth(engine_facts: Mapping[str, Any], rig_facts: Mapping[str, Any]) -> float | None:
    """The bandwidth of the memory the model lies in; None where it is not known, or is not one."""
    if _on_devices(engine_facts):
        rate = engine_facts["placement"]["bandwidth"]
        return None if rate is None else float(rate)
    reading = (rig_facts.get("probe") or {}).get("reading") or {}
    best = max((median([float(v) for v in windows]) for windows in reading.values() if windows), default=None)
    if best is not None:
        return best
    typed = rig_facts.get("bandwidth")
    return float(typed) if isinstance(typed, (int, float)) else None
