"""Studies of a person: what is on the shelf, what came out, and what is decided while one is measured."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from zinc_kettle.app.stores import Stores
from zinc_kettle.app.views import ShelfEntry
from zinc_kettle.config import Places
from zinc_kettle.errors import KettleError, UsageError

if TYPE_CHECKING:
    from zinc_kettle.app.bin import Bin
    from zinc_kettle.app.rig_service import RigService
    from zinc_kettle.app.shelving import Shelving
    from zinc_kettle.core.facts import MachineFacts, RunFacts
    from zinc_kettle.core.fit.remedies import Remedy
    from zinc_kettle.core.plan.factors import Level
    from zinc_kettle.core.plan.study import Cell, Study
    from zinc_kettle.core.problem import Problem
    from zinc_kettle.core.results import RunInfo, StudyResults
    from zinc_kettle.core.run.decisions import Decision
    from zinc_kettle.present.fit_rows import FitRow
    from zinc_kettle.session.experiment import Experiment
    from zinc_kettle.session.progress import Event

NOT_YOURS = "this run is somebody else's: it is not measured on here"
TAKE_OVER = "plan a study of your own from it: n on the shelf, then a copy of it"


class StudyService:
    """Studies and their runs.

    Args:
        places: The person's folders.
        stores: The stores there are.
        rigs: Their rigs; asked for when they are needed.
        extra: Study files that the shelf shows besides.
    """

    def __init__(
        self, places: Places, stores: Stores, rigs: Callable[[], RigService], extra: list[Path] | None = None
    ) -> None:
        self._places = places
        self._stores = stores
        self._rigs = rigs
        self._extra = extra or []
        self._shelving: Shelving | None = None
        self._opened_bin: Bin | None = None

    def shelf(self) -> list[ShelfEntry]:
        """Studies with runs, the one measured last first, then those that are ready; examples where there is no run."""
        from zinc_kettle.app.shelving import Shelving

        self._bin.empty_once()
        if self._shelving is None:
            self._shelving = Shelving(
                self._places, self._stores, self._extra, lambda study: self._rig_facts(study)["simulated"]
            )
        return self._shelving.entries()

    @property
    def _bin(self) -> Bin:
        """What was thrown away."""
        if self._opened_bin is None:
            from zinc_kettle.app.bin import Bin

            self._opened_bin = Bin(self._places, lambda: self._stores.own, self._stores.elsewhere.close)
        return self._opened_bin

    def throw_away(self, entry: ShelfEntry, run: int = 0) -> str:
        """Throw a run away, a bundle of somebody else, or a study file of the person's own; says what it was.

        Raises:
            UsageError: It is an example, or it comes with the tool.
            RunHeldError: It is being measured.
        """
        if entry.example or (entry.file is not None and not entry.runs and entry.file in self._extra):
            raise UsageError(
                "this comes with the tool, and stays", remedy="measure a study of your own: examples then go"
            )
        return self._bin.throw_away(entry, run)

    def take_back(self) -> str:
        """Take back what was thrown away last; empty where nothing was.

        Raises:
            UsageError: It cannot be taken back.
        """
        return self._bin.take_back()

    def open(self, entry: ShelfEntry, run: int = 0) -> StudyResults:
        """A run of a study, or the study planned from its file."""
        from zinc_kettle.app.build import read_study
        from zinc_kettle.core.results import StudyResults

        if entry.runs:
            return self.open_run(entry.runs[min(run, len(entry.runs) - 1)].run_id)
        if entry.file is None:
            raise UsageError("this study has neither a run nor a file")
        study, source = read_study(entry.file, self._places)
        return StudyResults(study, replace(self.planned_info(study), source=source))

    def planned_info(self, study: Study) -> RunInfo:
        """What is known of a study that has not run: which of its rigs are simulated."""
        from zinc_kettle.core.results import RunInfo

        facts = self._rig_facts(study)
        return RunInfo(facts=facts, simulated=facts["simulated"])

    def _rig_facts(self, study: Study) -> RunFacts:
        """Which of a planned study's rigs are simulated, so that the screen says so before anything has run."""
        from zinc_kettle.core.plan.study import rigs_of

        named = rigs_of(study)
        made_up = self._rigs().simulated() if named else ()
        rigs: dict[str, MachineFacts] = {name: {"simulated": name in made_up} for name in named}
        return {"rigs": rigs, "simulated": any(name in made_up for name in named)}

    def open_run(self, run_id: str) -> StudyResults:
        """A kept run."""
        return self._stores.open_run(run_id)

    def glance(self, run_id: str) -> list[Event]:
        """The newest signs of a run that is measured in another terminal."""
        from zinc_kettle.app.live_status import read_glance
        from zinc_kettle.store.reading import is_running

        # A run that was killed while it was paused leaves its last sign behind; the lease knows better.
        return read_glance(self._places.store, run_id) if is_running(self._stores.own, run_id) else []

    def sizes(self, study: Study) -> dict[str, float | None]:
        """Size of the model file of each cell; nothing where a model is not to be had."""
        from zinc_kettle.app.build import model_sizes

        try:
            return model_sizes(study, self._places)
        except KettleError:
            return {}

    def remedies(self, cell: Cell) -> tuple[str, list[Remedy]]:
        """Why a cell does not load, and what would make it load."""
        try:
            return self._rigs().remedies(cell)
        except KettleError:
            return "", []

    def predicted(self, study: Study) -> dict[str, FitRow]:
        """What is predicted of each cell; nothing where the rig file cannot be read, which Rigs tells."""
        try:
            return self._rigs().predicted(study)
        except KettleError:
            return {}

    def experiment(self, results: StudyResults, emit: Callable[[Event], None]) -> Experiment:
        """What would measure the rest of a run, or a new run beside a finished one.

        Raises:
            UsageError: The run is somebody else's: how its engines are started is not for others to say.
        """
        from zinc_kettle.app.build import experiment

        if results.run.origin:
            raise UsageError(NOT_YOURS, remedy=TAKE_OVER)
        return experiment(results.schedule.study, self._places, self._stores.own, emit, source=results.run.source)

    def add_note(self, run_id: str, cell: str | None, text: str) -> None:
        """Keep a note."""
        store, own_id = self._stores.at(run_id)
        store.add_note(own_id, cell, text, wall_s=time.time())

    def steer(
        self, results: StudyResults, wish: type[Decision], levels: Mapping[str, Level], count: int = 0, text: str = ""
    ) -> Decision | Problem:
        """Enter a decision into the log of a run, or say what is wrong with it."""
        from zinc_kettle.core.checks.steering import steer
        from zinc_kettle.core.problem import Problem
        from zinc_kettle.core.run.decisions import Decision

        if results.run.origin:
            return Problem((), NOT_YOURS, remedy=TAKE_OVER)
        run_id = results.run.run_id
        store = self._stores.of(run_id)
        step = store.last_step(run_id)
        found = steer(results, wish, levels, count=count, at_s=time.time(), step=step, text=text)
        if isinstance(found, Decision):
            store.decide(run_id, found)
        return found

    def mark(self, run_id: str, levels: Mapping[str, Level], request: str, text: str) -> Decision:
        """Keep what an answer is marked as."""
        from zinc_kettle.core.run.decisions import Mark

        decision = Mark(time.time(), levels, request=request, mark=text)
        store, own_id = self._stores.at(run_id)
        store.decide(own_id, decision)
        return decision

    def acknowledge(self, run_id: str, levels: Mapping[str, Level], caution: str, reason: str) -> Decision:
        """Keep a person's reason why a caution of the cells with these levels is no worry."""
        from zinc_kettle.core.run.decisions import Acknowledge

        decision = Acknowledge(time.time(), levels, caution=caution, reason=reason)
        store, own_id = self._stores.at(run_id)
        store.decide(own_id, decision)
        return decision
