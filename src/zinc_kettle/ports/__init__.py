"""Small protocols: what the session needs of the outside, each implemented above by one real adapter.

Here: clock, engine, load source, telemetry, store, models. Not here: any implementation.
May import: zinc_kettle.wire, core, errors.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Protocol

from zinc_kettle.core.measures import Repeat
from zinc_kettle.core.plan import LaunchSettings, Run, Study
from zinc_kettle.core.telemetry import Launch, Machine, Trace
from zinc_kettle.core.timeline import Timeline
from zinc_kettle.wire.messages import ChatMessage, Episode, EpisodeDone, Setup, Tick

Json = dict[str, Any]


class Clock(Protocol):
    """Time, handed in so that tests need not wait for it."""

    def now_ns(self) -> int:
        """Monotonic nanoseconds."""
        ...

    def wall_s(self) -> float:
        """Seconds since 1970, for dates only."""
        ...


@dataclass(frozen=True)
class ModelFile:
    """A model as a file."""

    name: str
    quantization: str | None
    path: Path
    """On the machine where the engine is to run."""
    size_bytes: int


class Models(Protocol):
    """Where model files come from."""

    def find(self, model: str, quantization: str | None, rig: str | None = None) -> ModelFile | None:
        """The file of a model on a rig (this machine where none is named), or None where it must be made first or is
        found only when the engine starts.

        Raises:
            ModelError: It is neither there nor can it be made.
        """
        ...

    def needs_making(self, rig: str | None) -> bool:
        """True where a model that is not found is to be made on this machine before the run."""
        ...

    def planned_bytes(self, model: str, quantization: str | None) -> int:
        """Size of a file that would have to be made."""
        ...

    def make(self, model: str, quantization: str | None, progress: Callable[[int, int], None]) -> ModelFile:
        """Make it; blocks for seconds, so call it in a worker thread."""
        ...


class RunningEngine(Protocol):
    """An engine that answers."""

    base_url: str
    model_name: str
    key_variable: str | None
    key_file: str | None
    """A file that holds the key; its content is read by the driver alone."""
    ca_file: str | None
    pid: int | None
    """None where its process cannot be seen."""
    launch: Launch
    facts: Json
    rig: str | None
    """Where it runs; None for this machine."""

    def alive(self) -> bool:
        """False once its process has ended."""
        ...

    def last_words(self) -> str:
        """The last lines it printed, cleaned."""
        ...

    def extras(self) -> Json:
        """Fields its recipe adds to each request: exact length, counts per chunk, prompt cache."""
        ...

    async def count_tokens(self, messages: Sequence[ChatMessage]) -> int | None:
        """Prompt tokens of these messages, template included; None where it has no way to tell."""
        ...

    async def round_trip_s(self) -> float | None:
        """Shortest time of a tiny request to it and back; None where it cannot be taken."""
        ...

    async def stop(self) -> None:
        """End it within five seconds, whatever it does."""
        ...


class Engines(Protocol):
    """Starts engines."""

    async def start(self, settings: LaunchSettings, model: ModelFile | None, *, launch_id: str) -> RunningEngine:
        """Start one and wait until it answers.

        Raises:
            EngineError: It did not; its last words are in the error.
        """
        ...

    async def close(self) -> None:
        """Let go of the machines they ran on."""
        ...


class LoadSource(Protocol):
    """A driver process."""

    async def aim(self, setup: Setup) -> None:
        """Say where to send."""
        ...

    async def run(
        self, episode: Episode, *, on_tick: Callable[[Tick], None], on_timeline: Callable[[Timeline], None]
    ) -> EpisodeDone:
        """Run an episode to its end.

        Raises:
            DriverError: The driver ended or complained.
        """
        ...

    async def close(self) -> None:
        """End it."""
        ...


class Watch(Protocol):
    """Telemetry of one episode, running until it is ended."""

    def latest(self) -> tuple[int, float]:
        """Resident bytes and cores in use right now, for eyes."""
        ...

    def end(self, *, driver_cpu_ns: int) -> tuple[Trace, Machine]:
        """Stop sampling and hand over what was seen."""
        ...


class Telemetry(Protocol):
    """Starts watches."""

    def watch(self, engine: RunningEngine) -> Watch:
        """Sample an engine where it runs, until ended."""
        ...

    async def machine_facts(self) -> Json:
        """Kind of machine: processor, cores, memory, system; under `rigs` those of other machines, and `simulated`
        where any of them is. No host name, no path.

        Raises:
            RigError: A rig cannot be reached.
        """
        ...


class RemoteProcess(Protocol):
    """A program running on another machine; bytes in and out."""

    @property
    def returncode(self) -> int | None:
        """How it ended; None while it runs."""
        ...

    async def out_line(self) -> bytes:
        """The next line of its standard output; empty at its end."""
        ...

    async def error_line(self) -> bytes:
        """The next line of its standard error; empty at its end."""
        ...

    def give(self, data: bytes) -> None:
        """Write to its standard input."""
        ...

    def close_input(self) -> None:
        """Close its standard input."""
        ...

    async def wait(self) -> None:
        """Until it has ended."""
        ...


class Shell(Protocol):
    """What can be done on another machine. Everything has a limit in time, and raises RigError."""

    async def run(self, argv: Sequence[str], *, give: str = "", limit_s: float = 30.0) -> str:
        """Run a program to its end and return what it printed."""
        ...

    async def start(self, argv: Sequence[str], *, give: str = "") -> RemoteProcess:
        """Start a program and leave its input open after `give`."""
        ...

    async def files(self, folder: str) -> dict[str, int]:
        """Names and sizes of the files in a folder."""
        ...

    async def head(self, path: str, count: int) -> bytes:
        """The first bytes of a file."""
        ...

    async def forward(self, port: int) -> str:
        """An address on this machine that leads to a port of 127.0.0.1 there, through a process of its own."""
        ...


class Store(Protocol):
    """Keeps studies; a write that fails raises StoreError and stops the run."""

    def begin(self, study: Study, *, source: str, facts: Json, wall_s: float) -> str:
        """Register a study and its plan, or find the unfinished one of the same plan; returns its id."""
        ...

    def done_runs(self, study_id: str) -> set[tuple[int, int]]:
        """(block, cell) of every repeat that is finished or failed for good."""
        ...

    def measured(self, study_id: str) -> list[tuple[int, Repeat]]:
        """Cell and repeat of all that is measured, in the order it ran."""
        ...

    def begin_repeat(self, study_id: str, run: Run, *, concurrency: int, launch: Json | None) -> str:
        """Open a repeat; returns its id. `launch` holds the plain `launch` and the engine's `facts`."""
        ...

    def add_timeline(self, repeat_id: str, timeline: Timeline) -> None:
        """Keep one request, at once."""
        ...

    def end_repeat(self, repeat_id: str, repeat: Repeat) -> None:
        """Close a repeat with its telemetry and cost."""
        ...

    def fail_repeat(self, repeat_id: str, *, what: str, last_words: str) -> None:
        """Close a repeat that failed, with the engine's last words."""
        ...

    def set_state(self, study_id: str, state: str) -> None:
        """`running`, `stopped` or `measured`."""
        ...
