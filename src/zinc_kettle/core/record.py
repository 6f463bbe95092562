"""A study as it was kept: the plan, and every repeat with its state."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, Literal

from zinc_kettle.core.measures import Repeat
from zinc_kettle.core.plan import Study

RepeatState = Literal["open", "measured", "failed", "broken-off"]
"""`open` while it runs; `broken-off` was interrupted: kept and shown, not counted, measured again on resume."""
StudyState = Literal["planned", "running", "stopped", "measured"]


@dataclass(frozen=True, slots=True)
class RepeatRecord:
    """One repeat and how it ended."""

    cell: int
    state: RepeatState
    repeat: Repeat
    failure: str = ""
    last_words: str = ""
    facts: dict[str, Any] = field(default_factory=dict)
    """What the engine said of itself at launch, and the launch line."""


@dataclass(frozen=True, slots=True)
class StudyRecord:
    """A study and all its repeats, in the order they ran."""

    study_id: str
    study: Study
    state: StudyState
    created_s: float
    """Seconds since 1970; 0 for a study that is only planned."""
    facts: dict[str, Any] = field(default_factory=dict)
    """Kind of machine."""
    simulated: bool = False
    source: str = ""
    """The study file as it was."""
    repeats: tuple[RepeatRecord, ...] = ()
    notes: tuple[tuple[int | None, str], ...] = ()
    """Notes of the person: cell index or None for the study, and the text."""
