"""What a running study tells those who watch it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, TypeAlias

from zinc_kettle.core.measures import Repeat
from zinc_kettle.core.timeline import Timeline
from zinc_kettle.wire.messages import Tick


@dataclass(frozen=True, slots=True)
class Began:
    """The study has begun, or goes on."""

    study_id: str
    runs: int
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

    cell: int
    block: int


@dataclass(frozen=True, slots=True)
class Warming:
    """The engine is up; warm-up requests run."""

    cell: int
    block: int


@dataclass(frozen=True, slots=True)
class Live:
    """A glance at the episode that runs now."""

    cell: int
    block: int
    warmup: bool
    tick: Tick
    resident_bytes: int
    cores: float


@dataclass(frozen=True, slots=True)
class Received:
    """A request has ended and is kept."""

    cell: int
    timeline: Timeline


@dataclass(frozen=True, slots=True)
class RepeatEnded:
    """A repeat is measured and kept."""

    cell: int
    block: int
    repeat: Repeat
    facts: dict[str, Any]
    """What the engine said of itself."""


@dataclass(frozen=True, slots=True)
class RepeatFailed:
    """A repeat failed; the study goes on."""

    cell: int
    block: int
    what: str
    last_words: str


@dataclass(frozen=True, slots=True)
class Progress:
    """How far the study is."""

    done: int
    runs: int
    left_s: float


@dataclass(frozen=True, slots=True)
class Ended:
    """The study is measured, or was stopped."""

    state: str
    measured: int
    failed: int


Event: TypeAlias = Began | Making | Loading | Warming | Live | Received | RepeatEnded | RepeatFailed | Progress | Ended
