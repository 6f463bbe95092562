"""What was decided about a run since it began: one type for each kind, with what may be said of it.

The log of a run is a list of these, oldest first; core.run.schedule says what each changes.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import ClassVar, Literal

from zinc_kettle.core.plan.factors import Level, label
from zinc_kettle.core.units import plural

Author = Literal["person", "search", "tool"]
"""Who decided: a person, the search for the largest load, or the tool by the plan."""
FailurePolicy = Literal["go-on", "again", "ask"]
"""What happens when a repeat has failed: the run goes on, tries it once more at once, or pauses and waits."""
POLICY_WORDS: dict[FailurePolicy, str] = {"go-on": "go on", "again": "try once more", "ask": "pause and ask"}


@dataclass(frozen=True, slots=True)
class Step:
    """The next thing to measure: a cell's repeat in a block."""

    block: int
    cell: str
    """Key of the cell."""


@dataclass(frozen=True, slots=True)
class Decision:
    """Any of them."""

    kind: ClassVar[str]
    words: ClassVar[str]
    """What was done, before the cells it was done to."""
    steers: ClassVar[bool] = True
    """False where it changes nothing of what is measured."""
    says: ClassVar[str] = ""
    """The field that holds what it says besides: a reason, a policy, a mark, a question."""
    about_run: ClassVar[bool] = False
    """True where it is about the whole run, and names no cells."""

    at_s: float = 0.0
    """When, in seconds since 1970."""
    levels: Mapping[str, Level] = field(default_factory=dict)
    """Cells that are meant: all that have these levels. Of `AddLevel` the one factor and its new level."""
    step: Step | None = None
    """What was being measured when it was taken; new cells and further repeats begin with its block."""
    by: Author = "person"

    def means(self, levels: Mapping[str, Level]) -> bool:
        """True of a cell that has the levels it names."""
        return all(levels.get(name) == level for name, level in self.levels.items())

    @property
    def told(self) -> str:
        """In words: `skipped: threads 8`; no full stop."""
        what = said(self.levels)
        return f"{self.words}: {what}" if what else self.words


def said(levels: Mapping[str, Level]) -> str:
    """Levels in words."""
    return ", ".join(f"{name.replace('_', ' ')} {label(level)}" for name, level in levels.items())


class Skip(Decision):
    """Leave cells out."""

    kind, words = "skip", "skipped"


class Restore(Decision):
    """Take cells up again."""

    kind, words = "restore", "taken up again"


class AddLevel(Decision):
    """A further level of a factor."""

    kind, words = "add-level", "added"


class First(Decision):
    """Measure cells before all others."""

    kind, words = "first", "measured first"


class InTurn(Decision):
    """Measure all cells in turn again."""

    kind, words, about_run = "in-turn", "measured in turn again", True


class StopAfter(Decision):
    """End the run with the block that is being measured."""

    kind, words, about_run = "stop-after", "to stop after its block", True


class Resume(Decision):
    """Go on after a pause, or in spite of a stop."""

    kind, words, about_run = "resume", "went on", True


class TimeUp(Decision):
    """The run reached its cap on time."""

    kind, words, about_run = "time-up", "ended at its cap on time", True


@dataclass(frozen=True, slots=True)
class More(Decision):
    """Further repeats."""

    kind, words = "more", "more repeats"
    count: int = 0
    """Of each cell."""

    @property
    def told(self) -> str:
        """With how many."""
        what = said(self.levels)
        return plural(self.count, "more repeat") + (f": {what}" if what else "")


@dataclass(frozen=True, slots=True)
class Settle(Decision):
    """The question needs no more repeats of a cell."""

    kind, words, steers = "settle", "settled", False
    count: int = 0
    """After how many."""


@dataclass(frozen=True, slots=True)
class Pause(Decision):
    """Begin nothing until `Resume`."""

    kind, words, about_run, says = "pause", "paused", True, "reason"
    reason: str = ""
    """The tool's."""

    @property
    def told(self) -> str:
        """With the reason, where there is one."""
        return f"{self.words}: {self.reason}" if self.reason else self.words


@dataclass(frozen=True, slots=True)
class OnFailure(Decision):
    """What is to happen when a repeat fails."""

    kind, words, about_run, says = "on-failure", "when a cell fails", True, "policy"
    policy: FailurePolicy = "go-on"

    @property
    def told(self) -> str:
        """With what is to happen."""
        return f"{self.words}: {POLICY_WORDS[self.policy]}"


@dataclass(frozen=True, slots=True)
class Acknowledge(Decision):
    """A caution is known to be no worry."""

    kind, words, steers, says = "acknowledge", "acknowledged", False, "reason"
    caution: str = ""
    """Its code."""
    reason: str = ""
    """The person's."""


@dataclass(frozen=True, slots=True)
class Mark(Decision):
    """What a person thinks of an answer; given twice it is taken back."""

    kind, words, steers, says = "mark", "marked", False, "mark"
    request: str = ""
    """The id of the request whose answer is meant."""
    mark: str = ""


@dataclass(frozen=True, slots=True)
class GateAsked(Decision):
    """What a gate asks, so that one that was killed can go on."""

    kind, words, steers, says = "gate", "asked by a gate", False, "question"
    question: str = ""


KINDS: dict[str, type[Decision]] = {
    of.kind: of
    for of in (
        Skip,
        Restore,
        AddLevel,
        First,
        InTurn,
        StopAfter,
        Pause,
        Resume,
        More,
        OnFailure,
        Settle,
        TimeUp,
        Acknowledge,
        Mark,
        GateAsked,
    )
}
WISHES: dict[str, type[Decision]] = {
    of.kind: of for of in (Pause, Resume, StopAfter, Skip, Restore, More, AddLevel, First, InTurn, OnFailure)
}
"""What a person may wish while a run is measured."""
GIVES_WORK = (More, AddLevel, Restore)
"""Decisions after which a run that was measured has something left to measure."""
