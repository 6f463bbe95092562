"""Comparing, drawing and ranking."""

from __future__ import annotations

import asyncio
import os
import sys
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from zinc_kettle.app.charting import preferences, reported_here, subject_of
from zinc_kettle.app.entrants import appearances, entrants_of, rig_of, usual_factor
from zinc_kettle.app.export import FORMATS
from zinc_kettle.app.side_names import Sides, named_sides, one_by_one
from zinc_kettle.app.views import Entrants, NamedSide
from zinc_kettle.config import HOME_VARIABLE, Places
from zinc_kettle.core.checks.steering import place_of
from zinc_kettle.core.origin import ELSEWHERE
from zinc_kettle.errors import KettleError, UsageError
from zinc_kettle.formats.atomic_file import atomic_file

if TYPE_CHECKING:
    from zinc_kettle.app.imported_stores import Elsewhere
    from zinc_kettle.app.rig_service import RigService
    from zinc_kettle.core.compare.lineup import Lineup
    from zinc_kettle.core.compare.reported import Reported
    from zinc_kettle.core.compare.sides import Side
    from zinc_kettle.core.compare.worked import Worked
    from zinc_kettle.core.results import CellResults, StudyResults
    from zinc_kettle.core.rig import Rig
    from zinc_kettle.present.charts.kinds import Subject
    from zinc_kettle.present.lineup import Appearance
    from zinc_kettle.store.store import KettleStore

EXPORT_LIMIT_S = 120.0


class ComparisonService:
    """What Duel, Curves and Lineup ask.

    Args:
        places: Where things are kept.
        stores: The person's store, and that of the examples where these are shown.
        store_of: The store a run is kept in.
        rigs: What is known of rigs.
        elsewhere: Opens what other people measured.
    """

    def __init__(
        self,
        places: Places,
        stores: Callable[[], list[KettleStore]],
        store_of: Callable[[str], KettleStore],
        rigs: Callable[[], RigService],
        elsewhere: Elsewhere,
    ) -> None:
        self._places = places
        self._stores = stores
        self._store_of = store_of
        self._rigs = rigs
        self.sides = Sides(places, stores, elsewhere)

    def named_sides(self, results: StudyResults | None) -> list[NamedSide]:
        """What a side of a comparison may be."""
        from zinc_kettle.store.reading import shelf

        rows = [("", row) for store in self._stores() for row in shelf(store)]
        for other in self.sides.elsewhere.named():
            rows += [(f"{other.name}{ELSEWHERE}", row) for row in shelf(self.sides.elsewhere.store(other.name))]
        return named_sides(rows, results)

    def usual_sides(self, results: StudyResults | None) -> tuple[str, ...]:
        """The two newest runs of the open study, else its chain of changes, else the ends of its first factor."""
        if results is None or not results.run.run_id:
            return ()
        study, number = results.study, results.run.number
        if number > 1 and not results.run.origin:
            return f"{study.name}:{number - 1}", f"{study.name}:{number}"
        if study.design.kind == "chain":
            return one_by_one(results)
        factor = next((f for f in study.leading if len(study.vary[f]) > 1), None)
        if factor is None:
            return (place_of(results, {}),)
        ends = study.vary[factor][0], study.vary[factor][-1]
        return tuple(place_of(results, {factor: level}) for level in ends)

    def one_by_one(self, results: StudyResults | None) -> tuple[str, ...]:
        """Sides of the open study that change one setting after the other; empty where it has no such chain."""
        return () if results is None or not results.run.run_id else one_by_one(results)

    def side(self, place: str, shown: StudyResults | None) -> Side:
        """A side by its name.

        Raises:
            UsageError: There is none.
        """
        self.sides.shown = shown
        return self.sides.side(place)

    def entrants(self, runs: Sequence[StudyResults], by: str) -> Entrants:
        """Who is lined up of some runs.

        Raises:
            UsageError: No run varies the factor.
            StudyFileError: The person's own figures, or the rig file, cannot be read.
        """
        factor = by or usual_factor(runs[0])
        known = {rig.name: rig for rig in self._rigs().all()}
        return Entrants(entrants_of(runs, factor, known), factor, preferences(self._places))

    def last_worked(self, results: StudyResults, cell: CellResults) -> Worked | None:
        """When a cell that failed was measured last, and what changed since."""
        return self.sides.last_worked(results, cell)

    def scores(self, runs: Sequence[StudyResults]) -> Lineup:
        """Every configuration of some runs by its score over the tasks of the suite.

        Raises:
            StudyFileError: The rig file cannot be read.
        """
        from zinc_kettle.app.scoring import contenders, shipped_reference
        from zinc_kettle.core.compare.scoreboard import scoreboard

        known = {rig.name: rig for rig in self._rigs().all()}
        return scoreboard(contenders(runs, known), shipped_reference())

    def appearances(self, side: Side) -> list[Appearance]:
        """Where else the rig of a side, or its model, was measured."""
        return appearances(self._store_of(side.results.run.run_id), side)

    def rig_of(self, side: Side) -> Rig | None:
        """The one rig a side was measured on."""
        try:
            return rig_of(side, {rig.name: rig for rig in self._rigs().all()})
        except KettleError:
            return None

    def chart_subject(self, results: StudyResults, measure: str, factor: str, others: Path | None) -> Subject:
        """What a chart of a run is drawn of."""
        store = self._store_of(results.run.run_id)
        return subject_of(results, measure, self._places, store, factor=factor, others=others)

    def reported(self) -> list[Path]:
        """CSV files of others' figures in the data folder."""
        return reported_here(self._places)

    def read_reported(self, path: Path) -> tuple[Reported, ...]:
        """The figures of such a file.

        Raises:
            StudyFileError: It cannot be used.
        """
        from zinc_kettle.formats.reported import read_reported

        return read_reported(path)

    def keep_copy(self, text: str) -> Path:
        """Write a copied text into a file of the exports.

        Raises:
            UsageError: It cannot be written.
        """
        out = self._places.exports / "copied.txt"
        with atomic_file(out, folder_mode=0o700) as part:
            part.write_text(text, encoding="utf-8")
        return out

    async def beside(self, command: Sequence[str]) -> list[Path]:
        """Run a command on the store of what is shown; returns the files it says it wrote.

        Raises:
            UsageError: It failed.
        """
        from zinc_kettle.store.reading import shelf

        shown, stores = self.sides.shown, self._stores()
        if shown is not None and shown.run.run_id and not shown.run.origin:
            store = self._store_of(shown.run.run_id)
        else:
            store = next((store for store in stores if shelf(store)), stores[0])
        return await self.drawn([*command, "--store", str(store.path)])

    async def draw(self, command: Sequence[str], stem: str) -> list[Path]:
        """Write what a command draws as SVG and PDF.

        Raises:
            UsageError: It could not be drawn.
        """
        files = [str(self._places.exports / f"{stem}{ending}") for ending in FORMATS]
        outs = [word for file in files for word in ("--out", file)]
        return await self.beside([*command, *outs])

    async def drawn(self, command: Sequence[str]) -> list[Path]:
        """In one process of its own: drawing would hold the screen up."""
        process = await asyncio.create_subprocess_exec(
            sys.executable,
            "-m",
            "zinc_kettle",
            *command,
            env={**os.environ, HOME_VARIABLE: str(self._places.home)},
            stdout=asyncio.subprocess.PIPE,
            stderr=asyncio.subprocess.PIPE,
            stdin=asyncio.subprocess.DEVNULL,
        )
        try:
            told, said = await asyncio.wait_for(process.communicate(), EXPORT_LIMIT_S)
        except TimeoutError as error:
            process.kill()
            raise UsageError(f"it took longer than {EXPORT_LIMIT_S:g} s") from error
        if process.returncode:
            raise UsageError("it could not be written", why=said.decode("utf-8", "replace").strip()[-300:])
        return [Path(line) for line in told.decode().splitlines()]
