"""What a kind of chart is: one entry with its builder and its words, from which commands, help and docs are derived."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Literal

from zinc_kettle.core.chart import Chart
from zinc_kettle.core.compare.reported import Reported
from zinc_kettle.core.preferences import Pace
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.present.fit_rows import FitRow

Of = Literal["study", "cell"]


@dataclass(frozen=True, slots=True)
class Subject:
    """What a chart is to be drawn of."""

    results: StudyResults
    measure: str
    cell: CellResults | None = None
    """Of kinds that show a single cell."""
    factor: str = ""
    """The factor a curve is to run over, where there are several."""
    pace: Pace | None = None
    """The decode speed the person needs."""
    others: tuple[Reported, ...] = ()
    """Somebody else's figures, drawn beside."""
    predicted: Callable[[], Mapping[str, FitRow]] | None = None
    """What Fit predicts of each cell, by key; found when it is asked for."""
    study_text: str = ""
    """The study file, as it may be handed on."""


@dataclass(frozen=True, slots=True)
class ChartKind:
    """A kind of chart."""

    name: str
    title: str
    help: str
    """A sentence: what it answers."""
    of: Of
    needs: Callable[[Subject], str]
    """Why the data do not allow it; empty where they do."""
    build: Callable[[Subject], Chart]
    """Only called where nothing is missing."""
