"""How a study loads the engine: shape, arrivals, think time, turns, retries, and where lengths come from.

Definitions and reasons: docs/measures.md, section 'Load shapes'.
"""

from __future__ import annotations

import math
import random
from collections.abc import Sequence
from dataclasses import dataclass, field
from statistics import NormalDist
from typing import Any, Literal

Shape = Literal["closed", "burst", "batch", "open", "conversation"]
ArrivalKind = Literal["constant", "poisson", "recorded"]
LengthKind = Literal["fixed", "uniform", "lognormal", "table"]

SHAPES: dict[str, str] = {
    "closed": "n streams; each sends its next request when the last one has ended",
    "burst": "n requests at the same moment",
    "batch": "n prompts handed over in one request",
    "open": "requests at scheduled times, whatever the state of the engine",
    "conversation": "n conversations; each turn carries all earlier ones",
}
MAX_TOKENS_DRAWN = 1 << 20


@dataclass(frozen=True, slots=True)
class Load:
    """The shape of a study's load."""

    shape: Shape = "closed"
    arrivals: ArrivalKind = "poisson"
    """Open loop: gaps all alike, exponential, or as they were recorded."""
    times_s: tuple[float, ...] = ()
    """Recorded arrival times, counted from the first; used again from the start where more are needed."""
    times_file: str | None = None
    """Where the recorded times came from, for the person."""
    think_s: float = 0.0
    """Mean pause of a stream before its next request or turn; drawn from an exponential with the study's seed."""
    turns: int = 4
    """Turns of a conversation that is made up."""
    drivers: int = 0
    """Driver processes; 0 lets the tool choose by the driver's measured ceiling."""


@dataclass(frozen=True, slots=True)
class Promise:
    """What users are promised; requests that keep it count into goodput."""

    ttft_s: float | None = None
    """From when a request is due to its first output."""
    tpot_s: float | None = None
    """Per output token after the first."""
    percentile: float = 95.0
    """So many percent of the requests must keep each of these."""
    failures_percent: float = 1.0
    """And no more than so many may fail."""

    @property
    def made(self) -> bool:
        """True where anything is promised."""
        return self.ttft_s is not None or self.tpot_s is not None


@dataclass(frozen=True, slots=True)
class CapacitySearch:
    """A search for the largest load that keeps the promise; without a factor there is none."""

    factor: str = ""
    """`concurrency` or `rate`; its levels in the plan are where the search begins."""
    most: int = 1024
    """The largest load that may be tried."""
    within_percent: float = 5.0
    """How narrow the interval of the answer is to be, to each side."""
    steps: int = 12
    """The most loads that are tried, for each combination of the other factors; to try one again counts half."""
    hold_s: float = 20.0
    """An open loop holds each load at least so long, in each repeat."""


@dataclass(frozen=True, slots=True)
class RetryPolicy:
    """Which failed requests are sent again."""

    times: int = 0
    on: tuple[str, ...] = ("refused", "http-429", "http-503")
    """Fault codes of core.faults."""
    wait_s: float = 1.0
    backoff: float = 2.0
    most_s: float = 30.0


@dataclass(frozen=True, slots=True)
class Lengths:
    """A distribution of token counts."""

    kind: LengthKind = "fixed"
    tokens: int = 0
    """fixed"""
    low: int = 1
    """uniform, and the least that is drawn of any"""
    high: int = MAX_TOKENS_DRAWN
    median: float = 0.0
    """lognormal"""
    sigma: float = 0.0
    """lognormal: standard deviation of the logarithm"""
    table: tuple[tuple[int, float], ...] = ()
    """table: tokens and weight"""

    @property
    def most(self) -> int:
        """The longest that may be drawn."""
        if self.kind == "fixed":
            return self.tokens
        return max(tokens for tokens, _ in self.table) if self.kind == "table" else self.high


@dataclass(frozen=True, slots=True)
class Recorded:
    """A recorded conversation or prompt: pairs of role and text, and the answer's length where it is known."""

    messages: tuple[tuple[str, str], ...]
    output_tokens: int | None = None
    extra: dict[str, Any] = field(default_factory=dict)

    @property
    def asks(self) -> int:
        """Turns of the user."""
        return sum(1 for role, _ in self.messages if role == "user")


def draw(lengths: Lengths, count: int, *, seed: int, what: str) -> list[int]:
    """`count` lengths; the same for the same seed, and independent for different `what`.

    The draws are stratified: the i-th comes from the i-th of `count` equal parts of the distribution, then all are
    shuffled. Repeats of different seeds then differ far less in their mean than independent draws would (Cochran 1977,
    chapter 5), which keeps the spread of lengths out of the spread of speeds.

    Args:
        lengths: The distribution.
        count: How many.
        seed: The study's.
        what: What they are the lengths of; another stream of random numbers.
    """
    rng = random.Random(f"{what}-{seed}")
    out = [_quantile(lengths, (i + rng.random()) / count) for i in range(count)]
    rng.shuffle(out)
    return out


def _quantile(lengths: Lengths, p: float) -> int:
    if lengths.kind == "fixed":
        return lengths.tokens
    if lengths.kind == "uniform":
        return min(lengths.high, lengths.low + int(p * (lengths.high - lengths.low + 1)))
    if lengths.kind == "lognormal":
        value = lengths.median * math.exp(lengths.sigma * normal_quantile(p))
        return max(lengths.low, min(lengths.high, round(value)))
    total, upto = sum(weight for _, weight in lengths.table), 0.0
    for tokens, weight in lengths.table:
        upto += weight / total
        if p <= upto:
            return tokens
    return lengths.table[-1][0]


def normal_quantile(p: float) -> float:
    """Quantile of the standard normal, p in (0, 1)."""
    return NormalDist().inv_cdf(min(1 - 1e-12, max(1e-12, p)))


def arrivals_ns(load: Load, count: int, per_minute: float, *, seed: int | str) -> list[int]:
    """Due times of `count` requests from the start of the episode, ascending, in nanoseconds.

    Args:
        load: Which kind of arrivals.
        count: How many.
        per_minute: Mean rate; recorded times keep their pattern and are stretched to it where it is above 0.
        seed: Of the exponential gaps (a Poisson process: Kingman 1993).
    """
    if load.arrivals == "recorded":
        return _recorded_ns(load.times_s, count, per_minute)
    gap_s = 60.0 / per_minute
    if load.arrivals == "constant":
        return [round(i * gap_s * 1e9) for i in range(count)]
    rng = random.Random(f"arrivals-{seed}")
    at, out = 0.0, []
    for _ in range(count):
        at += rng.expovariate(1.0) * gap_s
        out.append(round(at * 1e9))
    return out


SHORTEST_S = 1e-9
"""Times are kept to the nanosecond."""


def _recorded_ns(times_s: Sequence[float], count: int, per_minute: float) -> list[int]:
    span = times_s[-1] - times_s[0]
    span = span if span > SHORTEST_S else 0.0  # what rounds to nothing is no pattern to stretch
    mean_gap = span / (len(times_s) - 1) if len(times_s) > 1 else 0.0
    # Round again after one mean gap, so that the seam is as long as the others are on average.
    lap = span + (mean_gap or 1.0)
    raw = [times_s[i % len(times_s)] - times_s[0] + lap * (i // len(times_s)) for i in range(count)]
    scale = (60.0 / per_minute) / mean_gap if per_minute > 0 and mean_gap > 0 else 1.0
    return [round(at * scale * 1e9) for at in raw]


def thinks_ns(load: Load, count: int, *, seed: int | str) -> list[int]:
    """Pauses before each of `count` requests, exponential with the mean asked for, in nanoseconds."""
    if load.think_s <= 0:
        return [0] * count
    rng = random.Random(f"think-{seed}")
    return [round(rng.expovariate(1.0) * load.think_s * 1e9) for _ in range(count)]


def sample(recorded: Sequence[Recorded], count: int | None, *, seed: int) -> list[Recorded]:
    """A sample without repetition, the same for the same seed; all, in their order, where none is asked for."""
    if count is None or count >= len(recorded):
        return list(recorded)
    picks = sorted(random.Random(f"sample-{seed}").sample(range(len(recorded)), count))
    return [recorded[i] for i in picks]
