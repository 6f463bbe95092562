"""How a study loads the engine: shape, arrivals, think time, turns, retries, and where lengths come from.

Definitions and reasons: docs/measures.md, section 'Load shapes'.
"""

from __future__ import annotations

import math
import random
from collections.abc import Sequence
from dataclasses import dataclass, field
from statistics import NormalDist
from typing import Annotated, Any, Literal, TypeVar

from annotated_types import Ge, Gt, Le, Len, Lt

from zinc_kettle.core.declared import About

DAY_S = 86_400
Wait = Annotated[float, Ge(0), Le(DAY_S)]
"""In seconds; 0 does not wait."""
Time = Annotated[float, Gt(0), Le(DAY_S)]
"""In seconds."""
Shape = Literal["closed", "burst", "batch", "open", "conversation"]
T = TypeVar("T")
ArrivalKind = Literal["constant", "poisson", "recorded"]
LengthKind = Literal["fixed", "uniform", "lognormal", "table"]

SHAPES: dict[str, str] = {
    "closed": "n streams; each sends its next request when the last one has ended",
    "burst": "n requests at the same moment",
    "batch": "n prompts handed over in one request",
    "open": "requests at scheduled times, whatever the state of the engine",
    "conversation": "n conversations; each turn carries all earlier ones",
}
ARRIVALS: dict[str, str] = {
    "poisson": "gaps drawn at random, as from many independent people",
    "constant": "gaps all alike",
    "recorded": "as they were recorded, from a file of times",
}
MAX_TOKENS_DRAWN = 1 << 20
Tokens = Annotated[int, Ge(1), Le(MAX_TOKENS_DRAWN)]


LENGTHS: dict[str, str] = {
    "fixed": "all alike",
    "uniform": "any length between two alike",
    "lognormal": "most near the median, a few far above it",
    "table": "lengths with their weights",
}
NEEDED: dict[LengthKind, tuple[str, ...]] = {
    "fixed": ("tokens",),
    "uniform": ("low", "high"),
    "lognormal": ("median", "sigma", "low", "high"),
    "table": ("table",),
}
"""What each kind of distribution is said by."""


@dataclass(frozen=True, slots=True)
class Load:
    """The shape of a study's load."""

    shape: Annotated[Shape, About("shape", "How the requests come.", "closed", SHAPES)] = "closed"
    arrivals: Annotated[
        ArrivalKind, About("arrivals", "Of an open loop: how requests are spaced.", "poisson", ARRIVALS)
    ] = "poisson"
    times_s: tuple[float, ...] = ()
    """Recorded arrival times, counted from the first; used again from the start where more are needed."""
    times_file: Annotated[
        str | None, About("times", "Of recorded arrivals: the file with their times.", "calls.csv")
    ] = None
    think_s: Annotated[Wait, About("think time", "Mean pause before a stream's next request or turn.", "5 s")] = 0.0
    """Drawn from an exponential with the study's seed."""
    turns: Annotated[int, Ge(1), Le(1_000), About("turns", "Of conversations: how many turns each has.", "4")] = 4
    """Of those that are made up."""
    drivers: Annotated[int, Ge(0), Le(64), About("drivers", "Processes that send; 0 lets the tool choose.", "0")] = 0


@dataclass(frozen=True, slots=True)
class Promise:
    """What users are promised; requests that keep it count into goodput."""

    ttft_s: Annotated[
        Time | None, About("first token", "Users are promised the first output within this time.", "2 s")
    ] = None
    """From when a request is due."""
    tpot_s: Annotated[Time | None, About("each token", "And each further token within this time.", "100 ms")] = None
    percentile: Annotated[
        float, Ge(50), Lt(100), About("kept by", "So many percent of the requests must keep each of these.", "95")
    ] = 95.0
    failures_percent: Annotated[float, Ge(0), Lt(100), About("may fail", "So many of the requests may fail.", "1%")] = (
        1.0
    )

    @property
    def made(self) -> bool:
        """True where anything is promised."""
        return self.ttft_s is not None or self.tpot_s is not None


@dataclass(frozen=True, slots=True)
class CapacitySearch:
    """A search for the largest load that keeps the promise; without a factor there is none."""

    factor: Annotated[
        Literal["", "concurrency", "rate"],
        About(
            "by",
            "Find the largest load that keeps the promise: by streams at once, or by requests per minute.",
            "concurrency",
            {"concurrency": "streams at once", "rate": "requests per minute, an open loop"},
            blank=True,
        ),
    ] = ""
    """Its levels in the plan are where the search begins."""
    most: Annotated[int, Ge(1), Le(1_000_000), About("up to", "The largest load that may be tried.", "64")] = 1024
    within_percent: Annotated[
        float, Ge(1), Le(50), About("within", "How narrow the interval of the answer is to be.", "5%")
    ] = 5.0
    """To each side."""
    steps: Annotated[
        int, Ge(3), Le(40), About("steps", "The most loads that are tried; to try one again counts half.", "12")
    ] = 12
    """For each combination of the other factors."""
    hold_s: Annotated[
        float,
        Ge(1),
        Le(DAY_S),
        About("held for", "Of requests per minute: how long each repeat holds a load, at least.", "20 s"),
    ] = 20.0


@dataclass(frozen=True, slots=True)
class RetryPolicy:
    """Which failed requests are sent again."""

    times: Annotated[int, Ge(0), Le(100), About("times", "How often a failed request is sent again.", "2")] = 0
    on: Annotated[
        tuple[str, ...], About("on", "Faults after which it is; docs/faults.md lists them.", "refused, http-503")
    ] = ("refused", "http-429", "http-503")
    wait_s: Annotated[Wait, About("wait", "Before the first retry.", "1 s")] = 1.0
    backoff: Annotated[float, Ge(1), Le(10), About("backoff", "By what the wait grows with each retry.", "2")] = 2.0
    most_s: Annotated[Wait, About("longest wait", "The longest wait.", "30 s")] = 30.0


@dataclass(frozen=True, slots=True)
class Lengths:
    """A distribution of token counts."""

    kind: Annotated[LengthKind, About("kind", "Which distribution.", "uniform", LENGTHS)] = "fixed"
    tokens: Annotated[Tokens, About("tokens", "Of fixed: the length.", "512", blank=True)] = 0
    low: Annotated[Tokens, About("low", "Of uniform: the least; of lognormal, nothing below.", "32")] = 1
    high: Annotated[Tokens, About("high", "Of uniform: the most; of lognormal, nothing above.", "1500", blank=True)] = (
        MAX_TOKENS_DRAWN
    )
    median: Annotated[
        float, Ge(1), Le(MAX_TOKENS_DRAWN), About("median", "Of lognormal: half are longer.", "300", blank=True)
    ] = 0.0
    sigma: Annotated[
        float,
        Gt(0),
        Le(5),
        About("sigma", "Of lognormal: the standard deviation of the logarithm.", "0.7", blank=True),
    ] = 0.0
    table: Annotated[
        tuple[tuple[Tokens, Annotated[float, Gt(0), Lt(math.inf)]], ...],
        Len(0, 1_000),
        About("table", "Of table: tokens with their weights.", "[[128, 3], [2048, 1]]"),
    ] = ()

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


def mean_length(lengths: Lengths) -> float:
    """The mean of a distribution, in tokens, from a hundred of its quantiles."""
    return sum(_quantile(lengths, (i + 0.5) / 100) for i in range(100)) / 100


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


def sample(recorded: Sequence[T], count: int | None, *, seed: int) -> list[T]:
    """A sample without repetition, the same for the same seed; all, in their order, where none is asked for."""
    if count is None or count >= len(recorded):
        return list(recorded)
    picks = sorted(random.Random(f"sample-{seed}").sample(range(len(recorded)), count))
    return [recorded[i] for i in picks]
