"""The rest of the tool as the screen sees it: implements tui.bridge.Desk."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from zinc_kettle.config import Places
from zinc_kettle.errors import KettleError, UsageError
from zinc_kettle.tui.bridge import ShelfEntry
from zinc_kettle.wiring.look import speak, worn
from zinc_kettle.wiring.stores import Stores

if TYPE_CHECKING:
    from zinc_kettle.core.decisions import Decision
    from zinc_kettle.core.factors import Level
    from zinc_kettle.core.facts import MachineFacts, RunFacts
    from zinc_kettle.core.fit.remedies import Remedy
    from zinc_kettle.core.fit.sizing import Wish
    from zinc_kettle.core.health import Check
    from zinc_kettle.core.plan import Cell, Study
    from zinc_kettle.core.preferences import Preferences
    from zinc_kettle.core.problem import Problem
    from zinc_kettle.core.results import RunInfo, StudyResults
    from zinc_kettle.core.rig import Rig
    from zinc_kettle.present.fit_rows import Detail, FitRow
    from zinc_kettle.present.settings import Row
    from zinc_kettle.session.experiment import Experiment
    from zinc_kettle.session.progress import Event
    from zinc_kettle.wiring.answer_desk import AnswerDesk
    from zinc_kettle.wiring.bin import Bin
    from zinc_kettle.wiring.hand_desk import HandDesk
    from zinc_kettle.wiring.plan_desk import PlanDesk
    from zinc_kettle.wiring.rig_desk import RigDesk
    from zinc_kettle.wiring.shelving import Shelving


NOT_YOURS = "this run is somebody else's: it is not measured on here"
TAKE_OVER = "plan a study of your own from it: n on the shelf, then a copy of it"


class RealDesk:
    """Store, study files and experiments of this person."""

    def __init__(self, places: Places, *, extra_studies: list[Path] | None = None) -> None:
        self._places = places
        self._extra = extra_studies or []
        self._stores = Stores(places)
        self._rig_desk: RigDesk | None = None
        self._plan_desk: PlanDesk | None = None
        self._answer_desk: AnswerDesk | None = None
        self._shelving: Shelving | None = None
        self._hand_desk: HandDesk | None = None
        self._opened_bin: Bin | None = None

    def newcomer(self) -> bool:
        """True where the person's data folder is not there, or empty."""
        home = self._places.home
        try:
            return not self._places.demo and not (home.is_dir() and any(home.iterdir()))
        except OSError:
            return False  # the shelf says what is wrong with it

    def write_down(self, error: BaseException) -> str:
        """Write an unexpected error into the log; returns where that is."""
        from zinc_kettle.config.log import log_error

        return log_error(self._places.log, error)

    def checks(self) -> list[Check]:
        """What of this machine can be used."""
        from zinc_kettle.wiring.doctor import examine

        return examine(self._places, driver=False)

    def shelf(self) -> list[ShelfEntry]:
        """Studies with runs, the one measured last first, then those that are ready; examples where there is no run."""
        from zinc_kettle.wiring.shelving import Shelving

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
            from zinc_kettle.wiring.bin import Bin

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
        from zinc_kettle.core.results import StudyResults
        from zinc_kettle.wiring.build import read_study

        if entry.runs:
            return self.open_run(entry.runs[min(run, len(entry.runs) - 1)].run_id)
        if entry.file is None:
            raise UsageError("this study has neither a run nor a file")
        study, source = read_study(entry.file, self._places)
        return StudyResults(study, replace(self._planned_info(study), source=source))

    @property
    def planner(self) -> PlanDesk:
        """Plans."""
        if self._plan_desk is None:
            from zinc_kettle.wiring.plan_desk import PlanDesk

            self._plan_desk = PlanDesk(self._places, self, self._planned_info)
        return self._plan_desk

    def _planned_info(self, study: Study) -> RunInfo:
        from zinc_kettle.core.results import RunInfo

        facts = self._rig_facts(study)
        return RunInfo(facts=facts, simulated=facts["simulated"])

    def _rig_facts(self, study: Study) -> RunFacts:
        """Which of a planned study's rigs are simulated, so that the screen says so before anything has run."""
        from zinc_kettle.core.plan import rigs_of

        named = rigs_of(study)
        made_up = self._rigs.simulated() if named else ()
        rigs: dict[str, MachineFacts] = {name: {"simulated": name in made_up} for name in named}
        return {"rigs": rigs, "simulated": any(name in made_up for name in named)}

    def open_run(self, run_id: str) -> StudyResults:
        """A kept run."""
        return self._stores.open_run(run_id)

    def glance(self, run_id: str) -> list[Event]:
        """The newest signs of a run that is measured in another terminal."""
        from zinc_kettle.store.reading import is_running
        from zinc_kettle.wiring.glance import read_glance

        # A run that was killed while it was paused leaves its last sign behind; the lease knows better.
        return read_glance(self._places.store, run_id) if is_running(self._stores.own, run_id) else []

    def sizes(self, study: Study) -> dict[str, float | None]:
        """Size of the model file of each cell; nothing where a model is not to be had."""
        from zinc_kettle.wiring.build import model_sizes

        try:
            return model_sizes(study, self._places)
        except KettleError:
            return {}

    # rigs
    @property
    def _rigs(self) -> RigDesk:
        if self._rig_desk is None:
            from zinc_kettle.wiring.rig_desk import RigDesk

            self._rig_desk = RigDesk(self._places, lambda: self._stores.own)
        return self._rig_desk

    def rigs(self) -> list[Rig]:
        """All rigs with what is known of them."""
        return self._rigs.rigs()

    async def gather_rig(self, name: str) -> Rig:
        """Ask a rig."""
        return await self._rigs.gather(name)

    async def probe_rig(self, name: str) -> Rig:
        """Probe a rig."""
        return await self._rigs.probe(name)

    async def ready_rig(self, name: str) -> Rig:
        """A rig of which enough is known to fit models on it."""
        return await self._rigs.ready(name)

    def type_fact(self, name: str, text: str) -> Rig:
        """Keep a typed fact."""
        return self._rigs.type_fact(name, text)

    def add_address(self, text: str) -> Rig:
        """Keep an engine that already runs."""
        return self._rigs.add_address(text)

    def fit(self, name: str, wish: Wish, threads: int, pace: float | None) -> list[FitRow]:
        """What fits on a rig."""
        return self._rigs.fit(name, wish, threads, pace)

    def fit_detail(self, name: str, row: FitRow, wish: Wish, rows: Sequence[FitRow], threads: int) -> Detail:
        """What would make a model fit there, and its best quantization."""
        return self._rigs.detail(name, row, wish, rows, threads)

    def preferences(self) -> Preferences:
        """The person's own figures."""
        from zinc_kettle.wiring.charting import preferences

        return preferences(self._places)

    def theme(self) -> str:
        """As the person has set it; read by itself, since the first paint waits for it."""
        return worn(self._places)

    def settings(self) -> list[Row]:
        """What can be set, and the folders."""
        from zinc_kettle.wiring.settings import rows

        return rows(self._places)

    def set_preference(self, key: str, text: str) -> None:
        """Set one of them.

        Raises:
            UsageError: This is no value for it.
        """
        from zinc_kettle.wiring.settings import change

        change(self._places, key, text)
        speak(self._places)

    def remedies(self, cell: Cell) -> tuple[str, list[Remedy]]:
        """Why a cell does not load, and what would make it load."""
        try:
            return self._rigs.remedies(cell)
        except KettleError:
            return "", []

    def predicted(self, study: Study) -> dict[str, FitRow]:
        """What is predicted of each cell; nothing where the rig file cannot be read, which Rigs tells."""
        try:
            return self._rigs.predicted(study)
        except KettleError:
            return {}

    async def close(self) -> None:
        """Let go of rigs that were asked."""
        if self._rig_desk is not None:
            await self._rig_desk.close()

    def experiment(self, results: StudyResults, emit: Callable[[Event], None]) -> Experiment:
        """What would measure the rest of a run, or a new run beside a finished one.

        Raises:
            UsageError: The run is somebody else's: how its engines are started is not for others to say.
        """
        from zinc_kettle.wiring.build import experiment

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
        from zinc_kettle.core.decisions import Decision
        from zinc_kettle.core.problem import Problem
        from zinc_kettle.core.steering import steer

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
        from zinc_kettle.core.decisions import Mark

        decision = Mark(time.time(), levels, request=request, mark=text)
        store, own_id = self._stores.at(run_id)
        store.decide(own_id, decision)
        return decision

    def acknowledge(self, run_id: str, levels: Mapping[str, Level], caution: str, reason: str) -> Decision:
        """Keep a person's reason why a caution of the cells with these levels is no worry."""
        from zinc_kettle.core.decisions import Acknowledge

        decision = Acknowledge(time.time(), levels, caution=caution, reason=reason)
        store, own_id = self._stores.at(run_id)
        store.decide(own_id, decision)
        return decision

    @property
    def answering(self) -> AnswerDesk:
        """Comparing, drawing and ranking."""
        if self._answer_desk is None:
            from zinc_kettle.wiring.answer_desk import AnswerDesk

            self._answer_desk = AnswerDesk(
                self._places, self._stores.listed, self._stores.of, lambda: self._rigs, self._stores.elsewhere
            )
        return self._answer_desk

    @property
    def handing(self) -> HandDesk:
        """Reports, tables and bundles."""
        if self._hand_desk is None:
            from zinc_kettle.wiring.hand_desk import HandDesk

            self._hand_desk = HandDesk(self._places, self.answering, self._stores.of, lambda: self._rigs)
        return self._hand_desk

    async def export(self, run_id: str, measure: str) -> list[Path]:
        """Write every chart the run allows as SVG and PDF.

        Raises:
            UsageError: The charts could not be drawn.
        """
        store, own_id = self._stores.at(run_id)
        command = [
            "chart",
            own_id,
            "--store",
            str(store.path),
            "--measure",
            measure,
            "--all",
            str(self._places.exports),
        ]
        return await self.answering.drawn(command)
