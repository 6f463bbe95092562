"""One load episode of a cell with all that was seen of it, and what a figure is."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property
from typing import TypeAlias

from zinc_kettle.core.record.telemetry import Launch, Machine, Trace
from zinc_kettle.core.record.timeline import Timeline


@dataclass(frozen=True, slots=True)
class Missing:
    """A figure that cannot be had."""

    reason: str


Figure: TypeAlias = float | Missing

NO_PROCESS = Missing("the engine's process cannot be seen from here")


@dataclass(frozen=True)
class Repeat:
    """One load episode of a cell, with all that was seen of it."""

    repeat_id: str
    block: int
    concurrency: int
    timelines: tuple[Timeline, ...]
    """All requests, warm-up included."""
    launch: Launch | None = None
    machine: Machine | None = None
    trace: Trace | None = None
    driver_cpu_ns: int = 0
    wall_ns: int = 0
    extras: dict[str, float] = field(default_factory=dict)
    figures: dict[str, Figure] = field(default_factory=dict, init=False, repr=False, compare=False)
    """Every measure, once `core.measures` has computed it: asked for often, and a repeat never changes."""

    @cached_property
    def measured(self) -> tuple[Timeline, ...]:
        """Measured requests that may be counted; a cold one never may."""
        return tuple(t for t in self.timelines if t.role == "measured" and t.usable and not t.cold)

    @cached_property
    def decoded(self) -> tuple[float, int]:
        """Tokens after the first chunks of all measured requests, and the nanoseconds they took together."""
        timed = [t for t in self.measured if t.decode_ns > 0 and t.decode_tokens > 0]
        return sum(t.decode_tokens for t in timed), sum(t.decode_ns for t in timed)

    @property
    def open_loop(self) -> bool:
        """True where requests were sent by schedule."""
        return "open_loop" in self.extras

    @property
    def alone(self) -> bool:
        """True where no request had to share the engine with another of ours."""
        return self.concurrency == 1 and not self.open_loop

    @property
    def at_once(self) -> bool:
        """True where all requests were handed over at one moment."""
        return "burst" in self.extras or "batch" in self.extras

    @property
    def failed(self) -> tuple[Timeline, ...]:
        """Measured requests that may not be counted, and why is in each."""
        return tuple(t for t in self.timelines if t.role == "measured" and not t.usable)

    @property
    def lost(self) -> tuple[Timeline, ...]:
        """Those of them that no further attempt made good, each by its last attempt."""
        answered = {t.request_id for t in self.timelines if t.usable}
        last = {t.request_id: t for t in sorted(self.failed, key=lambda t: t.attempt)}
        return tuple(t for name, t in last.items() if name not in answered)
