"""What a check of a machine found: one line each, with what to do about it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

State = Literal["good", "limited", "missing", "broken"]
"""`limited`: the tool works, and some figures cannot be had or are less exact; `broken`: something it needs fails."""
MARKS: dict[State, str] = {"good": "●", "limited": "◐", "missing": "○", "broken": "✕"}


@dataclass(frozen=True, slots=True)
class Check:
    """One thing that was looked at."""

    name: str
    state: State
    found: str
    """What there is, in a few words."""
    remedy: str = ""
    """What to do about it; empty where nothing needs to be done."""

    @property
    def mark(self) -> str:
        """Its state as a sign."""
        return MARKS[self.state]


def healthy(checks: Sequence[Check]) -> bool:
    """True where nothing the tool needs is broken."""
    return all(check.state != "broken" for check in checks)
