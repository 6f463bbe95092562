"""The open study and its run: what outlives the screen, should that end with an error."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Protocol

from zinc_kettle.core.plan.factors import HERE
from zinc_kettle.errors import KettleError

if TYPE_CHECKING:
    from zinc_kettle.app.views import OpenPlan
    from zinc_kettle.core.results import StudyResults
    from zinc_kettle.session.experiment import Experiment
    from zinc_kettle.session.progress import Ended, Event
    from zinc_kettle.tui.run_state import RunState


class Listener(Protocol):
    """Who is told when something has changed."""

    def run_changed(self) -> None:
        """Cells have changed."""
        ...

    def run_ended(self, error: BaseException | None) -> None:
        """The run has ended: by itself, by a person (no error either), or by an error."""
        ...


class Runner:
    """Holds what is open, and runs one study at a time in the event loop it is started in."""

    def __init__(self) -> None:
        self.results: StudyResults | None = None
        self.file: Path | None = None
        """The study file of what is open, where there is one."""
        self.state: RunState | None = None
        self.measure = "decode"
        """What the map shows."""
        self.further: tuple[str, ...] = ("prefill_client", "memory")
        """Measures that large cells show besides."""
        self.rig = HERE
        """The rig that Rigs and Fit show."""
        self.plan: OpenPlan | None = None
        """The plan that is being edited."""
        self.rungs: tuple[str, ...] = ()
        """Names of the sides Duel shows."""
        self.listener: Listener | None = None
        self._task: asyncio.Task[Ended] | None = None
        self._open: Callable[[str], StudyResults] | None = None

    @property
    def active(self) -> bool:
        """True while a study is being measured here."""
        return self._task is not None and self.state is not None and self.state.active

    def follow(self, events: Sequence[Event], open_run: Callable[[str], StudyResults]) -> bool:
        """Show how a run stands that is measured in another terminal; true where its cells have changed.

        Args:
            events: Its newest signs.
            open_run: Reads a kept run.
        """
        from zinc_kettle.tui.run_state import RunState

        results = self.results
        if self.active or results is None or results.run.state != "running":
            return False
        before, self.state = self.state, RunState(elsewhere=True)
        if before is not None and before.elsewhere:
            self.state.speeds = before.speeds
        for event in events:
            self.state.take(event)
        moved = before is None or before.done != self.state.done or before.phase != self.state.phase or not events
        if moved:
            self.results = open_run(results.run.run_id)
        if self.results is not None and self.results.run.state != "running":
            self.state.ended = self.results.run.state
        return moved

    def start(
        self, make: Callable[[Callable[[Event], None]], Experiment], open_run: Callable[[str], StudyResults]
    ) -> None:
        """Begin to measure.

        Args:
            make: Makes the experiment, given what takes its events.
            open_run: Reads a kept run.
        """
        from zinc_kettle.tui.run_state import RunState

        experiment = make(self._take)
        self.state, self._open = RunState(), open_run
        self._task = asyncio.get_running_loop().create_task(experiment.run())
        self._task.add_done_callback(self._done)

    def stop(self) -> None:
        """Stop cleanly; everything measured is kept."""
        if self._task is not None and self.state is not None:
            self.state.stopping = True
            self._task.cancel()

    async def stopped(self, limit_s: float) -> None:
        """Stop, and wait for the end."""
        self.stop()
        if self._task is not None:
            with contextlib.suppress(TimeoutError):
                async with asyncio.timeout(limit_s):
                    await asyncio.wait({self._task})

    def _take(self, event: Event) -> None:
        from zinc_kettle.session import progress as p

        if self.state is not None:
            self.state.take(event)
        if isinstance(event, (p.Began, p.Widened)) and self._open is not None:
            self.results = self._open(event.run_id)
        elif isinstance(event, p.RepeatEnded) and self.results is not None:
            self.results.take(event.cell, event.kept)
        else:
            return
        if self.listener is not None:
            self.listener.run_changed()

    def _done(self, task: asyncio.Task[Ended]) -> None:
        self._task = None
        if self.state is not None and not self.state.ended:
            self.state.ended = "stopped"
        if self.results is not None and self.results.run.run_id and self._open is not None:
            with contextlib.suppress(KettleError):
                self.results = self._open(self.results.run.run_id)
        if self.listener is not None:
            self.listener.run_ended(None if task.cancelled() else task.exception())
