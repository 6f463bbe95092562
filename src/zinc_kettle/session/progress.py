"""What a running study tells those who watch it. Cells are named by their keys."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TypeAlias

from zinc_kettle.core.record.telemetry import Latest
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.core.results import CellKept, Failure
from zinc_kettle.wire.messages import Tick


@dataclass(frozen=True, slots=True)
class Began:
    """A run has begun, or goes on."""

    run_id: str
    repeats: int
    """Of the whole plan, as far as is known."""
    done: int


@dataclass(frozen=True, slots=True)
class Making:
    """A model file is being made because it is not there."""

    model: str
    quantization: str | None
    done_bytes: int
    total_bytes: int


@dataclass(frozen=True, slots=True)
class Loading:
    """An engine is being started for a cell."""

    cell: str
    block: int


@dataclass(frozen=True, slots=True)
class Warming:
    """The engine is up; warm-up requests run."""

    cell: str
    block: int


@dataclass(frozen=True, slots=True)
class Disturbed:
    """A repeat waits for a quiet moment."""

    cell: str
    block: int
    other_cores: float
    """What others keep busy of the processor."""
    stolen_share: float
    """Share of it that the hypervisor takes away."""


@dataclass(frozen=True, slots=True)
class Live:
    """A glance at the episode that runs now."""

    cell: str
    block: int
    warmup: bool
    tick: Tick
    taken: Latest
    """What the engine takes."""


@dataclass(frozen=True, slots=True)
class Received:
    """A request has ended and is kept."""

    cell: str
    timeline: Timeline


@dataclass(frozen=True, slots=True)
class RepeatEnded:
    """A repeat is measured, or has failed, and is kept; the study goes on."""

    cell: str
    block: int
    kept: CellKept
    """What its cell has become."""
    failure: Failure | None = None
    """Why it failed; None where it is measured."""
    wanted: int = 0
    """Repeats its cell needs now."""


@dataclass(frozen=True, slots=True)
class Widened:
    """The plan has more cells, fewer, or other counts: a person decided so."""

    run_id: str


@dataclass(frozen=True, slots=True)
class Paused:
    """Nothing is begun until a person says so."""


@dataclass(frozen=True, slots=True)
class Progress:
    """How far the run is."""

    done: int
    repeats: int
    left_s: float | None
    """None where nothing tells how long a repeat takes."""


@dataclass(frozen=True, slots=True)
class Ended:
    """The study is measured, or was stopped."""

    state: str
    measured: int
    failed: int


Event: TypeAlias = (
    Began | Making | Loading | Warming | Disturbed | Live | Received | RepeatEnded | Widened | Paused | Progress | Ended
)
