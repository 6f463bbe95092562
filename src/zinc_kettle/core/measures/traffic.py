"""What a load of many requests sees: waits from when each was due, percentiles over requests, the whole batch."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from zinc_kettle.core.measures.kinds import Group, Measure, OfCell, OverRequests, PerRepeat
from zinc_kettle.core.record.repeat import NO_PROCESS, Figure, Missing, Repeat
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.core.record.value import CellFigure, Value
from zinc_kettle.core.stats import median, quantile
from zinc_kettle.core.stats.interval import share_interval
from zinc_kettle.core.steady import steady_throughput, steady_window
from zinc_kettle.core.units import NS_PER_S

NOT_SCHEDULED = Missing("only an open loop has a schedule")
NO_PROMISE = Missing("the study states no promise")
TTFT_LIMIT, TPOT_LIMIT = "promise_ttft_s", "promise_tpot_s"
"""Names under which a repeat keeps the limits its study promised, in seconds."""
NO_PACE = Missing("a pace is promised, and answers came in one piece, which has none")
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


def _overall(repeat: Repeat, count: Callable[[Timeline], float | None]) -> Figure:
    """Something of all requests that count over the time from the first one wanted to the last output of all."""
    sent = [t for t in repeat.timelines if t.role == "measured"]
    ns = max(t.sent_ns + t.duration_ns for t in sent) - min(t.wanted_ns for t in sent) if sent else 0
    if ns <= 0:
        return Missing("its requests took no time")
    told = [count(t) for t in repeat.measured]
    if any(value is None for value in told):
        return Missing("the engine does not say how long prompts were")
    return sum(value or 0.0 for value in told) * NS_PER_S / ns


def overall_requests(repeat: Repeat) -> Figure:
    """Requests per second that were answered, over the whole repeat."""
    return _overall(repeat, lambda _: 1.0)


def overall_output(repeat: Repeat) -> Figure:
    """Output tokens per second, over the whole repeat."""
    return _overall(repeat, lambda t: float(t.total_tokens))


def overall_input(repeat: Repeat) -> Figure:
    """Prompt tokens per second that had to be read, over the whole repeat."""
    return _overall(repeat, lambda t: None if t.uncached_tokens is None else float(t.uncached_tokens))


def overall_tokens(repeat: Repeat) -> Figure:
    """Prompt and output tokens per second, over the whole repeat."""
    read, written = overall_input(repeat), overall_output(repeat)
    if isinstance(read, Missing) or isinstance(written, Missing):
        return read if isinstance(read, Missing) else written
    return read + written


def batch_cpu(repeat: Repeat) -> Figure:
    """Seconds of processor time the engine spent from the first request wanted to the last output of all."""
    sent, trace = [t for t in repeat.timelines if t.role == "measured"], repeat.trace
    if trace is None or len(trace.at_ns) < 2:
        return NO_PROCESS
    if len(sent) < 2:
        return ONE_REQUEST
    ends = [min(t.wanted_ns for t in sent), max(t.sent_ns + t.duration_ns for t in sent)]
    first, last = np.interp(ends, trace.at_ns, trace.cpu_ns)
    return float(last - first) / NS_PER_S


def promise_kept(repeat: Repeat) -> Figure:
    """Share of the measured requests that kept the promise; failed ones did not."""
    if not promised(repeat):
        return NO_PROMISE
    if _pace_unknown(repeat):
        return NO_PACE
    asked = [t for t in repeat.timelines if t.role == "measured"]
    return sum(1 for t in repeat.measured if keeps(t, repeat)) / len(asked)


def goodput(repeat: Repeat) -> Figure:
    """Requests per second that ended within the steady window and kept the promise; of a burst over the whole batch."""
    if not promised(repeat):
        return NO_PROMISE
    if _pace_unknown(repeat):
        return NO_PACE
    if repeat.at_once:
        wall = batch_wall(repeat)
        return wall if isinstance(wall, Missing) else sum(1 for t in repeat.measured if keeps(t, repeat)) / wall
    found = steady_throughput(repeat)
    window = steady_window(repeat)
    if isinstance(found, Missing) or window is None:
        return found if isinstance(found, Missing) else Missing("no steady window")
    ended = [t for t in repeat.measured if window[0] < t.end_ns <= window[1]]
    return sum(1 for t in ended if keeps(t, repeat)) * NS_PER_S / (window[1] - window[0])


def promised(repeat: Repeat) -> bool:
    """True where the study states a promise."""
    return TTFT_LIMIT in repeat.extras or TPOT_LIMIT in repeat.extras


def in_one_piece(t: Timeline) -> bool:
    """True of an answer of several tokens that came at once: it has no pace."""
    return t.total_tokens > 1 and t.decode_ns <= 0


def _pace_unknown(repeat: Repeat) -> bool:
    return TPOT_LIMIT in repeat.extras and any(map(in_one_piece, repeat.measured))


def keeps(t: Timeline, repeat: Repeat) -> bool:
    """True where a request kept the limits of the study's promise: its first output from when it was due, its pace."""
    first = first_output_s(t)
    return (
        first is not None
        and first <= repeat.extras.get(TTFT_LIMIT, np.inf)
        and pace_s(t) <= repeat.extras.get(TPOT_LIMIT, np.inf)
    )


def pace_s(t: Timeline) -> float:
    """Seconds for each further token of an answer; 0 of one without further tokens."""
    return t.decode_ns / t.decode_tokens / NS_PER_S if t.decode_ns > 0 and t.decode_tokens > 0 else 0.0


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


def failed_share(repeats: Sequence[Repeat]) -> CellFigure:
    """Share of the measured requests that failed, with its exact 95% interval (Clopper and Pearson 1934).

    Requests are taken one by one: where they fail a repeat at a time, the interval is too narrow.
    """
    asked = sum(1 for r in repeats for t in r.timelines if t.role == "measured")
    if not asked:
        return Missing("nothing was measured")
    low, value, high = share_interval(sum(len(r.failed) for r in repeats), asked)
    return Value(value, low, high, "interval95", asked, "share", "requests")


_THIN = "With fewer than ten requests beyond a percentile, a few lucky or unlucky ones decide it; it is marked thin."
_OVERALL = (
    "The beginning, when all prompts are read, and the end, when few still write, are in it: with few requests it is "
    "far below the throughput of a steady load."
)
MEASURES = (
    Measure(
        "latency",
        "latency",
        "s",
        "less",
        GROUP,
        "from when a request was due (or sent) to its last output",
        PerRepeat(latency),
        mistakes="Counted from when the request was due, so a stalled engine cannot hide its queue.",
    ),
    Measure(
        "latency_p50",
        "latency p50",
        "s",
        "less",
        GROUP,
        "half of all requests take longer",
        OverRequests(latency_s, 0.50),
        mistakes=_THIN,
    ),
    Measure(
        "latency_p90",
        "latency p90",
        "s",
        "less",
        GROUP,
        "one request in ten takes longer",
        OverRequests(latency_s, 0.90),
        mistakes=_THIN,
    ),
    Measure(
        "latency_p95",
        "latency p95",
        "s",
        "less",
        GROUP,
        "one request in twenty takes longer",
        OverRequests(latency_s, 0.95),
        mistakes=_THIN,
        map_rank=10,
    ),
    Measure(
        "latency_p99",
        "latency p99",
        "s",
        "less",
        GROUP,
        "one request in a hundred takes longer",
        OverRequests(latency_s, 0.99),
        mistakes=_THIN,
    ),
    Measure(
        "ttft_p50",
        "TTFT p50",
        "s",
        "less",
        GROUP,
        "half of all requests wait longer for their first output",
        OverRequests(first_output_s, 0.50),
        mistakes=_THIN,
    ),
    Measure(
        "ttft_p90",
        "TTFT p90",
        "s",
        "less",
        GROUP,
        "one request in ten waits longer for its first output",
        OverRequests(first_output_s, 0.90),
        mistakes=_THIN,
    ),
    Measure(
        "ttft_p95",
        "TTFT p95",
        "s",
        "less",
        GROUP,
        "one request in twenty waits longer for its first output",
        OverRequests(first_output_s, 0.95),
        mistakes=_THIN,
        map_rank=9,
    ),
    Measure(
        "ttft_p99",
        "TTFT p99",
        "s",
        "less",
        GROUP,
        "one request in a hundred waits longer for its first output",
        OverRequests(first_output_s, 0.99),
        mistakes=_THIN,
    ),
    Measure(
        "batch_wall",
        "batch time",
        "s",
        "less",
        GROUP,
        "from the first request to the last output of all",
        PerRepeat(batch_wall),
        map_rank=11,
    ),
    Measure(
        "overall_requests",
        "requests, overall",
        "requests/s",
        "more",
        GROUP,
        "requests answered per second, from the first request to the last output of all",
        PerRepeat(overall_requests),
        mistakes=_OVERALL,
    ),
    Measure(
        "overall_output",
        "output, overall",
        "tokens/s",
        "more",
        GROUP,
        "output tokens per second, from the first request to the last output of all",
        PerRepeat(overall_output),
        mistakes=_OVERALL,
        map_rank=24,
    ),
    Measure(
        "overall_input",
        "prompts, overall",
        "tokens/s",
        "more",
        GROUP,
        "prompt tokens read per second, from the first request to the last output of all",
        PerRepeat(overall_input),
        mistakes=_OVERALL,
    ),
    Measure(
        "overall_tokens",
        "tokens, overall",
        "tokens/s",
        "more",
        GROUP,
        "prompt and output tokens per second, from the first request to the last output of all",
        PerRepeat(overall_tokens),
        mistakes=_OVERALL,
    ),
    Measure(
        "batch_cpu",
        "batch CPU time",
        "s",
        "less",
        GROUP,
        "processor time of the engine from the first request to the last output of all",
        PerRepeat(batch_cpu),
        map_rank=23,
    ),
    Measure(
        "promise_kept",
        "promise kept",
        "share",
        "more",
        GROUP,
        "share of the requests that kept the promised TTFT and TPOT",
        PerRepeat(promise_kept),
        map_rank=14,
    ),
    Measure(
        "goodput",
        "goodput",
        "requests/s",
        "more",
        GROUP,
        "requests that kept the promise, per second",
        PerRepeat(goodput),
        mistakes="An engine that answers more requests, and breaks the promise for half of them, may have less.",
        map_rank=15,
    ),
    Measure(
        "send_delay",
        "send delay",
        "s",
        "less",
        GROUP,
        "from when a request was due until it was sent",
        PerRepeat(send_delay),
        mistakes="Caused by this tool, not by the engine; it should be near zero.",
    ),
    Measure(
        "send_delay_p99",
        "send delay p99",
        "s",
        "less",
        GROUP,
        "one request in a hundred was sent later",
        PerRepeat(send_delay_p99),
    ),
    Measure(
        "failed_share",
        "failed",
        "share",
        "less",
        GROUP,
        "share of the requests that failed",
        OfCell(failed_share),
    ),
)
