"""What services hand to the screen, the command line and the plain mode: no widget, no printing."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

from zinc_kettle.core.plan.history import History

if TYPE_CHECKING:
    from zinc_kettle.core.compare.lineup import Entrant
    from zinc_kettle.core.plan.factors import Factor
    from zinc_kettle.core.plan.fields import Section
    from zinc_kettle.core.preferences import Preferences
    from zinc_kettle.core.problem import Problem
    from zinc_kettle.core.results import StudyResults


@dataclass(frozen=True)
class RunEntry:
    """A run of a study on the shelf."""

    run_id: str
    number: int
    state: str
    when: str
    where: str
    engine: str
    answer: str
    has_answer: bool = False
    """True where the answer names a best cell, or says that there is none."""
    simulated: bool = False


@dataclass(frozen=True)
class ShelfEntry:
    """A line of the shelf: a study, its file where there is one, and its runs, newest first."""

    key: str
    """Unique on the shelf, and the same as long as the study is."""
    question: str
    runs: tuple[RunEntry, ...] = ()
    name: str = ""
    """Of the study; empty where its file cannot be read."""
    file: Path | None = None
    """The study file, where one is at hand."""
    about: str = ""
    """What it would measure, for a study without a run."""
    simulated: bool = False
    example: bool = False
    """True for a finished study that came with the tool."""
    trouble: str = ""
    """What is wrong with a study file that cannot be used."""
    origin: str = ""
    """The bundle it came in, where it is somebody else's."""

    @property
    def ready(self) -> bool:
        """True for a study file that has not been run."""
        return not self.runs and not self.trouble


@dataclass(frozen=True)
class Start:
    """Something a plan may begin with."""

    key: str
    title: str
    about: str


@dataclass(frozen=True)
class Checked:
    """What a plan's text says."""

    raw: Mapping[str, Any] = field(default_factory=dict)
    """Its values; those of before where the text is no TOML."""
    factors: Mapping[str, Factor] = field(default_factory=dict)
    """What it may vary or hold."""
    results: StudyResults | None = None
    """The study, planned; None where something is wrong."""
    problems: tuple[Problem, ...] = ()
    doubts: tuple[Problem, ...] = ()


@dataclass
class OpenPlan:
    """The plan that is being edited."""

    history: History
    folder: Path
    """Where its prompt files are looked up."""
    file: Path | None = None
    """Where it was last saved."""
    saved: str = ""
    """Its text as it was saved there."""
    unfolded: set[Section] = field(default_factory=set)
    typing: tuple[tuple[str, ...], str] | None = None
    """What is being typed: the place it speaks of, and the text so far."""
    origin: str = ""
    """Whose plan it was copied from; empty for one's own."""

    @property
    def text(self) -> str:
        """The study file as it stands."""
        return self.history.text

    @property
    def changed(self) -> bool:
        """True where something is not saved."""
        return self.text != self.saved


@dataclass(frozen=True, slots=True)
class NamedSide:
    """Something that may be a side of a comparison."""

    place: str
    """Its name: `STUDY[:RUN][@factor=level,…]`."""
    title: str
    what: str
    about: str = ""


@dataclass(frozen=True)
class Entrants:
    """Who is lined up, by which factor, and the person's own figures."""

    entrants: Sequence[Entrant]
    by: str
    own: Preferences
