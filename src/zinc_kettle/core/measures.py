"""From timelines to figures: one request, one repeat. Definitions and reasons: docs/measures.md.

A figure that cannot be had is a `Missing` with a reason, never a guess.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TypeAlias

import numpy as np
import numpy.typing as npt

from zinc_kettle.core import energy
from zinc_kettle.core.fit.limit import share_of_limit
from zinc_kettle.core.stats import median
from zinc_kettle.core.telemetry import Launch, Machine, Trace
from zinc_kettle.core.timeline import Timeline
from zinc_kettle.core.units import NS_PER_MS, NS_PER_S, plural

CLIENT_PREFILL_MIN_TOKENS = 32
"""Shorter prompts are all fixed overhead: client prefill speed is not given for them."""
CACHE_TIMES = 4
"""A model smaller than so many times the last-level cache is read from the cache in part."""
WINDOW_COMPLETIONS = 3
"""A steady window wants this many completions per stream."""


@dataclass(frozen=True, slots=True)
class Missing:
    """A figure that cannot be had."""

    reason: str


Figure: TypeAlias = float | Missing

NO_PROCESS = Missing("the engine's process cannot be seen from here")


@dataclass(frozen=True, slots=True)
class Repeat:
    """One load episode of a cell, with all that was seen of it."""

    repeat_id: str
    block: int
    concurrency: int
    timelines: tuple[Timeline, ...]
    """All requests, warm-up included."""
    launch: Launch | None = None
    machine: Machine | None = None
    trace: Trace | None = None
    driver_cpu_ns: int = 0
    wall_ns: int = 0
    extras: dict[str, float] = field(default_factory=dict)

    @property
    def measured(self) -> tuple[Timeline, ...]:
        """Measured requests that may be counted; a cold one never may."""
        return tuple(t for t in self.timelines if t.role == "measured" and t.usable and not t.cold)

    @property
    def failed(self) -> tuple[Timeline, ...]:
        """Measured requests that may not be counted, and why is in each."""
        return tuple(t for t in self.timelines if t.role == "measured" and not t.usable)


def repeat_figures(repeat: Repeat) -> dict[str, Figure]:
    """Every measure of one repeat, by name; units are in core.catalogue.

    Rates are total tokens over total time, latencies the median over requests.
    """
    requests = repeat.measured
    if not requests:
        return {}
    decode = _decode(requests)
    return {
        **_latencies(requests),
        **_prefill(requests, repeat.concurrency),
        **decode,
        "limit_share": _limit_share(repeat, decode["decode"]),
        "throughput": steady_throughput(repeat),
        **_memory(repeat),
        **_power(repeat),
        **_cost(repeat),
    }


def _latencies(requests: tuple[Timeline, ...]) -> dict[str, Figure]:
    ttft = [t.ttft_ns / NS_PER_S for t in requests if t.ttft_ns is not None]
    prompts = [t.prompt_tokens for t in requests if t.prompt_tokens is not None]
    return {
        "ttft": median(ttft),
        "duration": median([t.duration_ns / NS_PER_S for t in requests]),
        "prompt_tokens": median(prompts) if prompts else Missing("the engine gave no usage record"),
        "output_tokens": median([t.total_tokens for t in requests]),
    }


def _prefill(requests: tuple[Timeline, ...], concurrency: int) -> dict[str, Figure]:
    return {
        "prefill_client": _prefill_client(requests, concurrency),
        "prefill_engine": _prefill_engine(requests),
        "ttft_offset": _ttft_offset(requests, concurrency),
        "prefill_slope": Missing("a figure of a family of cells with three or more prompt lengths; not of one cell"),
    }


def _prefill_client(requests: tuple[Timeline, ...], concurrency: int) -> Figure:
    if concurrency > 1:
        return Missing("requests queue at concurrency above 1; client prefill wants one unqueued request")
    pairs = [(t.uncached_tokens, t.ttft_ns) for t in requests if t.ttft_ns and t.uncached_tokens is not None]
    if not pairs:
        return Missing("the engine does not say how long the prompt was")
    tokens = sum(n for n, _ in pairs if n is not None)
    if tokens < CLIENT_PREFILL_MIN_TOKENS * len(pairs):
        return Missing(f"fewer than {CLIENT_PREFILL_MIN_TOKENS} uncached prompt tokens: all fixed overhead")
    return tokens * NS_PER_S / sum(ns for _, ns in pairs if ns is not None)


def _prefill_engine(requests: tuple[Timeline, ...]) -> Figure:
    reports = [t.engine for t in requests if t.engine is not None and t.engine.prompt_ms > 0]
    if not reports:
        return Missing("the engine does not report its prefill time")
    return sum(r.prompt_n for r in reports) * 1e3 / sum(r.prompt_ms for r in reports)


def _ttft_offset(requests: tuple[Timeline, ...], concurrency: int) -> Figure:
    """TTFT less the engine's own prefill time: network, HTTP, template and sampling, in seconds."""
    if concurrency > 1:
        return Missing("queueing is part of TTFT at concurrency above 1")
    gaps = [
        (t.ttft_ns - t.engine.prompt_ms * NS_PER_MS) / NS_PER_S
        for t in requests
        if t.engine is not None and t.ttft_ns is not None and t.engine.prompt_ms > 0
    ]
    return median(gaps) if gaps else Missing("the engine does not report its prefill time")


def _decode(requests: tuple[Timeline, ...]) -> dict[str, Figure]:
    timed = [t for t in requests if t.decode_ns > 0 and t.decode_tokens > 0]
    nothing = Missing("no answer had more than one output chunk")
    tokens, ns = sum(t.decode_tokens for t in timed), sum(t.decode_ns for t in timed)
    characters = sum(t.characters * t.decode_tokens / t.total_tokens for t in timed if t.total_tokens)
    return {
        "decode": tokens * NS_PER_S / ns if timed else nothing,
        "tpot": ns / tokens / NS_PER_S if timed else nothing,
        "chars_rate": characters * NS_PER_S / ns if timed else nothing,
        "decode_engine": _decode_engine(requests),
    }


def _decode_engine(requests: tuple[Timeline, ...]) -> Figure:
    """(predicted_n − 1) ÷ predicted time: the engine's clock starts with the first token, so that one is not in it."""
    reports = [t.engine for t in requests if t.engine is not None and t.engine.predicted_n > 1]
    time_ms = sum(r.predicted_ms for r in reports)
    if time_ms <= 0:
        return Missing("the engine does not report its decode time")
    return sum(r.predicted_n - 1 for r in reports) * 1e3 / time_ms


def steady_window(repeat: Repeat) -> tuple[int, int] | None:
    """From when all streams are first busy until the first one is not replaced; None where that never is."""
    requests = [t for t in repeat.timelines if t.role == "measured"]
    n = repeat.concurrency
    if len(requests) < n or n < 1:
        return None
    sent = sorted(t.sent_ns for t in requests)
    start, last_sent = sent[n - 1], sent[-1]
    ends = [t.end_ns for t in requests if t.end_ns > last_sent]
    return (start, min(ends)) if ends and min(ends) > start else None


def steady_throughput(repeat: Repeat) -> Figure:
    """Output tokens per second of all streams together, stamped inside the steady window."""
    window = steady_window(repeat)
    wanted = WINDOW_COMPLETIONS * repeat.concurrency
    if window is None:
        return Missing("no steady window: the wanted concurrency was never held")
    start, end = window
    done = sum(1 for t in repeat.measured if start < t.end_ns <= end)
    if done < wanted:
        return Missing(f"no steady window: {plural(done, 'completion')} at full concurrency, {wanted} wanted")
    tokens = 0.0
    for t in repeat.measured:
        inside = (t.stamps > start) & (t.stamps <= end)
        tokens += float(_tokens_by_chunk(t)[inside].sum())
    return tokens * NS_PER_S / (end - start)


def _tokens_by_chunk(t: Timeline) -> npt.NDArray[np.float64]:
    if t.counted_by == "chunk-counts":
        return t.chunk_tokens.astype(np.float64)
    return np.full(len(t.stamps), t.total_tokens / max(1, len(t.stamps)))


def _memory(repeat: Repeat) -> dict[str, Figure]:
    launch, trace = repeat.launch, repeat.trace
    names = ("memory_loaded", "memory_peak", "memory_anonymous", "memory_file")
    if launch is None or launch.loaded_bytes is None:
        return dict.fromkeys(names, NO_PROCESS)
    peak = launch.loaded_bytes
    if trace is not None and len(trace.resident_bytes):
        peak = max(peak, int(trace.resident_bytes.max()) - launch.baseline_bytes)
    if trace is not None and trace.high_water_bytes > 0:
        peak = max(peak, trace.high_water_bytes - launch.baseline_bytes)
    return {
        "memory_loaded": float(launch.loaded_bytes),
        "memory_peak": float(peak),
        "memory_anonymous": _peak_of(trace.anonymous_bytes if trace else None),
        "memory_file": _peak_of(trace.file_bytes if trace else None),
    }


def _power(repeat: Repeat) -> dict[str, Figure]:
    trace = repeat.trace
    untold = Missing("nothing on this rig tells its power")
    figures: dict[str, float | None] = {
        "power": energy.mean_watts(repeat),
        "energy_token": energy.joules_per_token(repeat, net=False),
        "energy_token_net": energy.joules_per_token(repeat, net=True),
        "energy_prefill": energy.prefill_joules(repeat),
        "energy_decode": energy.decode_joules(repeat),
    }
    out: dict[str, Figure] = {}
    for name, value in figures.items():
        out[name] = value if value is not None else _why_no_energy(repeat, name, untold)
    device = None if trace is None else trace.device_bytes
    told = device is not None and len(device) > 0
    out["memory_device"] = float(device.max()) if told and device is not None else Missing("no device told its memory")
    out["round_trip"] = repeat.extras.get("round_trip_s", Missing("no tiny request was timed"))
    return out


def _limit_share(repeat: Repeat, decode: Figure) -> Figure:
    """Decode over what memory bandwidth allows; needs the model's shape and a probe of the rig."""
    extras = repeat.extras
    if "bandwidth" not in extras:
        return Missing("the rig was not probed: zinc-kettle probe, or p on its page")
    if "step_weight_bytes" not in extras:
        return Missing("the model's shape is not known")
    if extras["step_weight_bytes"] < CACHE_TIMES * extras.get("cache_bytes", 0.0):
        return Missing(f"not applicable: the model is under {CACHE_TIMES} times the last-level cache")
    # Alone, the decode speed of the stream; with several, their sum while all are busy.
    rate = decode if repeat.concurrency == 1 else steady_throughput(repeat)
    if isinstance(rate, Missing):
        return rate
    depths = [(t.prompt_tokens or 0) + t.total_tokens / 2 for t in repeat.measured]
    kv = extras.get("kv_bytes_token", 0.0) * (sum(depths) / len(depths)) * repeat.concurrency
    return share_of_limit(
        tokens_per_s=rate, streams=repeat.concurrency, step_bytes=extras["step_weight_bytes"] + kv,
        bandwidth_bytes_per_s=extras["bandwidth"],
    )  # fmt: skip


def _why_no_energy(repeat: Repeat, name: str, untold: Missing) -> Missing:
    if (repeat.trace is None or repeat.trace.energy_uj is None) and energy.WALL not in repeat.extras:
        return untold
    if name == "energy_token_net":
        return Missing("the idle power was not taken")
    if repeat.concurrency > 1:
        return Missing("prefill and decode overlap at concurrency above 1")
    return Missing("the power readings do not cover this window")


def _peak_of(column: npt.NDArray[np.int64] | None) -> Figure:
    if column is None or not len(column) or int(column.max()) < 0:
        return Missing("this system does not tell anonymous and file-backed memory apart")
    return float(column.max())


def _cost(repeat: Repeat) -> dict[str, Figure]:
    wall_s = repeat.wall_ns / NS_PER_S
    trace, machine = repeat.trace, repeat.machine
    cpu: Figure = NO_PROCESS
    if trace is not None and len(trace.at_ns) >= 2:
        span = int(trace.at_ns[-1] - trace.at_ns[0])
        cpu = float(trace.cpu_ns[-1] - trace.cpu_ns[0]) / span if span > 0 else NO_PROCESS
    observer: Figure = Missing("the machine's processor time was not read")
    if machine is not None and wall_s > 0:
        observer = observer_cores(repeat) / machine.cores
    return {"cpu": cpu, "observer_share": observer}


def observer_cores(repeat: Repeat) -> float:
    """Cores the driver and the sampler kept busy; 0 for an episode of no length."""
    sampler = repeat.trace.sampler_cpu_ns if repeat.trace is not None else 0
    return (repeat.driver_cpu_ns + sampler) / repeat.wall_ns if repeat.wall_ns > 0 else 0.0
