"""What a chart is drawn of: a run, the person's own figures, somebody else's, and what Fit predicts."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from zinc_kettle.app.display import PREFERENCES
from zinc_kettle.config import Places
from zinc_kettle.core.preferences import Preferences
from zinc_kettle.errors import KettleError
from zinc_kettle.formats.preferences import read_preferences
from zinc_kettle.formats.reported import read_reported
from zinc_kettle.present.charts.kinds import Subject

if TYPE_CHECKING:
    from zinc_kettle.core.results import CellResults, StudyResults
    from zinc_kettle.present.fit_rows import FitRow
    from zinc_kettle.store.store import KettleStore

REPORTED = "reported"
"""Folder of CSV files whose figures the screen draws beside one's own."""


def preferences(places: Places) -> Preferences:
    """The person's own figures.

    Raises:
        StudyFileError: Their file cannot be used.
    """
    return read_preferences(places.home / PREFERENCES)


def subject_of(
    results: StudyResults,
    measure: str,
    places: Places,
    store: KettleStore,
    *,
    cell: CellResults | None = None,
    factor: str = "",
    others: Path | None = None,
) -> Subject:
    """What is to be drawn.

    Args:
        results: The run.
        measure: Of the chart.
        places: Where things are kept.
        store: For what was measured on its rigs before.
        cell: Of kinds that show one.
        factor: A curve is to run over.
        others: CSV file of somebody else's figures.

    Raises:
        StudyFileError: The CSV file, or the person's own figures, cannot be used.
    """

    def predicted() -> dict[str, FitRow]:
        from zinc_kettle.app.rig_service import RigService

        try:
            return RigService(places, lambda: store).predicted(results.study)
        except KettleError:
            return {}

    told = () if others is None else read_reported(others)
    return Subject(results, measure, cell, factor, preferences(places).pace, told, predicted)


def reported_here(places: Places) -> list[Path]:
    """The CSV files of others' figures in the data folder."""
    return sorted((places.home / REPORTED).glob("*.csv"))
