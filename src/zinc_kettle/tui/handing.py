"""What Report needs of the rest of the tool."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Protocol

if TYPE_CHECKING:
    from zinc_kettle.core.report import ReportPlan
    from zinc_kettle.core.results import StudyResults
    from zinc_kettle.present.report.document import Document
    from zinc_kettle.tui.answering import NamedSide


class Handing(Protocol):
    """Reports, tables and bundles."""

    def report_names(self) -> list[str]:
        """Reports that were kept."""
        ...

    def usual_name(self, results: StudyResults) -> str:
        """The name of the report of a study."""
        ...

    def report_plan(self, name: str) -> ReportPlan:
        """A report as it was kept; an empty one where there is none."""
        ...

    def keep_report(self, name: str, plan: ReportPlan) -> None:
        """Keep a report."""
        ...

    def document(self, plan: ReportPlan, shown: StudyResults | None) -> Document:
        """What a report says now; reads runs, so it is asked for in a thread."""
        ...

    def parts(self, results: StudyResults | None) -> list[NamedSide]:
        """Studies and runs a report may tell of."""
        ...

    async def write_report(self, name: str) -> list[Path]:
        """Write a kept report as HTML, Markdown and PDF into the exports, in a process of its own."""
        ...

    async def write_tables(self, results: StudyResults, of: str, ending: str) -> list[Path]:
        """Write a run as a table into the exports."""
        ...

    async def pack(self, results: StudyResults, without: Sequence[str]) -> list[Path]:
        """Write a run as a bundle into the exports."""
        ...
