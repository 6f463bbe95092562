"""What a kind of chart is: one entry with its builder and its words, from which commands, help and docs are derived."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

from zinc_kettle.core.chart import Chart
from zinc_kettle.core.results import CellResults, StudyResults

Of = Literal["study", "cell"]


@dataclass(frozen=True, slots=True)
class Subject:
    """What a chart is to be drawn of."""

    results: StudyResults
    measure: str
    cell: CellResults | None = None
    """Of kinds that show a single cell."""


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
