"""What a person needs and what things cost them: pace, currency, energy, hours; each with where it is from."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

from zinc_kettle.core.units import Memory

READING_WORDS_PER_MINUTE = 238
"""Silent reading of plain English prose by adults, mean of 190 studies (Brysbaert 2019, How many words do we read per
minute? Journal of Memory and Language 109)."""
TOKENS_PER_WORD = 4 / 3
"""Of English prose in usual vocabularies; the word's blank included."""
READING = "comfortable reading: 238 words a minute (Brysbaert 2019) at 4/3 tokens a word"


@dataclass(frozen=True, slots=True)
class Pace:
    """The decode speed a person needs."""

    rate: float = READING_WORDS_PER_MINUTE / 60 * TOKENS_PER_WORD
    """Tokens per second."""
    origin: str = READING

    @property
    def name(self) -> str:
        """In a word or two, for a line in a chart."""
        return "reading pace" if self.origin == READING else "your pace"


@dataclass(frozen=True, slots=True)
class Money:
    """What a rig costs beside its price; None where nobody said."""

    currency: str = ""
    energy_per_kwh: float | None = None
    """In the currency."""
    hours_per_day: float = 8.0
    """A rig is in use."""
    days_per_year: float = 250.0
    years: float = 4.0
    """A rig is kept."""
    origin: str = "usual values: 8 hours a day, 250 days a year, 4 years"

    @property
    def hours(self) -> float:
        """In use over its life."""
        return self.hours_per_day * self.days_per_year * self.years


Theme = Literal["dark", "light"]


@dataclass(frozen=True, slots=True)
class Look:
    """How the screen looks."""

    theme: Theme = "dark"
    origin: str = "usual"


@dataclass(frozen=True, slots=True)
class Units:
    """How figures are said."""

    memory: Memory = "GB"
    origin: str = "usual"


@dataclass(frozen=True, slots=True)
class Preferences:
    """A person's own figures."""

    pace: Pace = field(default_factory=Pace)
    money: Money = field(default_factory=Money)
    look: Look = field(default_factory=Look)
    units: Units = field(default_factory=Units)
