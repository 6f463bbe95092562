"""The rest of the tool as the screen sees it: implements tui.bridge.Desk."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from zinc_kettle.config import Places
from zinc_kettle.core.facts import MachineFacts, RunFacts
from zinc_kettle.core.results import ELSEWHERE
from zinc_kettle.core.schedule import Decision
from zinc_kettle.core.units import SPOKEN, byte_size, plural
from zinc_kettle.errors import KettleError, UsageError
from zinc_kettle.tui.bridge import RunEntry, ShelfEntry
from zinc_kettle.wiring.look import speak, worn

if TYPE_CHECKING:
    from zinc_kettle.core.factors import Level
    from zinc_kettle.core.fit.remedies import Remedy
    from zinc_kettle.core.fit.sizing import Wish
    from zinc_kettle.core.health import Check
    from zinc_kettle.core.plan import Cell, Study
    from zinc_kettle.core.preferences import Preferences
    from zinc_kettle.core.results import RunInfo, StudyResults
    from zinc_kettle.core.rig import Rig
    from zinc_kettle.core.steering import Wish as SteerWish
    from zinc_kettle.core.validate import Problem
    from zinc_kettle.present.fit_rows import Detail, FitRow
    from zinc_kettle.present.settings import Row
    from zinc_kettle.session.experiment import Experiment
    from zinc_kettle.session.progress import Event
    from zinc_kettle.store.reading import RunRow, StudyRow
    from zinc_kettle.store.store import KettleStore
    from zinc_kettle.wiring.answer_desk import AnswerDesk
    from zinc_kettle.wiring.bin import Bin
    from zinc_kettle.wiring.elsewhere import Elsewhere
    from zinc_kettle.wiring.hand_desk import HandDesk
    from zinc_kettle.wiring.plan_desk import PlanDesk
    from zinc_kettle.wiring.rig_desk import RigDesk


NOT_YOURS = "this run is somebody else's: it is not measured on here"
TAKE_OVER = "plan a study of your own from it: n on the shelf, then a copy of it"


class RealDesk:
    """Store, study files and experiments of this person."""

    def __init__(self, places: Places, *, extra_studies: list[Path] | None = None) -> None:
        self._places = places
        self._extra = extra_studies or []
        self._opened: KettleStore | None = None
        self._rig_desk: RigDesk | None = None
        self._plan_desk: PlanDesk | None = None
        self._sample: KettleStore | None = None
        self._examples: dict[str, StudyRow] = {}
        self._answer_desk: AnswerDesk | None = None
        self._others: Elsewhere | None = None
        self._hand_desk: HandDesk | None = None
        self._opened_bin: Bin | None = None

    @property
    def _store(self) -> KettleStore:
        # Opened late: the store's package takes longer to import than the first paint may take.
        if self._opened is None:
            from zinc_kettle.wiring.build import open_store

            self._opened = open_store(self._places)
        return self._opened

    def newcomer(self) -> bool:
        """True where the person's data folder is not there, or empty."""
        home = self._places.home
        return not self._places.demo and not (home.is_dir() and any(home.iterdir()))

    def checks(self) -> list[Check]:
        """What of this machine can be used."""
        from zinc_kettle.wiring.doctor import examine

        return examine(self._places, driver=False)

    def shelf(self) -> list[ShelfEntry]:
        """Studies with runs, the one measured last first, then those that are ready; examples where there is no run."""
        from zinc_kettle.store.plans import plan_key
        from zinc_kettle.store.reading import shelf
        from zinc_kettle.wiring.build import read_study

        self._bin.empty_once()
        kept = {row.plan_key: row for row in shelf(self._store)}
        if not kept:
            self._examples = {row.study_id: row for row in self._sample_rows()}
        files: dict[str, Path] = {}
        ready: list[ShelfEntry] = []
        for path in self._study_files():
            try:
                study, _ = read_study(path, self._places)
                key = plan_key(study)
                if key in kept:
                    files[key] = path
                else:
                    ready.append(self._ready(path, study))
            except KettleError as error:
                ready.append(ShelfEntry(str(path), path.name, file=path, trouble=str(error)))
        examples = [] if kept else [self._kept(row, None, example=True) for row in self._examples.values()]
        examples.sort(key=lambda entry: entry.simulated)  # what was measured comes before what was rehearsed
        own = [self._kept(row, files.get(key)) for key, row in kept.items()]
        return [*own, *ready, *self._other_entries(), *examples]

    @property
    def _bin(self) -> Bin:
        """What was thrown away."""
        if self._opened_bin is None:
            from zinc_kettle.wiring.bin import Bin

            self._opened_bin = Bin(self._places, lambda: self._store, self._elsewhere.close)
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

    def _sample_rows(self) -> list[StudyRow]:
        """Finished studies that come with the tool, for someone who has none yet."""
        from zinc_kettle.config import sample_copy
        from zinc_kettle.store.reading import shelf
        from zinc_kettle.wiring.build import open_store

        if self._sample is None:
            sample = sample_copy(self._places)
            self._sample = None if sample is None else open_store(replace(self._places, store=sample))
        return [] if self._sample is None else shelf(self._sample)

    @property
    def _elsewhere(self) -> Elsewhere:
        """What other people measured."""
        if self._others is None:
            from zinc_kettle.wiring.elsewhere import Elsewhere

            self._others = Elsewhere(self._places)
        return self._others

    def _other_entries(self) -> list[ShelfEntry]:
        """Studies of bundles that were unpacked; one that cannot be read any more says so."""
        from zinc_kettle.store.reading import shelf

        out = []
        for other in self._elsewhere.named():
            try:
                for row in shelf(self._elsewhere.store(other.name)):
                    out.append(self._kept(row, other.study_file(row.name, row.runs[0].number), origin=other.name))
            except KettleError as error:
                out.append(ShelfEntry(f"{other.name}::", other.name, trouble=str(error), origin=other.name))
        return out

    def _at(self, run_id: str) -> tuple[KettleStore, str]:
        """Where a run is kept, and its id there."""
        origin, there, name = run_id.rpartition(ELSEWHERE)
        return (self._elsewhere.store(origin), name) if there else (self._store_of(run_id), run_id)

    def _store_of(self, run_id: str) -> KettleStore:
        """Where a run is kept: among a person's own, among the examples, or among somebody else's."""
        if ELSEWHERE in run_id:
            return self._at(run_id)[0]
        of_example = any(run.run_id == run_id for row in self._examples.values() for run in row.runs)
        return self._sample if of_example and self._sample is not None else self._store

    def _kept(self, row: StudyRow, file: Path | None, *, example: bool = False, origin: str = "") -> ShelfEntry:
        before = f"{origin}{ELSEWHERE}" if origin else ""
        runs = tuple(self._run(run, row.engines, before) for run in row.runs)
        made_up = any(run.simulated for run in runs)
        key = f"{before}{row.study_id}"
        return ShelfEntry(key, row.question, runs, file, simulated=made_up, example=example, origin=origin)

    def _run(self, row: RunRow, engines: tuple[str, ...], before: str) -> RunEntry:
        from zinc_kettle.core.fingerprint import DEFINITIONS_VERSION
        from zinc_kettle.present.findings import WORDING, answer

        by = f"{DEFINITIONS_VERSION}.{WORDING}" + ("" if SPOKEN.memory == "GB" else f".{SPOKEN.memory}")
        said = row.answer if row.answer_by == by else None
        if said is None:
            said = answer(self.open_run(f"{before}{row.run_id}"), brief=True)
            if row.state == "measured":
                self._store_of(f"{before}{row.run_id}").keep_answer(row.run_id, said, by=by)
        one = " ".join(str(row.engine[name]) for name in ("engine", "version") if row.engine.get(name))
        engine = " and ".join(engines) or one
        return RunEntry(
            f"{before}{row.run_id}", row.number, row.state, time.strftime("%Y-%m-%d", time.localtime(row.created_s)),
            _machine(row.facts), engine, said[:1].upper() + said[1:], has_answer=row.repeats_done > 0,
            simulated=row.simulated,
        )  # fmt: skip

    def _study_files(self) -> list[Path]:
        own = sorted(self._places.studies.glob("*.study.toml")) if self._places.studies.is_dir() else []
        return [*self._extra, *own]

    def _ready(self, path: Path, study: Study) -> ShelfEntry:
        simulated = self._rig_facts(study)["simulated"]
        what = "rehearse it" if simulated else "measure it here"
        repeats = study.repeats
        many = f"{repeats.count} to {repeats.most} repeats" if repeats.adaptive else plural(repeats.count, "repeat")
        count, often = plural(len(study.cells), "cell"), many
        about = f"{count}, {often} each; open it and press r to {what}"
        return ShelfEntry(str(path), study.question, file=path, about=about, simulated=simulated)

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
        from zinc_kettle.store.reading import open_run

        origin, there, name = run_id.rpartition(ELSEWHERE)
        return self._elsewhere.open_run(origin, name) if there else open_run(self._store_of(run_id), run_id)

    def glance(self, run_id: str) -> list[Event]:
        """The newest signs of a run that is measured in another terminal."""
        from zinc_kettle.store.reading import is_running
        from zinc_kettle.wiring.glance import read_glance

        # A run that was killed while it was paused leaves its last sign behind; the lease knows better.
        return read_glance(self._places.store, run_id) if is_running(self._store, run_id) else []

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

            self._rig_desk = RigDesk(self._places, lambda: self._store)
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
        return experiment(results.schedule.study, self._places, self._store, emit, source=results.run.source)

    def add_note(self, run_id: str, cell: str | None, text: str) -> None:
        """Keep a note."""
        store, own_id = self._at(run_id)
        store.add_note(own_id, cell, text, wall_s=time.time())

    def steer(
        self, results: StudyResults, wish: SteerWish, levels: Mapping[str, Level], count: int = 0, text: str = ""
    ) -> Decision | Problem:
        """Enter a decision into the log of a run, or say what is wrong with it."""
        from zinc_kettle.core.steering import steer
        from zinc_kettle.core.validate import Problem

        if results.run.origin:
            return Problem((), NOT_YOURS, remedy=TAKE_OVER)
        run_id = results.run.run_id
        store = self._store_of(run_id)
        step = store.last_step(run_id)
        found = steer(results, wish, levels, count=count, at_s=time.time(), step=step, text=text)
        if isinstance(found, Decision):
            store.decide(run_id, found)
        return found

    def mark(self, run_id: str, levels: Mapping[str, Level], request: str, text: str) -> Decision:
        """Keep what an answer is marked as."""
        decision = Decision("mark", time.time(), levels, request=request, text=text)
        store, own_id = self._at(run_id)
        store.decide(own_id, decision)
        return decision

    def acknowledge(self, run_id: str, levels: Mapping[str, Level], caution: str, reason: str) -> Decision:
        """Keep a person's reason why a caution of the cells with these levels is no worry."""
        decision = Decision("acknowledge", time.time(), levels, caution=caution, text=reason)
        store, own_id = self._at(run_id)
        store.decide(own_id, decision)
        return decision

    @property
    def answering(self) -> AnswerDesk:
        """Comparing, drawing and ranking."""
        if self._answer_desk is None:
            from zinc_kettle.wiring.answer_desk import AnswerDesk

            def stores() -> list[KettleStore]:
                return [self._store, *([self._sample] if self._examples and self._sample is not None else [])]

            self._answer_desk = AnswerDesk(self._places, stores, self._store_of, lambda: self._rigs, self._elsewhere)
        return self._answer_desk

    @property
    def handing(self) -> HandDesk:
        """Reports, tables and bundles."""
        if self._hand_desk is None:
            from zinc_kettle.wiring.hand_desk import HandDesk

            self._hand_desk = HandDesk(self._places, self.answering, self._store_of, lambda: self._rigs)
        return self._hand_desk

    async def export(self, run_id: str, measure: str) -> list[Path]:
        """Write every chart the run allows as SVG and PDF.

        Raises:
            UsageError: The charts could not be drawn.
        """
        store, own_id = self._at(run_id)
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


def _machine(facts: MachineFacts) -> str:
    parts = [str(facts.get("processor", "machine not recorded"))]
    cores, memory = facts.get("physical_cores"), facts.get("memory_bytes")
    if cores:
        parts.append(plural(cores, "core"))
    if memory:
        parts.append(f"{byte_size(memory)} of memory")
    if facts.get("virtual"):
        parts.append("virtual")
    return ", ".join(parts)
