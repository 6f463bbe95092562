"""Power and energy of one repeat, over named windows. Definitions: docs/measures.md, section 'Power and energy'."""

from __future__ import annotations

from collections.abc import Callable

from zinc_kettle.core.record.repeat import Repeat
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.core.stats import median
from zinc_kettle.core.units import NS_PER_S

IDLE = "idle_w"
"""Name under which a repeat keeps the rig's idle power, taken before its engine was started."""


WALL = "wall_w"
"""Name under which a repeat keeps a wall-meter reading under load."""


TYPED = "a wall-meter reading that was typed in"


def energy_source(repeat: Repeat) -> str:
    """What told the energy of a repeat, in words; empty where nothing did."""
    if repeat.trace is not None and repeat.trace.energy_uj is not None:
        return repeat.trace.energy_source
    return TYPED if WALL in repeat.extras else ""


def mean_watts(repeat: Repeat) -> float | None:
    """Mean power from the first measured request sent to the last one ended.

    Where nothing told the energy, the wall-meter reading under load that a person typed in; None without that, too.
    """
    window = _window(repeat)
    if window is None:
        return None
    if repeat.trace is None or repeat.trace.energy_uj is None:
        return repeat.extras.get(WALL)
    joules = repeat.trace.joules(*window)
    return None if joules is None else joules * NS_PER_S / (window[1] - window[0])


def joules_per_token(repeat: Repeat, *, net: bool) -> float | None:
    """Energy of the whole episode over its output tokens: gross, or less what the idle rig would have used.

    Net energy may come out negative where the load is small and the idle power was taken in a livelier moment.
    """
    window, watts = _window(repeat), mean_watts(repeat)
    tokens = sum(t.total_tokens for t in repeat.measured)
    if window is None or watts is None or not tokens:
        return None
    if net:
        if IDLE not in repeat.extras:
            return None
        watts -= repeat.extras[IDLE]
    return watts * (window[1] - window[0]) / NS_PER_S / tokens


def prefill_joules(repeat: Repeat) -> float | None:
    """Energy from sending a request to its first output, one stream; the median over requests."""
    return _of_each(repeat, lambda t: (t.sent_ns, t.sent_ns + (t.ttft_ns or 0)), per_token=False)


def decode_joules(repeat: Repeat) -> float | None:
    """Energy from a request's first output to its last over the tokens in between, one stream; the median."""
    return _of_each(repeat, lambda t: (t.sent_ns + (t.ttft_ns or 0), t.sent_ns + t.duration_ns), per_token=True)


def _of_each(repeat: Repeat, window: Callable[[Timeline], tuple[int, int]], *, per_token: bool) -> float | None:
    if repeat.trace is None or not repeat.alone:
        return None
    found = []
    for t in repeat.measured:
        joules = repeat.trace.joules(*window(t))
        if joules is not None and (not per_token or t.decode_tokens > 0):
            found.append(joules / t.decode_tokens if per_token else joules)
    return median(found) if found else None


def _window(repeat: Repeat) -> tuple[int, int] | None:
    requests = repeat.measured
    if not requests:
        return None
    start, end = min(t.sent_ns for t in requests), max(t.end_ns for t in requests)
    return (start, end) if end > start else None
