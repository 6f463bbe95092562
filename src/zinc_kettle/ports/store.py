"""Where studies are kept; a write that fails raises StoreError and stops the run."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Protocol

from zinc_kettle.core.facts import EngineFacts, RunFacts
from zinc_kettle.core.plan.study import Cell, Study
from zinc_kettle.core.record.repeat import Repeat
from zinc_kettle.core.record.telemetry import Launch
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.core.results import Failure, KeptRepeat
from zinc_kettle.core.run.decisions import Decision
from zinc_kettle.core.run.schedule import Tally
from zinc_kettle.core.summary import CellSummary


class Store(Protocol):
    """Keeps runs of studies."""

    def begin(self, study: Study, *, source: str, facts: RunFacts, wall_s: float, fresh: bool = False) -> str:
        """Take up the unfinished run of a plan, or begin a new one beside those there are.

        Args:
            study: The plan.
            source: The study file as it is.
            facts: What is known of the machines.
            wall_s: Seconds since 1970.
            fresh: Begin a new run also where one is unfinished.

        Returns:
            The run's id.

        Raises:
            RunHeldError: Another copy of the tool is measuring it.
        """
        ...

    def beat(self, run_id: str, *, wall_s: float) -> None:
        """Say that this run is still being measured here.

        Raises:
            StoreError: Somebody else has taken it over.
        """
        ...

    def decisions(self, run_id: str) -> tuple[Decision, ...]:
        """What a person decided, in order."""
        ...

    def decide(self, run_id: str, decision: Decision) -> None:
        """Add a decision to the log of a run."""
        ...

    def done(self, run_id: str, measure: str | None = None) -> Mapping[str, Tally]:
        """What each cell has, by its key; with the values of a measure, where one decides how often to repeat."""
        ...

    def engines(self, run_id: str) -> Mapping[str, EngineFacts]:
        """What the engine of each cell's last repeat reported, by the cell's key."""
        ...

    def repeats(self, run_id: str, cell: str) -> list[KeptRepeat]:
        """All repeats of a cell with their requests, in the order they ran."""
        ...

    def begin_repeat(
        self,
        run_id: str,
        cell: Cell,
        block: int,
        *,
        concurrency: int,
        launch: Launch | None = None,
        facts: EngineFacts | None = None,
    ) -> str:
        """Open a repeat; returns its id.

        Args:
            run_id: The run.
            cell: The cell.
            block: Counted from 0.
            concurrency: Requests in flight at once.
            launch: The launch it runs in; None where the engine did not start.
            facts: What that engine reported.
        """
        ...

    def add_timeline(self, repeat_id: str, timeline: Timeline) -> None:
        """Keep one request, at once."""
        ...

    def end_repeat(self, repeat_id: str, repeat: Repeat) -> None:
        """Close a repeat with its telemetry and cost."""
        ...

    def fail_repeat(self, repeat_id: str, failure: Failure) -> None:
        """Close a repeat that failed."""
        ...

    def keep_summary(self, run_id: str, cell: str, summary: CellSummary) -> None:
        """Keep what is told of a cell."""
        ...

    def set_state(self, run_id: str, state: str) -> None:
        """`running`, `stopped` or `measured`."""
        ...
