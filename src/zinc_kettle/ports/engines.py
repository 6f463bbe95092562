"""Engines: started, asked, stopped."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

from zinc_kettle.core.facts import EngineFacts
from zinc_kettle.core.plan.recipe import Recipe
from zinc_kettle.core.plan.study import LaunchSpec
from zinc_kettle.core.record.telemetry import Launch
from zinc_kettle.ports.models import ModelFile
from zinc_kettle.wire.messages import ChatMessage


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
    facts: EngineFacts
    rig: str | None
    """Where it runs; None for this machine."""
    recipe: Recipe
    """How it is asked and read."""

    def alive(self) -> bool:
        """False once its process has ended."""
        ...

    def last_words(self) -> str:
        """The last lines it printed, cleaned."""
        ...

    async def count_tokens(self, messages: Sequence[ChatMessage]) -> int | None:
        """Prompt tokens of these messages, template included; None where it has no way to tell."""
        ...

    async def round_trip_s(self) -> float | None:
        """Shortest time of a tiny request to it and back; None where it cannot be taken."""
        ...

    async def look_again(self) -> None:
        """Bring its facts up to date, where somebody else may have changed it."""
        ...

    async def stop(self) -> None:
        """End it within five seconds, whatever it does."""
        ...


class Engines(Protocol):
    """Starts engines."""

    async def start(self, spec: LaunchSpec, model: ModelFile | None, *, launch_id: str) -> RunningEngine:
        """Start one and wait until it answers.

        Raises:
            EngineError: It did not; its last words are in the error.
        """
        ...

    async def close(self) -> None:
        """Let go of the machines they ran on."""
        ...
