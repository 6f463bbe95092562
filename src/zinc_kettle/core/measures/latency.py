"""How long a request waits, and how evenly its answer comes."""

from __future__ import annotations

from zinc_kettle.core.measures.kinds import Group, Measure, OverGaps, PerRepeat
from zinc_kettle.core.record.repeat import Figure, Missing, Repeat
from zinc_kettle.core.stats import median
from zinc_kettle.core.units import NS_PER_MS, NS_PER_S

QUEUED = Missing("requests share the engine, so TTFT includes queueing; this needs a single unqueued request")
NO_PREFILL_REPORT = Missing("the engine does not report its prefill time")
GROUP = Group("answering")


def ttft(repeat: Repeat) -> Figure:
    """Median over requests of the time to first token, in seconds."""
    return median([t.ttft_ns / NS_PER_S for t in repeat.measured if t.ttft_ns is not None])


def answer_time(repeat: Repeat) -> Figure:
    """Median over requests of TTFT + (tokens asked for − 1) · TPOT, in seconds."""
    times = [
        t.ttft_ns + (t.asked_tokens - 1) * t.decode_ns / t.decode_tokens
        for t in repeat.measured
        if t.ttft_ns is not None and t.decode_ns > 0 and t.decode_tokens > 0
    ]
    return median(times) / NS_PER_S if times else Missing("no answer was long enough for a time per token")


def round_trip(repeat: Repeat) -> Figure:
    """Shortest time of a tiny request to the engine and back, in seconds."""
    return repeat.extras.get("round_trip_s", Missing("no tiny request was timed"))


def ttft_offset(repeat: Repeat) -> Figure:
    """Median over requests of TTFT less the engine's own prefill time, in seconds."""
    if not repeat.alone:
        return QUEUED
    gaps = [
        (t.ttft_ns - t.engine.prompt_ms * NS_PER_MS) / NS_PER_S
        for t in repeat.measured
        if t.engine is not None and t.ttft_ns is not None and t.engine.prompt_ms > 0
    ]
    return median(gaps) if gaps else NO_PREFILL_REPORT


def duration(repeat: Repeat) -> Figure:
    """Median over requests of the time from sent to last output, in seconds."""
    return median([t.duration_ns / NS_PER_S for t in repeat.measured])


MEASURES = (
    Measure(
        "ttft",
        "TTFT",
        "s",
        "less",
        GROUP,
        "from sending a request to its first output",
        PerRepeat(ttft),
        mistakes="Under load it includes the wait for a slot. With a short prompt it is nearly all fixed overhead.",
        map_rank=3,
    ),
    Measure(
        "round_trip",
        "round trip",
        "s",
        "less",
        GROUP,
        "a tiny request to the engine and back; part of TTFT",
        PerRepeat(round_trip),
    ),
    Measure(
        "ttft_offset",
        "TTFT beyond prefill",
        "s",
        "less",
        GROUP,
        "TTFT less the engine's own prefill time",
        PerRepeat(ttft_offset),
        mistakes="It explains why the two prefill speeds differ: network, HTTP, template and sampling the first token.",
    ),
    Measure(
        "duration",
        "duration",
        "s",
        "less",
        GROUP,
        "from sending a request to its last output",
        PerRepeat(duration),
        mistakes="Comparable only between answers of the same length.",
        map_rank=6,
    ),
    Measure(
        "answer_time",
        "finished answer",
        "s",
        "less",
        GROUP,
        "TTFT and the time per token for as many tokens as were asked for",
        PerRepeat(answer_time),
        mistakes="Of answers that ended early it says how long a whole one would have taken.",
    ),
    Measure(
        "gap_p50",
        "chunk gap p50",
        "s",
        "less",
        GROUP,
        "half of the gaps between chunks are shorter",
        OverGaps(0.50),
    ),
    Measure(
        "gap_p95",
        "chunk gap p95",
        "s",
        "less",
        GROUP,
        "one gap in twenty is longer",
        OverGaps(0.95),
        mistakes="A chunk may hold several tokens: this is what a reader notices, not the time per token.",
        map_rank=7,
    ),
    Measure("gap_p99", "chunk gap p99", "s", "less", GROUP, "one gap in a hundred is longer", OverGaps(0.99)),
    Measure(
        "token_gap_p50",
        "token gap p50",
        "s",
        "less",
        GROUP,
        "half of the tokens come sooner after the one before",
        OverGaps(0.50, tokens=True),
        mistakes="Tokens of one chunk come together: where chunks hold several, read the chunk gap.",
    ),
    Measure(
        "token_gap_p95",
        "token gap p95",
        "s",
        "less",
        GROUP,
        "one token in twenty comes later after the one before",
        OverGaps(0.95, tokens=True),
    ),
    Measure(
        "token_gap_p99",
        "token gap p99",
        "s",
        "less",
        GROUP,
        "one token in a hundred comes later after the one before",
        OverGaps(0.99, tokens=True),
    ),
)
