"""What station Plan needs of the rest of the tool, and the plan that is being edited."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol

from zinc_kettle.core.history import History

if TYPE_CHECKING:
    from zinc_kettle.core.declared import Plain
    from zinc_kettle.core.factors import Factor, Level
    from zinc_kettle.core.plan import Cell, Study
    from zinc_kettle.core.plan_fields import Section
    from zinc_kettle.core.problem import Problem
    from zinc_kettle.core.results import StudyResults
    from zinc_kettle.present.planned import Costs


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


class Planner(Protocol):
    """Plans: where they begin, what they say, and where they are kept."""

    def starts(self) -> list[Start]:
        """What a plan may begin with."""
        ...

    def begin(self, start: str, hold: Mapping[str, str]) -> OpenPlan:
        """A plan from one of these, with some levels held already."""
        ...

    def copy_of(self, results: StudyResults, file: Path | None) -> OpenPlan:
        """A plan that says what a study says."""
        ...

    def with_change(self, plan: OpenPlan, cell: Cell, changes: Mapping[str, Level]) -> OpenPlan:
        """The plan with other settings than a cell has, by their role; a level that varies is replaced."""
        ...

    def values(self, text: str, before: Mapping[str, Any]) -> Mapping[str, Any]:
        """The values of a text, whether they are right or not; those of before where it is no TOML."""
        ...

    def check(self, text: str, folder: Path, before: Checked) -> Checked:
        """What a text says, and what is wrong or doubtful about it."""
        ...

    def costs(self, study: Study) -> Costs:
        """What measuring it would take; reads model files, so it is asked for in a thread."""
        ...

    def with_value(self, text: str, path: tuple[str, ...], value: Plain | None) -> str:
        """The text with a value, or without it."""
        ...

    def known_levels(self, name: str) -> list[tuple[str, str]]:
        """Levels of a factor that are known here, each with what it is."""
        ...

    def models(self) -> list[Start]:
        """Models found on this machine's disks; their keys say how a plan names them."""
        ...

    def save(self, plan: OpenPlan) -> Path:
        """Write it into the studies folder under its name."""
        ...

    def keep(self, plan: OpenPlan | None) -> None:
        """Keep it as it stands, half-typed words too; nothing is kept where there is none."""
        ...

    def kept(self) -> OpenPlan | None:
        """The plan that was being edited when the screen was last closed."""
        ...
