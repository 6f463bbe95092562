"""From timelines to figures: one request, one repeat. Definitions and reasons: docs/measures.md.

A figure that cannot be had is a `Missing` with a reason, never a guess.
"""

from __future__ import annotations

import numpy as np

from zinc_kettle.core.machine_measures import cost_figures, limit_share, memory_figures, observer_cores, power_figures
from zinc_kettle.core.repeat import NO_PROCESS, Figure, Missing, Repeat
from zinc_kettle.core.stats import median, quantile
from zinc_kettle.core.steady import steady_throughput, steady_window
from zinc_kettle.core.timeline import Timeline
from zinc_kettle.core.units import NS_PER_MS, NS_PER_S

__all__ = [
    "NO_PROCESS", "Figure", "Missing", "Repeat", "observer_cores", "queue_p99_s", "repeat_figures",
    "steady_throughput", "steady_window",
]  # fmt: skip
CLIENT_PREFILL_MIN_TOKENS = 32
"""Shorter prompts are all fixed overhead: client prefill speed is not given for them."""
QUEUED = Missing("requests share the engine, so queueing is part of TTFT; one unqueued request is wanted")
NOT_SCHEDULED = Missing("nothing was due: only an open loop has a schedule")
ONE_REQUEST = Missing("a single request has no batch")


def repeat_figures(repeat: Repeat) -> dict[str, Figure]:
    """Every measure of one repeat, by name, kept with it; units are in core.catalogue.

    Rates are total tokens over total time, latencies the median over requests.
    """
    if repeat.measured and not repeat.figures:
        repeat.figures.update(_figures(repeat, repeat.measured))
    return repeat.figures


def _figures(repeat: Repeat, requests: tuple[Timeline, ...]) -> dict[str, Figure]:
    decode = _decode(requests)
    return {
        **_latencies(requests),
        **_prefill(requests, alone=repeat.alone),
        **decode,
        **_load(repeat),
        "limit_share": limit_share(repeat, decode["decode"]),
        "throughput": steady_throughput(repeat),
        **memory_figures(repeat),
        **power_figures(repeat),
        **cost_figures(repeat),
    }


def _latencies(requests: tuple[Timeline, ...]) -> dict[str, Figure]:
    ttft = [t.ttft_ns / NS_PER_S for t in requests if t.ttft_ns is not None]
    prompts = [t.prompt_tokens for t in requests if t.prompt_tokens is not None]
    return {
        "ttft": median(ttft),
        "duration": median([t.duration_ns / NS_PER_S for t in requests]),
        "latency": median([latency_s(t) for t in requests]),
        "prompt_tokens": median(prompts) if prompts else Missing("the engine gave no usage record"),
        "output_tokens": median([t.total_tokens for t in requests]),
    }


def _prefill(requests: tuple[Timeline, ...], *, alone: bool) -> dict[str, Figure]:
    return {
        "prefill_client": _prefill_client(requests, alone=alone),
        "prefill_engine": _prefill_engine(requests),
        "ttft_offset": _ttft_offset(requests, alone=alone),
        "prefill_slope": Missing("a figure of a family of cells with three or more prompt lengths; not of one cell"),
    }


def _prefill_client(requests: tuple[Timeline, ...], *, alone: bool) -> Figure:
    if not alone:
        return QUEUED
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


def _ttft_offset(requests: tuple[Timeline, ...], *, alone: bool) -> Figure:
    """TTFT less the engine's own prefill time: network, HTTP, template and sampling, in seconds."""
    if not alone:
        return QUEUED
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


def latency_s(t: Timeline) -> float:
    """From when a request was wanted to its last output: due in an open loop, else sent."""
    return (t.sent_ns + t.duration_ns - t.wanted_ns) / NS_PER_S


def first_output_s(t: Timeline) -> float | None:
    """From when a request was wanted to its first output; equal to TTFT where nothing was due."""
    return None if t.ttft_ns is None else (t.sent_ns + t.ttft_ns - t.wanted_ns) / NS_PER_S


def _load(repeat: Repeat) -> dict[str, Figure]:
    requests = repeat.measured
    delays = [(t.sent_ns - t.due_ns) / NS_PER_S for t in requests if t.due_ns is not None]
    sent = [t for t in repeat.timelines if t.role == "measured"]
    wall = (max(t.sent_ns + t.duration_ns for t in sent) - min(t.wanted_ns for t in sent)) / NS_PER_S
    queue = queue_p99_s(repeat)
    return {
        "send_delay": median(delays) if delays else NOT_SCHEDULED,
        "send_delay_p99": quantile(delays, 0.99) if delays else NOT_SCHEDULED,
        "batch_wall": wall if len(sent) > 1 else ONE_REQUEST,
        "failed_share": len(repeat.failed) / len(sent),
        "queue_p99": Missing("the system gives no kernel stamps here") if queue is None else queue,
    }


def queue_p99_s(repeat: Repeat) -> float | None:
    """99th percentile of what chunks waited for our driver after the kernel had them, in seconds."""
    waits = [q for t in repeat.measured if (q := t.queue_ns) is not None and len(q)]
    return None if not waits else float(quantile(np.concatenate(waits), 0.99)) / NS_PER_S
