"""What is known of a running study at this moment, gathered from its events."""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass, field

from zinc_kettle.core.record.telemetry import Latest
from zinc_kettle.core.units import digits, percent
from zinc_kettle.session import progress as p
from zinc_kettle.wire.messages import LiveStream, Tick

TRACE_POINTS = 120


@dataclass
class RunState:
    """One run, as the lane shows it."""

    phase: str = "starting"
    cell: str | None = None
    """Key of the cell that is being measured."""
    block: int = 0
    done: int = 0
    repeats: int = 0
    left_s: float | None = 0.0
    streams: tuple[LiveStream, ...] = ()
    tick: Tick | None = None
    request: int = 0
    requests: int = 0
    taken: Latest = field(default_factory=Latest)
    """What the engine takes now."""
    ended: str = ""
    failed: int = 0
    """Repeats that failed in this start."""
    stopping: bool = False
    elsewhere: bool = False
    """True where another terminal measures it."""
    speeds: deque[float] = field(default_factory=lambda: deque(maxlen=TRACE_POINTS))

    @property
    def active(self) -> bool:
        """True until the run has ended."""
        return not self.ended

    @property
    def rate(self) -> float:
        """Tokens per second of all streams now."""
        return self.tick.rate if self.tick is not None else 0.0

    @property
    def in_flight(self) -> int:
        """Requests that are open now."""
        return self.tick.prefill + self.tick.decode if self.tick is not None else 0

    def take(self, event: p.Event) -> None:
        """Take one event."""
        if isinstance(event, p.Live):
            self._live(event)
        elif isinstance(event, p.Making):
            share = event.done_bytes / max(1, event.total_bytes)
            self.phase = f"making {event.model} {event.quantization or ''} {share:.0%}"
        elif isinstance(event, p.Loading):
            self._at(event.cell, event.block, "loading the model")
        elif isinstance(event, p.Warming):
            self._at(event.cell, event.block, "warming up")
        elif isinstance(event, p.Disturbed):
            others = f"others use {digits(event.other_cores, significant=2)} cores"
            taken = f"the hypervisor takes {percent(event.stolen_share)}"
            told = others if event.other_cores > event.stolen_share else taken
            self._at(event.cell, event.block, f"waiting for a quiet moment: {told}")
        elif isinstance(event, p.Progress):
            self.done, self.repeats, self.left_s = event.done, event.repeats, event.left_s
        elif isinstance(event, p.Paused):
            self.phase = "paused"
        elif isinstance(event, p.Ended):
            self.ended, self.failed = event.state, event.failed

    def _at(self, cell: str, block: int, phase: str) -> None:
        self.cell, self.block, self.phase = cell, block, phase
        self.streams, self.tick = (), None
        self.speeds.clear()

    def _live(self, event: p.Live) -> None:
        self.cell, self.block = event.cell, event.block
        self.tick, self.streams = event.tick, tuple(event.tick.streams)
        self.request, self.requests = event.tick.finished, event.tick.total
        self.taken = event.taken
        decoding = event.tick.decode > 0
        self.phase = "warming up" if event.warmup else ("decode" if decoding else "prefill")
        self.speeds.append(self.rate)
