"""Figures of a family of cells that differ in prompt length only, and of requests that differ in depth.

Prefill speed as a slope, and the fall of decode speed with the tokens in context. Definitions: docs/measures.md.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from zinc_kettle.core.record.repeat import Missing, Repeat
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.core.stats import FittedLine, fit_line, median
from zinc_kettle.core.units import NS_PER_S

MIN_LENGTHS = 3
PromptPoint = tuple[float, float, int]
"""Of a repeat: uncached prompt tokens, TTFT in seconds, and its block."""
DEPTH_STEP = 1_000.0
REACH = 1.5
"""The longest prompt must be so many times as long as the shortest, the deepest request so many times as deep as the
shallowest; else a line through them is a guess."""


@dataclass(frozen=True, slots=True)
class PrefillSlope:
    """Prefill speed from TTFT over prompt length."""

    rate: float
    """Tokens per second: the inverse of the slope."""
    rate_low: float
    rate_high: float | None
    """None where the slope's interval touches 0: then no upper bound is determined."""
    line: FittedLine
    """TTFT in seconds over uncached prompt tokens."""

    @property
    def overhead(self) -> tuple[float, float, float] | None:
        """Seconds that each request takes besides, with its bounds: the line's intercept, which is not below zero.

        None where the line bends, or where all of its interval is below zero: its start is then no overhead.
        """
        line = self.line
        if line.curved or line.intercept_high < 0:
            return None
        return max(line.intercept, 0.0), max(line.intercept_low, 0.0), line.intercept_high

    @property
    def ends(self) -> tuple[float, float] | None:
        """Tokens per second with which a further token is read after the shortest and after the longest prompt, where
        the line bends; None where it does not, or where no speed follows from the curve."""
        curve = self.line.curve if self.line.curved else None
        if curve is None or min(curve.slope_first, curve.slope_last) <= 0:
            return None
        return 1.0 / curve.slope_first, 1.0 / curve.slope_last

    def seconds(self, tokens: float) -> float:
        """TTFT of a prompt, by the line or, where it bends, by the curve."""
        line, d = self.line, tokens - self.line.x_low
        if line.curve is None or not line.curved:
            return line.intercept + line.slope * tokens
        return line.curve.first + line.curve.slope_first * d + line.curve.bend * d**2


@dataclass(frozen=True, slots=True)
class DepthFall:
    """Decode speed over tokens in context, by a line through the time per token."""

    loss: float
    """Share of the speed at the shallow end that 1,000 further tokens cost."""
    loss_low: float
    loss_high: float
    line: FittedLine
    """Time per output token in seconds over mean depth in tokens."""

    def speed(self, depth: float) -> float:
        """Decode speed at a depth, tokens per second."""
        return 1.0 / (self.line.intercept + self.line.slope * depth)


@dataclass(frozen=True, slots=True)
class Turn:
    """A turn of conversations: medians over all of them."""

    turn: int
    """From 0."""
    requests: int
    depth: float | None
    """Tokens in context in the middle of the answer."""
    ttft_s: float | None
    decode: float | None
    """Tokens per second."""


def turns_of_requests(requests: Sequence[Timeline]) -> list[Turn]:
    """The turns of the conversations among these requests, in order; none where there are no conversations."""
    by_turn: dict[int, list[Timeline]] = {}
    for t in requests:
        if t.conversation is not None:
            by_turn.setdefault(t.turn, []).append(t)
    out = []
    for number, mine in sorted(by_turn.items()):
        depths = [d for t in mine if (d := depth(t)) is not None]
        waits = [t.ttft_ns / NS_PER_S for t in mine if t.ttft_ns is not None]
        speeds = [1 / s for t in mine if (s := _step_s(t)) is not None]
        out.append(Turn(number, len(mine), *(median(values) if values else None for values in (depths, waits, speeds))))
    return out


def prefill_slope(points: Sequence[PromptPoint]) -> PrefillSlope | Missing:
    """Prefill speed of cells that are equal but for their prompt length.

    Args:
        points: Of each of their repeats, as `prompt_point` gives them.
    """
    lengths = {round(x) for x, _, _ in points}
    if len(lengths) < MIN_LENGTHS:
        return Missing(f"a slope needs {MIN_LENGTHS} prompt lengths, measured unqueued and otherwise equal")
    if max(lengths) < REACH * min(lengths):
        return Missing("the prompts are all about equally long")
    line = fit_line([x for x, _, _ in points], [y for _, y, _ in points], [block for _, _, block in points])
    if line is None:
        return Missing("the measured prompts do not have three different lengths")
    if line.slope <= 0 or line.slope_high <= 0:
        return Missing("not determined: TTFT does not grow with the prompt's length")
    high = 1.0 / line.slope_low if line.slope_low > 0 else None
    return PrefillSlope(1.0 / line.slope, 1.0 / line.slope_high, high, line)


def prompt_point(repeat: Repeat) -> PromptPoint | None:
    """The point of a repeat, medians over its requests; None where they were queued."""
    requests = [t for t in repeat.measured if t.ttft_ns is not None and t.uncached_tokens is not None]
    if not requests or not repeat.alone:
        return None
    tokens = median([t.uncached_tokens or 0 for t in requests])
    return tokens, median([(t.ttft_ns or 0) / NS_PER_S for t in requests]), repeat.block


def depth_fall(repeats: Sequence[Repeat]) -> DepthFall | Missing:
    """How decode speed falls with the tokens in context, from the requests of repeats, of different depth."""
    points = [
        (d, s, r.block)
        for r in repeats
        for t in r.measured
        if (d := depth(t)) is not None and (s := _step_s(t)) is not None
    ]
    if len({round(d) for d, _, _ in points}) < MIN_LENGTHS:
        return Missing("a loss with depth needs requests at three or more depths")
    depths = [d for d, _, _ in points]
    if max(depths) < REACH * min(depths):
        return Missing("the requests are all about equally deep")
    line = fit_line(depths, [s for _, s, _ in points], [block for _, _, block in points])
    if line is None:
        return Missing("a loss with depth needs requests at three or more depths")
    loss, low, high = (_loss(line, slope) for slope in (line.slope, line.slope_low, line.slope_high))
    return DepthFall(loss, low, high, line)


def depth(t: Timeline) -> float | None:
    """Tokens in context in the middle of the answer; None where the engine does not say how long the prompt was."""
    return None if t.prompt_tokens is None else t.prompt_tokens + t.total_tokens / 2


def _step_s(t: Timeline) -> float | None:
    return t.decode_ns / t.decode_tokens / NS_PER_S if t.decode_ns > 0 and t.decode_tokens > 0 else None


def _loss(line: FittedLine, slope: float) -> float:
    """Loss over DEPTH_STEP from the shallow end, the line turned about its middle to another slope."""
    middle = (line.x_low + line.x_high) / 2
    at_middle = line.intercept + line.slope * middle
    shallow = at_middle + slope * (line.x_low - middle)
    return 1.0 - shallow / (shallow + slope * DEPTH_STEP)
