"""The limit that memory bandwidth sets: a step cannot take less time than reading its bytes."""

from __future__ import annotations

from collections.abc import Mapping

from zinc_kettle.core.energy import WALL
from zinc_kettle.core.facts import EngineFacts, MachineFacts, ModelFacts
from zinc_kettle.core.record.repeat import Figure, Missing, Repeat
from zinc_kettle.core.record.telemetry import DEVICE_BEFORE, DEVICE_LAYERS
from zinc_kettle.core.stats import median
from zinc_kettle.core.steady import steady_window
from zinc_kettle.core.storage_types import CACHE_TYPES

CACHE_TIMES = 4
"""A model smaller than so many times the last-level cache is read from the cache in part."""


def share_of_limit(*, tokens_per_s: float, streams: float, step_bytes: float, bandwidth_bytes_per_s: float) -> float:
    """Measured decode over what memory bandwidth allows: throughput ÷ (bandwidth × streams ÷ bytes per step).

    Args:
        tokens_per_s: Output of all streams together.
        streams: Streams decoding at once.
        step_bytes: Weights and KV cache read in a step of all streams.
        bandwidth_bytes_per_s: The best read bandwidth measured, over thread counts.
    """
    return tokens_per_s * step_bytes / (bandwidth_bytes_per_s * streams)


def limit_share(repeat: Repeat, rate: Figure) -> Figure:
    """Tokens per second over what memory bandwidth allows; needs the model's shape and a probe of the rig.

    Args:
        repeat: With the extras of `limit_extras`.
        rate: Output tokens per second of all its streams together.
    """
    extras = repeat.extras
    if "bandwidth" not in extras:
        return Missing("the bandwidth of its memory is not known: probe the rig (p on Rigs), or type it in")
    if "step_weight_bytes" not in extras:
        return Missing("the model's shape is not known")
    if extras["step_weight_bytes"] < CACHE_TIMES * extras.get("cache_bytes", 0.0):
        return Missing(f"not applicable: the model is under {CACHE_TIMES} times the last-level cache")
    if isinstance(rate, Missing):
        return rate
    streams = _streams(repeat)
    rate *= _passes_a_token(repeat)
    depths = [(t.prompt_tokens or 0) + t.total_tokens / 2 for t in repeat.measured]
    kv = sum(_kv_bytes(extras, depth) for depth in depths) / len(depths) * streams
    return share_of_limit(
        tokens_per_s=rate,
        streams=streams,
        step_bytes=extras["step_weight_bytes"] + kv,
        bandwidth_bytes_per_s=extras["bandwidth"],
    )


def _passes_a_token(repeat: Repeat) -> float:
    """Passes through the weights for each output token: a draft that is accepted saves one."""
    told = [t.engine for t in repeat.measured if t.engine is not None and t.engine.draft_accepted_n is not None]
    written = sum(r.predicted_n for r in told)
    return 1.0 - sum(r.draft_accepted_n or 0 for r in told) / written if written else 1.0


def _streams(repeat: Repeat) -> float:
    """Streams that decode at once: as ordered, or in an open loop the mean of the window its rate is taken in."""
    window = steady_window(repeat) if repeat.open_loop else None
    if window is None:
        return float(repeat.concurrency)
    start, end = window
    inside = sum(max(0, min(t.last_ns, end) - max(t.first_ns, start)) for t in repeat.measured)
    return max(1.0, inside / (end - start))


def _kv_bytes(extras: Mapping[str, float], depth: float) -> float:
    """KV cache that one stream reads for a token at a depth; windowed layers read no more than their window."""
    whole, windowed = extras.get("kv_bytes_token", 0.0), extras.get("kv_windowed_token", 0.0)
    return at_depth(whole, windowed, depth, window=extras.get("window"))


def at_depth(each: float, windowed: float, depth: float, *, window: float | None) -> float:
    """What grows with each token of context, at a depth; its windowed part no further than the window."""
    return (each - windowed) * depth + windowed * min(depth, depth if window is None else window)


def step_weight_bytes(model: ModelFacts, streams: int) -> float:
    """Weights that a step of so many streams reads; of experts the expected number of distinct ones."""
    read, active = float(model["touched"]["bytes"]), model.get("experts_active", 0)
    if model.get("experts", 0) and active:
        idle = 1.0 - active / model["experts"]
        read += model["experts_bytes"] * (idle - idle**streams)
    return read


def limit_extras(engine_facts: EngineFacts, rig_facts: MachineFacts, *, streams: int, cache: str) -> dict[str, float]:
    """What is kept with a repeat so that its share of the limit can be computed, now and under later definitions.

    Args:
        engine_facts: What is known of the engine.
        rig_facts: What is known of its machine.
        streams: Streams decoding at once.
        cache: Precision of the KV cache.
    """
    out: dict[str, float] = {}
    model = engine_facts.get("model")
    if model:
        out["step_weight_bytes"] = step_weight_bytes(model, streams)
        precision = CACHE_TYPES[cache].bits_per_weight / 16
        out["kv_bytes_token"] = model["kv_bytes_per_token_f16"] * precision
        if "window" in model:
            out["kv_windowed_token"] = model["kv_windowed_per_token_f16"] * precision
            out["window"] = float(model["window"])
    bandwidth = _bandwidth(engine_facts, rig_facts)
    if bandwidth:
        out["bandwidth"] = bandwidth
    cache_bytes, load_w = rig_facts.get("last_level_cache_bytes"), rig_facts.get("load_w")
    if cache_bytes and not _on_devices(engine_facts):
        out["cache_bytes"] = float(cache_bytes)
    if load_w is not None:
        out[WALL] = float(load_w)
    layers = engine_facts.get("placement", {}).get("layers_on_devices")
    if layers is not None:
        out[DEVICE_LAYERS] = float(layers)
    before = (rig_facts.get("busy") or {}).get("device_used_bytes")
    if before is not None:
        out[DEVICE_BEFORE] = float(before)
    predicted = engine_facts.get("predicted")
    if predicted:
        out["predicted_decode_low"] = float(predicted["decode_low"])
        out["spill_predicted"] = float(predicted["state"] in {"spills", "will not fit"})
        out["has_devices"] = float(bool(rig_facts.get("graphics")))
    return out


def _on_devices(engine_facts: EngineFacts) -> bool:
    return bool(engine_facts.get("placement", {}).get("layers_on_devices"))


def _bandwidth(engine_facts: EngineFacts, rig_facts: MachineFacts) -> float | None:
    """The bandwidth of the memory the model lies in; None where it is not known, or is not one."""
    if _on_devices(engine_facts):
        return engine_facts["placement"].get("bandwidth")
    reading = rig_facts.get("probe", {}).get("reading", {})
    best = max((median([float(v) for v in windows]) for windows in reading.values() if windows), default=None)
    if best is not None:
        return best
    return rig_facts.get("bandwidth")
