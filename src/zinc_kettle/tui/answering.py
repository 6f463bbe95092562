"""What Duel, Curves and Lineup need of the rest of the tool."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Protocol

if TYPE_CHECKING:
    from zinc_kettle.core.lineup import Entrant
    from zinc_kettle.core.preferences import Preferences
    from zinc_kettle.core.reported import Reported
    from zinc_kettle.core.results import StudyResults
    from zinc_kettle.core.rig import Rig
    from zinc_kettle.core.sides import Side
    from zinc_kettle.present.charts.kinds import Subject
    from zinc_kettle.present.lineup import Appearance


@dataclass(frozen=True, slots=True)
class NamedSide:
    """Something that may be a side of a comparison."""

    place: str
    """Its name: `STUDY[:RUN][@factor=level,…]`."""
    title: str
    what: str
    about: str = ""


@dataclass(frozen=True)
class Asked:
    """Who is lined up, by which factor, and the person's own figures."""

    entrants: Sequence[Entrant]
    by: str
    own: Preferences


class Answering(Protocol):
    """Sides, charts, lineups, and what is taken out of them."""

    def named_sides(self, results: StudyResults | None) -> list[NamedSide]:
        """What a side of a comparison may be: parts of the open study, then every run on the shelf."""
        ...

    def usual_sides(self, results: StudyResults | None) -> tuple[str, ...]:
        """What a person most likely wants to compare of the open study, by name."""
        ...

    def one_by_one(self, results: StudyResults | None) -> tuple[str, ...]:
        """Sides of the open study, by name, that change one setting after the other; empty where none do."""
        ...

    def side(self, place: str, shown: StudyResults | None) -> Side:
        """A side by its name; `shown` is the open study, used as it is."""
        ...

    def entrants(self, runs: Sequence[StudyResults], by: str) -> Asked:
        """Who is lined up of some runs, by a factor; by the usual one where none is named."""
        ...

    def appearances(self, side: Side) -> list[Appearance]:
        """Where else the rig of a side, or its model, was measured; reads many runs, so it is asked for in a thread."""
        ...

    def rig_of(self, side: Side) -> Rig | None:
        """The one rig a side was measured on, with what is known of it."""
        ...

    def chart_subject(self, results: StudyResults, measure: str, factor: str, others: Path | None) -> Subject:
        """What a chart of a run is drawn of, with the person's pace and somebody else's figures."""
        ...

    def reported(self) -> list[Path]:
        """CSV files of others' figures in the data folder."""
        ...

    def read_reported(self, path: Path) -> tuple[Reported, ...]:
        """The figures of such a file."""
        ...

    def keep_copy(self, text: str) -> Path:
        """Write a copied text into a file of the exports."""
        ...

    async def draw(self, command: Sequence[str], stem: str) -> list[Path]:
        """Write what a command draws as SVG and PDF into the exports, in a process of its own."""
        ...
