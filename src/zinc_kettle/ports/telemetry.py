"""Telemetry: what the engine and its machine do while requests are answered."""

from __future__ import annotations

from typing import Protocol

from zinc_kettle.core.facts import RunFacts
from zinc_kettle.core.record.telemetry import Latest, Machine, Trace
from zinc_kettle.ports.engines import RunningEngine


class Watch(Protocol):
    """Telemetry of one episode, running until it is ended."""

    def latest(self) -> Latest:
        """What it takes right now, for eyes."""
        ...

    def end(self, *, driver_cpu_ns: int) -> tuple[Trace, Machine]:
        """Stop sampling and hand over what was seen."""
        ...


class Telemetry(Protocol):
    """Starts watches."""

    def watch(self, engine: RunningEngine) -> Watch:
        """Sample an engine where it runs, until ended."""
        ...

    async def machine_facts(self) -> RunFacts:
        """Kind of machine: processor, cores, memory, system; under `rigs` those of other machines, and `simulated`
        where any of them is. No host name, no path.

        Raises:
            RigError: A rig cannot be reached.
        """
        ...
