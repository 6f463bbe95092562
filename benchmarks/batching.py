"""A simulated engine that batches its streams: what throughput is in its steady state, and what one repeat says it is.

A step of the engine reads a piece of the prompts that wait and writes a token of each stream in decode. All streams of
a load begin together, so they are in prefill together at first, and a window that begins there is biased low.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from zinc_kettle.core.record.repeat import Repeat
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.core.steady import steady_throughput

BASE_MS, TOKEN_MS, PROMPT_MS = 5.0, 0.3, 0.2
"""A step takes so long, and so much longer for each token it writes and for each prompt token it reads."""
LONG = 60
"""Requests a stream in the run whose steady state is the truth."""


@dataclass(frozen=True)
class Load:
    """Streams that each send when their last request has ended."""

    streams: int
    prompt: int
    output: int
    varied: float
    """Spread of the lengths on the logarithm."""
    piece: int
    """Prompt tokens of one step."""


LOADS = (
    Load(1, 512, 64, 0.0, 256),
    Load(4, 512, 64, 0.0, 256),
    Load(4, 512, 64, 0.4, 256),
    Load(8, 64, 128, 0.4, 512),
    Load(16, 512, 64, 0.0, 256),
    Load(16, 512, 64, 0.4, 256),
    Load(16, 512, 64, 0.4, 2048),
    Load(16, 2048, 32, 0.4, 512),
    Load(64, 512, 64, 0.5, 512),
)


@dataclass
class _Request:
    sent_ms: float
    prompt_left: int
    output: int
    stream: int
    stamps_ms: list[float] = field(default_factory=list)


def simulate(load: Load, requests: int, rng: np.random.Generator) -> Repeat:
    """A repeat of so many requests."""

    def draw(tokens: int) -> int:
        return max(2, round(tokens * float(np.exp(rng.normal(0, load.varied)))))

    def begin(at_ms: float, stream: int) -> _Request:
        return _Request(at_ms, draw(load.prompt), draw(load.output), stream)

    now, sent = 0.0, load.streams
    waiting, writing, ended = [begin(0.0, i) for i in range(load.streams)], list[_Request](), list[_Request]()
    while waiting or writing:
        room = load.piece
        for request in waiting:
            read = min(room, request.prompt_left)
            request.prompt_left -= read
            room -= read
        step = BASE_MS + TOKEN_MS * len(writing) + PROMPT_MS * (load.piece - room)
        now += step * float(np.exp(rng.normal(0, 0.02)))
        writing += [request for request in waiting if request.prompt_left == 0]
        waiting = [request for request in waiting if request.prompt_left]
        for request in writing:
            request.stamps_ms.append(now)
        done = [request for request in writing if len(request.stamps_ms) >= request.output]
        writing = [request for request in writing if len(request.stamps_ms) < request.output]
        ended += done
        for request in done[: requests - sent]:
            waiting.append(begin(now, request.stream))
            sent += 1
    return Repeat("", 0, load.streams, tuple(_timeline(request) for request in ended), wall_ns=_ns(now))


def _timeline(request: _Request) -> Timeline:
    stamps: npt.NDArray[np.int64] = np.array([_ns(at) for at in request.stamps_ms], dtype=np.int64)
    return Timeline(
        "",
        "measured",
        request.stream,
        False,
        _ns(request.sent_ms),
        int(stamps[-1]),
        request.output,
        stamps,
        np.ones(len(stamps), dtype=np.int32),
        complete=True,
    )


def _ns(ms: float) -> int:
    return round(ms * 1e6)


def steady_rate(load: Load) -> float:
    """Tokens per second in the long run: from the tenth request of each stream until three before the last."""
    seen = simulate(load, LONG * load.streams, np.random.default_rng(1)).timelines
    ends = sorted(t.end_ns for t in seen)
    start, end = ends[10 * load.streams], ends[-3 * load.streams]
    inside = sum(int(((t.stamps > start) & (t.stamps <= end)).sum()) for t in seen)
    return inside * 1e9 / (end - start)


def biases(load: Load, trials: int) -> tuple[float, float]:
    """How far the throughput of a repeat is from the steady state in the mean, as a share: as the tool has it, and if
    the window began when all streams are busy."""
    truth, ours, early = steady_rate(load), list[float](), list[float]()
    for seed in range(trials):
        repeat = simulate(load, max(8, 4 * load.streams), np.random.default_rng([15, seed]))
        found = steady_throughput(repeat)
        assert isinstance(found, float), found
        ours.append(found / truth - 1)
        end = min(t.end_ns for t in repeat.timelines if t.end_ns > max(t.sent_ns for t in repeat.timelines))
        early.append(sum(int((t.stamps <= end).sum()) for t in repeat.timelines) * 1e9 / end / truth - 1)
    return float(np.mean(ours)), float(np.mean(early))
