"""What a load of many requests sees: waits from when each was due, percentiles over requests, the whole batch."""

from __future__ import annotations

from zinc_kettle.core.measures.kinds import Group, Measure, OverRequests, PerRepeat
from zinc_kettle.core.repeat import Figure, Missing, Repeat
from zinc_kettle.core.stats import median, quantile
from zinc_kettle.core.timeline import Timeline
from zinc_kettle.core.units import NS_PER_S

NOT_SCHEDULED = Missing("only an open loop has a schedule")
ONE_REQUEST = Missing("a single request is not a batch")
GROUP = Group("load", only_under_load=True)


def latency_s(t: Timeline) -> float:
    """Seconds from when a request was wanted to its last output: due in an open loop, else sent."""
    return (t.sent_ns + t.duration_ns - t.wanted_ns) / NS_PER_S


def first_output_s(t: Timeline) -> float | None:
    """Seconds from when a request was wanted to its first output; equal to TTFT where nothing was due."""
    return None if t.ttft_ns is None else (t.sent_ns + t.ttft_ns - t.wanted_ns) / NS_PER_S


def latency(repeat: Repeat) -> Figure:
    """Median over requests of the latency, in seconds."""
    return median([latency_s(t) for t in repeat.measured])


def batch_wall(repeat: Repeat) -> Figure:
    """Seconds from the first request wanted to the last output of all; failed requests belong to the batch."""
    sent = [t for t in repeat.timelines if t.role == "measured"]
    if len(sent) < 2:
        return ONE_REQUEST
    return (max(t.sent_ns + t.duration_ns for t in sent) - min(t.wanted_ns for t in sent)) / NS_PER_S


def _delays(repeat: Repeat) -> list[float]:
    return [(t.sent_ns - t.due_ns) / NS_PER_S for t in repeat.measured if t.due_ns is not None]


def send_delay(repeat: Repeat) -> Figure:
    """Median over requests of the time from due to sent, in seconds."""
    delays = _delays(repeat)
    return median(delays) if delays else NOT_SCHEDULED


def send_delay_p99(repeat: Repeat) -> Figure:
    """99th percentile over requests of the time from due to sent, in seconds."""
    delays = _delays(repeat)
    return quantile(delays, 0.99) if delays else NOT_SCHEDULED


def failed_share(repeat: Repeat) -> Figure:
    """Share of the measured requests that failed."""
    return len(repeat.failed) / sum(1 for t in repeat.timelines if t.role == "measured")


_THIN = "With fewer than ten requests beyond a percentile, a few lucky or unlucky ones decide it; it is marked thin."
MEASURES = (
    Measure(
        "latency", "latency", "s", "less", GROUP, "from when a request was due (or sent) to its last output",
        PerRepeat(latency),
        mistakes="Counted from when the request was due, so a stalled engine cannot hide its queue.",
    ),
    Measure(
        "latency_p95", "latency p95", "s", "less", GROUP, "one request in twenty takes longer",
        OverRequests(latency_s, 0.95), mistakes=_THIN, map_rank=10,
    ),
    Measure(
        "latency_p99", "latency p99", "s", "less", GROUP, "one request in a hundred takes longer",
        OverRequests(latency_s, 0.99), mistakes=_THIN,
    ),
    Measure(
        "ttft_p95", "TTFT p95", "s", "less", GROUP, "one request in twenty waits longer for its first output",
        OverRequests(first_output_s, 0.95), mistakes=_THIN, map_rank=9,
    ),
    Measure(
        "ttft_p99", "TTFT p99", "s", "less", GROUP, "one request in a hundred waits longer for its first output",
        OverRequests(first_output_s, 0.99), mistakes=_THIN,
    ),
    Measure(
        "batch_wall", "batch time", "s", "less", GROUP, "from the first request to the last output of all",
        PerRepeat(batch_wall), map_rank=11,
    ),
    Measure(
        "send_delay", "send delay", "s", "less", GROUP, "from when a request was due until it was sent",
        PerRepeat(send_delay), mistakes="Caused by this tool, not by the engine; it should be near zero.",
    ),
    Measure(
        "send_delay_p99", "send delay p99", "s", "less", GROUP, "one request in a hundred was sent later",
        PerRepeat(send_delay_p99),
    ),
    Measure(
        "failed_share", "failed", "share", "less", GROUP, "share of the requests that failed", PerRepeat(failed_share),
    ),
)  # fmt: skip
