"""What is handed on: reports, charts, tables and bundles, written into the exports."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from zinc_kettle.app.comparison_service import ComparisonService
from zinc_kettle.app.reporting import WRITERS, Reports
from zinc_kettle.app.stores import Stores
from zinc_kettle.app.views import NamedSide
from zinc_kettle.config import Places
from zinc_kettle.core.names import file_stem
from zinc_kettle.core.origin import ELSEWHERE
from zinc_kettle.core.report import ReportPlan

if TYPE_CHECKING:
    from zinc_kettle.app.rig_service import RigService
    from zinc_kettle.core.results import StudyResults
    from zinc_kettle.present.report.document import Document


class ExportService:
    """Reports, charts, tables and bundles.

    Args:
        places: Where things are kept.
        stores: The stores there are.
        answers: Finds runs and sides, and runs commands beside the screen.
        rigs: What is known of rigs.
    """

    def __init__(
        self,
        places: Places,
        stores: Stores,
        answers: ComparisonService,
        rigs: Callable[[], RigService],
    ) -> None:
        self._places = places
        self._answers = answers
        self._stores = stores
        self._reports = Reports(places, answers.sides, stores.of, lambda: rigs().all())

    def report_names(self) -> list[str]:
        """Reports that were kept."""
        return self._reports.names()

    def usual_name(self, results: StudyResults) -> str:
        """The name of the report of a study."""
        return file_stem(f"{results.run.place}{results.study.name}".replace(ELSEWHERE, "-"))

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
        outs = [word for ending in WRITERS for word in ("--out", str(self._places.exports / f"{name}{ending}"))]
        written = await self._answers.beside(["report", "--name", name, *outs])
        return [path for path in written if path.suffix in WRITERS]

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
        store, run_id = self._stores.at(results.run.run_id)
        out = self._places.exports / f"{self.usual_name(results)}-{results.run.number}.kettle"
        left = [word for name in without for word in ("--without", name)]
        return await self._answers.drawn(["pack", run_id, "--store", str(store.path), "--out", str(out), *left])

    async def charts(self, run_id: str, measure: str) -> list[Path]:
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
        return await self._answers.drawn(command)

    @property
    def table_endings(self) -> tuple[str, ...]:
        """Endings of the files a table can be written as."""
        from zinc_kettle.formats.tables import WRITERS

        return tuple(WRITERS)
