"""The steady window: the part of a repeat in which the load is what it was meant to be, and throughput within it."""

from __future__ import annotations

import math

import numpy as np
import numpy.typing as npt

from zinc_kettle.core.record.repeat import Figure, Missing, Repeat
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.core.stats import mean, quantile
from zinc_kettle.core.units import NS_PER_S, plural

WINDOW_COMPLETIONS = 1.5
"""A steady window wants this many completions per stream: of four requests a stream, about two and a half end in it."""
NEARLY_ALL = 0.95
"""Share of the latencies after which an open loop is taken to be full: long answers, which are the last to be there,
write much of what is written."""
OPEN_COMPLETIONS = 10
"""An open loop has no streams; fewer completions than these would be a rate of single requests."""


def steady_window(repeat: Repeat) -> tuple[int, int] | None:
    """From one mean latency after all streams are busy until the first one is not replaced; None where that never is.

    Streams that start together are all in prefill at first, and write less than they will: the first latency is left
    out. Of an open loop: from the first due time and the latency that nearly all stay within, when as many requests are
    open as there will be, until the last due time.
    """
    requests = [t for t in repeat.timelines if t.role == "measured"]
    if repeat.open_loop:
        return _open_window(requests)
    n = repeat.concurrency
    if len(requests) < n or n < 1:
        return None
    sent = sorted(t.sent_ns for t in requests)
    ends = [t.end_ns for t in requests if t.end_ns > sent[-1]]
    took = [t.duration_ns for t in requests if t.usable]
    if not ends or not took:
        return None
    start = sent[n - 1] + round(mean(took))
    return (start, min(ends)) if min(ends) > start else None


def _open_window(requests: list[Timeline]) -> tuple[int, int] | None:
    due = [t.wanted_ns for t in requests]
    latencies = [t.sent_ns + t.duration_ns - t.wanted_ns for t in requests if t.usable]
    if not latencies:
        return None
    start, end = min(due) + round(quantile(latencies, NEARLY_ALL)), max(due)
    return (start, end) if end > start else None


def steady_throughput(repeat: Repeat) -> Figure:
    """Output tokens per second of all streams together, stamped inside the steady window."""
    if repeat.at_once:
        return Missing("requests handed over at once have no steady state; read batch time instead")
    window = steady_window(repeat)
    wanted = OPEN_COMPLETIONS if repeat.open_loop else math.ceil(WINDOW_COMPLETIONS * repeat.concurrency)
    if window is None:
        return Missing("no steady window: full load was never reached")
    start, end = window
    done = sum(1 for t in repeat.measured if start < t.end_ns <= end)
    if done < wanted:
        return Missing(f"no steady window: {plural(done, 'completion')} at full load, {wanted} needed")
    tokens = 0.0
    for t in repeat.measured:
        inside = (t.stamps > start) & (t.stamps <= end)
        tokens += float(_tokens_by_chunk(t)[inside].sum())
    return tokens * NS_PER_S / (end - start)


def whole_throughput(repeat: Repeat) -> Figure:
    """Prompt and output tokens per second in the steady window; a prompt counts when its first output comes.

    Of one stream over the time of its requests, each from sent to its last output.
    """
    if repeat.alone and not repeat.open_loop and repeat.measured:
        return _by_turns(repeat)
    written, window = steady_throughput(repeat), steady_window(repeat)
    if isinstance(written, Missing) or window is None:
        return written
    read = [t.uncached_tokens for t in repeat.measured if window[0] < t.first_ns <= window[1]]
    if any(tokens is None for tokens in read):
        return Missing("the engine does not say how long prompts were")
    return written + sum(tokens or 0 for tokens in read) * NS_PER_S / (window[1] - window[0])


def _by_turns(repeat: Repeat) -> Figure:
    """Of requests that follow each other: what they read and wrote over the time they took."""
    tokens, ns = 0, 0
    for t in repeat.measured:
        if t.uncached_tokens is None:
            return Missing("the engine does not say how long prompts were")
        tokens, ns = tokens + t.uncached_tokens + t.total_tokens, ns + t.duration_ns
    return tokens * NS_PER_S / ns if ns > 0 else Missing("its requests took no time")


def _tokens_by_chunk(t: Timeline) -> npt.NDArray[np.float64]:
    if t.counted_by == "chunk-counts":
        return t.chunk_tokens.astype(np.float64)
    return np.full(len(t.stamps), t.total_tokens / max(1, len(t.stamps)))
