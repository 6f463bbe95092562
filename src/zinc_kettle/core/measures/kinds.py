"""What a measure is: one entry with its function and its words; tables, sheets, help and JSON are derived from it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal, TypeAlias

if TYPE_CHECKING:
    from zinc_kettle.core.facts import EngineFacts
    from zinc_kettle.core.plan.study import Cell
    from zinc_kettle.core.record.repeat import Figure, Repeat
    from zinc_kettle.core.record.telemetry import Launch
    from zinc_kettle.core.record.timeline import Timeline
    from zinc_kettle.core.record.value import CellFigure

Better = Literal["more", "less", "neither"]


@dataclass(frozen=True, slots=True)
class PerRepeat:
    """A figure of one repeat; the headline is the median over repeats."""

    figure: Callable[[Repeat], Figure]


@dataclass(frozen=True, slots=True)
class OverRequests:
    """A percentile over the requests of all repeats, pooled."""

    value: Callable[[Timeline], float | None]
    """Of one request, in the measure's unit; None where it has none."""
    p: float
    """In [0, 1]."""


@dataclass(frozen=True, slots=True)
class OverGaps:
    """A percentile over the gaps between chunks of all requests, pooled."""

    p: float
    """In [0, 1]."""
    tokens: bool = False
    """Between tokens: those of one chunk come at once, after a gap that the first of them waited for."""


@dataclass(frozen=True, slots=True)
class OverLaunches:
    """A figure of each launch; the headline is the median over launches."""

    value: Callable[[Launch], float | None]
    missing: str
    """Why a cell may have none."""


@dataclass(frozen=True, slots=True)
class OfCell:
    """A figure that only all repeats of a cell have together."""

    figure: Callable[[Sequence[Repeat]], CellFigure]


@dataclass(frozen=True, slots=True)
class OfFacts:
    """A figure that nobody measures: it follows from what is known of the engine's model and of the cell."""

    figure: Callable[[EngineFacts, Cell], Figure]


Source: TypeAlias = PerRepeat | OverRequests | OverGaps | OverLaunches | OfCell | OfFacts


@dataclass(frozen=True, slots=True)
class Group:
    """Measures that stand together on the sheet."""

    title: str
    only_under_load: bool = False
    """True where it says nothing of cells with a few requests in each repeat."""
    together: str = ""
    """What to call them in one sentence where none of them can be had; empty shows each as missing."""


@dataclass(frozen=True, slots=True)
class Measure:
    """A measure as the tool computes and names it."""

    name: str
    title: str
    unit: str
    better: Better
    group: Group
    meaning: str
    """One clause; definition and reasons are in docs/measures.md."""
    source: Source
    mistakes: str = ""
    """What people take it for and it is not, or what spoils it; a sentence or two."""
    map_rank: int = 0
    """Its place among what the map can show, from 1; 0 is not shown there."""
    sheet: bool = True
    """False where the sheet tells it elsewhere."""

    @property
    def has_ratios(self) -> bool:
        """Whether twice as much of it means anything: not of degrees, whose zero is arbitrary."""
        return self.unit != "°C"
