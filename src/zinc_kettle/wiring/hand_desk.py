"""Reports, tables and bundles as the screen sees them: implements tui.handing.Handing."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from zinc_kettle.config import Places
from zinc_kettle.core.origin import ELSEWHERE
from zinc_kettle.core.report import ReportPlan
from zinc_kettle.tui.answering import NamedSide
from zinc_kettle.tui.station import file_name
from zinc_kettle.wiring.answer_desk import AnswerDesk
from zinc_kettle.wiring.reporting import FORMATS, Reports

if TYPE_CHECKING:
    from zinc_kettle.core.results import StudyResults
    from zinc_kettle.present.report.document import Document
    from zinc_kettle.store.store import KettleStore
    from zinc_kettle.wiring.rig_desk import RigDesk


class HandDesk:
    """What Report asks.

    Args:
        places: Where things are kept.
        answers: Finds runs and sides, and runs commands beside the screen.
        store_of: The store a run is kept in.
        rigs: What is known of rigs.
    """

    def __init__(
        self, places: Places, answers: AnswerDesk, store_of: Callable[[str], KettleStore], rigs: Callable[[], RigDesk]
    ) -> None:
        self._places = places
        self._answers = answers
        self._store_of = store_of
        self._reports = Reports(places, answers.sides, store_of, lambda: rigs().rigs())

    def report_names(self) -> list[str]:
        """Reports that were kept."""
        return self._reports.names()

    def usual_name(self, results: StudyResults) -> str:
        """The name of the report of a study."""
        return file_name(f"{results.run.place}{results.study.name}".replace(ELSEWHERE, "-"))

    def report_plan(self, name: str) -> ReportPlan:
        """A report as it was kept.

        Raises:
            StudyFileError: It cannot be read.
        """
        return self._reports.plan(name)

    def keep_report(self, name: str, plan: ReportPlan) -> None:
        """Keep a report.

        Raises:
            UsageError: It cannot be written.
        """
        self._reports.keep(name, plan)

    def document(self, plan: ReportPlan, shown: StudyResults | None) -> Document:
        """What a report says now.

        Raises:
            UsageError: A part of it cannot be found.
        """
        self._answers.sides.shown = shown
        return self._reports.document(plan)

    def parts(self, results: StudyResults | None) -> list[NamedSide]:
        """Studies and runs a report may tell of."""
        return [side for side in self._answers.named_sides(results) if "@" not in side.place]

    async def write_report(self, name: str) -> list[Path]:
        """Write a kept report in every format.

        Raises:
            UsageError: It cannot be written.
        """
        outs = [word for ending in FORMATS for word in ("--out", str(self._places.exports / f"{name}{ending}"))]
        written = await self._answers.beside(["report", "--name", name, *outs])
        return [path for path in written if path.suffix in FORMATS]

    async def write_tables(self, results: StudyResults, of: str, ending: str) -> list[Path]:
        """Write a run as a table.

        Raises:
            UsageError: It cannot be written.
        """
        out = self._places.exports / f"{self.usual_name(results)}-{results.run.number}-{of}{ending}"
        return await self._answers.beside(["table", results.run.run_id, "--of", of, "--out", str(out)])

    async def pack(self, results: StudyResults, without: Sequence[str]) -> list[Path]:
        """Write a run as a bundle.

        Raises:
            UsageError: It cannot be written.
        """
        store, run_id = self._store_of(results.run.run_id), results.run.run_id.rpartition(ELSEWHERE)[2]
        out = self._places.exports / f"{self.usual_name(results)}-{results.run.number}.kettle"
        left = [word for name in without for word in ("--without", name)]
        return await self._answers.drawn(["pack", run_id, "--store", str(store.path), "--out", str(out), *left])
