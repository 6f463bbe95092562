"""The parts of a study's plan: what an engine is started with, where prompts come from, how often, which limits."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

from zinc_kettle.core.load import Lengths, Recorded

RunOrder = Literal["interleaved", "by-launch"]


@dataclass(frozen=True, slots=True)
class LaunchSettings:
    """All that an engine is started with; a change of any of these needs a reload."""

    model: str
    quantization: str | None
    threads: int | None
    prefill_threads: int | None
    context: int
    slots: int
    batch: int
    micro_batch: int
    cache_precision: str
    prompt_cache: bool
    load_mode: str
    rig: str | None = None
    """The machine; None for the one the tool runs on."""


@dataclass(frozen=True, slots=True)
class Endpoint:
    """An engine that already runs. Keys only by the name of a variable or of a file."""

    url: str
    model: str = "default"
    key_variable: str | None = None
    key_file: str | None = None
    ca_file: str | None = None


@dataclass(frozen=True, slots=True)
class Prompts:
    """Where prompts come from."""

    files: tuple[str, ...] = ()
    texts: tuple[str, ...] = ()
    """Contents of text files, in their order; empty where prompts are made-up words or recorded."""
    recorded: tuple[Recorded, ...] = ()
    """Prompts and conversations of JSON Lines and CSV files, after sampling."""
    tasks: dict[str, tuple[str, ...]] = field(default_factory=dict)
    """Texts of the suite's tasks this study uses, by task."""
    sample: int | None = None
    """How many were drawn from the files with the study's seed; None where all are used."""
    lengths: Lengths | None = None
    """Prompt lengths drawn from a distribution, in place of the factor prompt_tokens."""
    outputs: Lengths | None = None
    """Answer lengths, in place of output_tokens."""


@dataclass(frozen=True, slots=True)
class Repeats:
    """How often, and in which order."""

    count: int = 3
    """How many; the floor where `until_percent` is set."""
    requests: int | None = None
    """Requests in one repeat; None goes by the shape of the load."""
    warm_up: int = 1
    order: RunOrder = "interleaved"
    until_percent: float | None = None
    """Repeat a cell until the half-width of the measure's 95% interval is at most so many percent of its median."""
    until_measure: str = "decode"
    ceiling: int = 0
    """The most repeats of a cell where `until_percent` is set."""

    @property
    def most(self) -> int:
        """Repeats a cell may have."""
        return max(self.count, self.ceiling) if self.until_percent is not None else self.count


@dataclass(frozen=True, slots=True)
class Limits:
    """What bounds a wait, in seconds."""

    request_s: float = 600.0
    stall_s: float = 120.0
    load_s: float = 300.0
    quiet_s: float = 0.0
    """How long a repeat may wait for the hypervisor to leave the machine alone; 0 does not wait."""
