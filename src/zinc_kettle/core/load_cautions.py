"""Cautions about loads, lengths, order and waiting; raised like those of core.cautions and listed with them."""

from __future__ import annotations

from collections.abc import Sequence

from zinc_kettle.core.caution_kinds import Caution, Setting
from zinc_kettle.core.cell import REQUEST_QUANTILES, per_repeat
from zinc_kettle.core.measures import queue_p99_s
from zinc_kettle.core.repeat import Missing, Repeat
from zinc_kettle.core.stats import median, thin
from zinc_kettle.core.stats.drift import trend
from zinc_kettle.core.steady import steady_throughput
from zinc_kettle.core.timeline import Timeline
from zinc_kettle.core.units import NS_PER_S, digits, plural

UNEQUAL_SHARE = 0.02
"""Lengths of equally long orders that differ by more make whole durations incomparable by as much."""
STALL_GAP_S = 2.0
"""A reader notices far less; below it a gap may be a page fault or another program."""
STALL_TIMES = 20.0
"""And so many times the usual gap: a slow engine is not a stalled one."""
LOAD_REQUESTS = 8
"""A cell with fewer requests in each repeat makes no claim about percentiles of requests."""
QUEUE_S = 0.005
"""Under load the driver rests up to a millisecond or two on purpose, which no stamp of the kernel feels; what waits
longer waits for a processor, and so do the requests that are to follow."""


def measured(repeats: Sequence[Repeat]) -> list[Timeline]:
    """All requests that count."""
    return [t for r in repeats for t in r.measured]


def unequal_length(repeats: Sequence[Repeat], _: Setting) -> Caution | None:
    """Answers of different length to orders of equal length."""
    requests = measured(repeats)
    if len(requests) < 2 or len({t.asked_tokens for t in requests}) > 1:
        return None
    lengths = [t.total_tokens for t in requests]
    if max(lengths) <= (1 + UNEQUAL_SHARE) * min(lengths):
        return None
    return Caution(
        "unequal-length",
        f"answers of {min(lengths):,} to {max(lengths):,} tokens where {requests[0].asked_tokens:,} were asked of each",
    )


def context_cut(repeats: Sequence[Repeat], _: Setting) -> Caution | None:
    """Answers the engine cut at its context without a word."""
    cut = [t for t in measured(repeats) if is_cut(t)]
    if not cut:
        return None
    t = cut[0]
    return Caution(
        "context-cut",
        f"{len(cut)} of {plural(len(measured(repeats)), 'request')}; one has {t.total_tokens:,} of {t.asked_tokens:,} "
        f"tokens after a prompt of {t.prompt_tokens or 0:,}",
    )


def is_cut(t: Timeline) -> bool:
    """True where the engine says it reached the length and had not."""
    return t.ended_early and t.finish == "length"


def stalled(repeats: Sequence[Repeat], _: Setting) -> Caution | None:
    """Silence in the middle of answers."""
    waits = [t for r in repeats for t in r.timelines if t.role == "measured" and t.fault == "stall"]
    gaps = [gap for t in measured(repeats) if (gap := stall_s(t)) is not None]
    if waits:
        return Caution("stalled", f"{plural(len(waits), 'request')} given up: {waits[0].error}")
    if not gaps:
        return None
    return Caution("stalled", f"{plural(len(gaps), 'request')} with a gap of up to {digits(max(gaps))} s")


def stall_s(t: Timeline) -> float | None:
    """The longest gap of a request, where it is a stall; in seconds."""
    gaps = t.chunk_gaps_ns
    if len(gaps) < 2:
        return None
    worst, usual = float(gaps.max()) / NS_PER_S, median(gaps) / NS_PER_S
    return worst if worst >= STALL_GAP_S and worst >= STALL_TIMES * usual else None


def drift(repeats: Sequence[Repeat], _: Setting) -> Caution | None:
    """A trend over the order of the run."""
    for name, title in (("decode", "decode"), ("ttft", "TTFT")):
        found = trend(per_repeat(repeats, name))
        if found is not None and found.drifts:
            way = "rises" if found.share > 0 else "falls"
            return Caution(
                "drift", f"{title} {way} by {abs(found.share):.0%} over {len(repeats)} repeats (p = {found.p:.2g})"
            )
    return None


def thin_percentile(repeats: Sequence[Repeat], _: Setting) -> Caution | None:
    """Percentiles of too few requests, in cells that have requests enough to be asked for them."""
    if not repeats or max(len(r.measured) for r in repeats) < LOAD_REQUESTS:
        return None
    count = len(measured(repeats))
    weak = sorted({p for _, p in REQUEST_QUANTILES.values() if thin(count, p)})
    if not weak:
        return None
    wanted = ", ".join(f"p{p * 100:.0f} wants {round(10 / (1 - p)):,}" for p in weak)
    return Caution("thin-percentile", f"{count:,} requests in all; {wanted}")


def no_steady_window(repeats: Sequence[Repeat], _: Setting) -> Caution | None:
    """A load that was never held long enough for a throughput."""
    loads = [r for r in repeats if r.measured and not r.alone and not r.at_once]
    why = [f.reason for r in loads if isinstance(f := steady_throughput(r), Missing)]
    if not why:
        return None
    return Caution("no-steady-window", f"in {len(why)} of {plural(len(loads), 'repeat')}: {why[0]}")


def queue(repeats: Sequence[Repeat]) -> str | None:
    """Evidence of a driver that could not keep up; None where it did, or where that cannot be told."""
    waits = [w for r in repeats if (w := queue_p99_s(r)) is not None]
    if not waits or median(waits) <= QUEUE_S:
        return None
    return f"chunks waited {digits(median(waits) * 1e3)} ms (p99) for the driver; {QUEUE_S * 1e3:g} allowed"
