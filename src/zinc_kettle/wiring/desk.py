"""The rest of the tool as the screen sees it: implements tui.bridge.Desk."""

from __future__ import annotations

import asyncio
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from zinc_kettle.config import Places
from zinc_kettle.core.units import byte_size, plural
from zinc_kettle.errors import KettleError, UsageError
from zinc_kettle.tui.bridge import ShelfEntry

if TYPE_CHECKING:
    from zinc_kettle.core.fit.sizing import Wish
    from zinc_kettle.core.plan import Study
    from zinc_kettle.core.record import StudyRecord
    from zinc_kettle.core.rig import Rig
    from zinc_kettle.present.fit_view import FitRow
    from zinc_kettle.session.experiment import Experiment
    from zinc_kettle.session.progress import Event
    from zinc_kettle.store.reading import ShelfRow
    from zinc_kettle.store.sqlite import SqliteStore
    from zinc_kettle.wiring.rig_desk import RigDesk

EXPORT_LIMIT_S = 120.0


class RealDesk:
    """Store, study files and experiments of this person."""

    def __init__(self, places: Places, *, extra_studies: list[Path] | None = None) -> None:
        self._places = places
        self._extra = extra_studies or []
        self._opened: SqliteStore | None = None
        self._rig_desk: RigDesk | None = None

    @property
    def _store(self) -> SqliteStore:
        # Opened late: the store's package takes longer to import than the first paint may take.
        if self._opened is None:
            from zinc_kettle.wiring.build import open_store

            self._opened = open_store(self._places)
        return self._opened

    def shelf(self) -> list[ShelfEntry]:
        """Studies that are ready first, then those kept, newest first."""
        from zinc_kettle.store.reading import shelf

        ready = [self._ready(path) for path in self._study_files()]
        return [*ready, *(self._kept(row) for row in shelf(self._store))]

    def _kept(self, row: ShelfRow) -> ShelfEntry:
        said = row.answer
        if said is None:
            from zinc_kettle.present.view import StudyView
            from zinc_kettle.present.words import answer

            said = answer(StudyView(self.load(row.study_id)))
            if row.state == "measured":
                self._store.keep_answer(row.study_id, said)
        return ShelfEntry(
            key=row.study_id,
            question=row.question,
            state=row.state,
            answer=said[:1].upper() + said[1:],
            where=_machine(row.facts),
            when=time.strftime("%Y-%m-%d", time.localtime(row.created_s)),
            simulated=row.simulated,
        )

    def _study_files(self) -> list[Path]:
        own = sorted(self._places.studies.glob("*.study.toml")) if self._places.studies.is_dir() else []
        return [*self._extra, *own]

    def _ready(self, path: Path) -> ShelfEntry:
        from zinc_kettle.core.plan import cells
        from zinc_kettle.wiring.build import read_study

        try:
            study, _ = read_study(path)
            simulated = self._rig_facts(study)["simulated"]
        except KettleError as error:
            return ShelfEntry(str(path), path.name, "planned", "", path.name, "", ready=True, trouble=str(error))
        count = plural(len(cells(study)), "cell")
        what = "rehearse it" if simulated else "measure it here"
        answer = f"{count}, {plural(study.repeats.count, 'repeat')} each; open it and press r to {what}"
        return ShelfEntry(
            str(path), study.question, "planned", answer, f"study file {path.name}", "", ready=True,
            simulated=simulated,
        )  # fmt: skip

    def open(self, entry: ShelfEntry) -> StudyRecord:
        """A study whole, or planned from its file."""
        from zinc_kettle.core.record import StudyRecord
        from zinc_kettle.wiring.build import read_study

        if not entry.ready:
            return self.load(entry.key)
        study, source = read_study(Path(entry.key))
        facts = self._rig_facts(study)
        return StudyRecord("", study, "planned", 0.0, facts=facts, simulated=facts["simulated"], source=source)

    def _rig_facts(self, study: Study) -> dict[str, Any]:
        """Which of a planned study's rigs are simulated, so that the screen says so before anything has run."""
        from zinc_kettle.core.plan import rigs_of

        named = rigs_of(study)
        rigs = {name: {"simulated": name in self._rigs.simulated()} for name in named} if named else {}
        return {"rigs": rigs, "simulated": any(r["simulated"] for r in rigs.values())}

    def load(self, study_id: str) -> StudyRecord:
        """A kept study whole."""
        from zinc_kettle.store.reading import load

        return load(self._store, study_id)

    def sizes(self, study: Study) -> dict[int, float | None]:
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

    def fit(self, name: str, wish: Wish, threads: int) -> list[FitRow]:
        """What fits on a rig."""
        return self._rigs.fit(name, wish, threads)

    def predicted(self, study: Study) -> dict[int, FitRow]:
        """What is predicted of each cell; nothing where the rig file cannot be read, which Rigs tells."""
        try:
            return self._rigs.predicted(study)
        except KettleError:
            return {}

    async def close(self) -> None:
        """Let go of rigs that were asked."""
        if self._rig_desk is not None:
            await self._rig_desk.close()

    def experiment(self, record: StudyRecord, emit: Callable[[Event], None]) -> Experiment:
        """What would measure the study here."""
        from zinc_kettle.wiring.build import experiment

        return experiment(record.study, self._places, self._store, emit, source=record.source)

    def add_note(self, study_id: str, cell: int | None, text: str) -> None:
        """Keep a note."""
        self._store.add_note(study_id, cell, text, wall_s=time.time())

    async def export(self, study_id: str, measure: str) -> list[Path]:
        """Write map and lines as SVG and PDF, in a process of its own: drawing would hold the screen up.

        Raises:
            UsageError: The charts could not be drawn.
        """
        written = []
        for kind in ("map", "lines"):
            for ending in ("svg", "pdf"):
                path = self._places.exports / f"{study_id}-{measure}-{kind}.{ending}"
                await self._chart(study_id, measure, kind, path)
                written.append(path)
        return written

    async def _chart(self, study_id: str, measure: str, kind: str, path: Path) -> None:
        process = await asyncio.create_subprocess_exec(
            sys.executable, "-m", "zinc_kettle", "chart", study_id, "--store", str(self._places.store),
            "--measure", measure, "--kind", kind, "--out", str(path),
            stdout=asyncio.subprocess.DEVNULL, stderr=asyncio.subprocess.PIPE, stdin=asyncio.subprocess.DEVNULL,
        )  # fmt: skip
        try:
            _, said = await asyncio.wait_for(process.communicate(), EXPORT_LIMIT_S)
        except TimeoutError as error:
            process.kill()
            raise UsageError(f"drawing took longer than {EXPORT_LIMIT_S:g} s") from error
        if process.returncode:
            raise UsageError("a chart could not be drawn", why=said.decode("utf-8", "replace").strip()[-300:])


def _machine(facts: dict[str, Any]) -> str:
    parts = [str(facts.get("processor", "machine not recorded"))]
    if facts.get("physical_cores"):
        parts.append(plural(int(facts["physical_cores"]), "core"))
    if facts.get("memory_bytes"):
        parts.append(f"{byte_size(facts['memory_bytes'])} of memory")
    if facts.get("virtual"):
        parts.append("virtual")
    return ", ".join(parts)
