"""What a person needs and what things cost them: pace, currency, energy, hours; each with where it is from."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Annotated, Literal

from annotated_types import Ge, Gt, Le, Len

from zinc_kettle.core.declared import About
from zinc_kettle.core.units import Memory

Positive = Annotated[float, Gt(0), Le(1e9)]
READING_WORDS_PER_MINUTE = 238
"""Silent reading of plain English prose by adults, mean of 190 studies (Brysbaert 2019, How many words do we read per
minute? Journal of Memory and Language 109)."""
TOKENS_PER_WORD = 4 / 3
"""Of English prose in usual vocabularies; the word's blank included."""
READING = "comfortable reading: 238 words a minute (Brysbaert 2019) at 4/3 tokens a word"


@dataclass(frozen=True, slots=True)
class Pace:
    """The decode speed a person needs."""

    tokens_per_s: Annotated[
        Positive | None,
        About("pace", "the decode speed you need; lineups, curves and Fit say who keeps it", "12", kind="number"),
    ] = None
    words_per_minute: Annotated[
        Positive | None,
        About("pace in words", f"the same for a reader, at {TOKENS_PER_WORD:.3g} tokens a word", "180"),
    ] = None
    origin: str = READING

    @property
    def rate(self) -> float:
        """Tokens per second."""
        words = self.words_per_minute or READING_WORDS_PER_MINUTE
        return self.tokens_per_s or words / 60 * TOKENS_PER_WORD

    @property
    def name(self) -> str:
        """In a word or two, for a line in a chart."""
        return "reading pace" if self.origin == READING else "your pace"


@dataclass(frozen=True, slots=True)
class Money:
    """What a rig costs beside its price; None where nobody said."""

    currency: Annotated[
        str, Len(0, 8), About("currency", "of prices of rigs and of energy; said, never converted", "EUR")
    ] = ""
    energy_per_kwh: Annotated[
        Annotated[float, Ge(0), Le(1e6)] | None, About("energy", "what a kilowatt hour costs", "0.31")
    ] = None
    """In the currency."""
    hours_per_day: Annotated[float, Gt(0), Le(24), About("hours a day", "a rig is in use", "8")] = 8.0
    days_per_year: Annotated[float, Gt(0), Le(366), About("days a year", "a rig is in use", "250")] = 250.0
    years: Annotated[float, Gt(0), Le(50), About("years", "a rig is kept", "4")] = 4.0
    origin: str = "usual values: 8 hours a day, 250 days a year, 4 years"

    @property
    def hours(self) -> float:
        """In use over its life."""
        return self.hours_per_day * self.days_per_year * self.years


Theme = Literal["dark", "light"]
THEMES: dict[str, str] = {"dark": "light on dark", "light": "dark on light"}
MEMORIES: dict[str, str] = {"GB": "1,000,000,000 bytes", "GiB": "1,073,741,824 bytes"}


@dataclass(frozen=True, slots=True)
class Look:
    """How the screen looks."""

    theme: Annotated[Theme, About("theme", "dark or light; t switches for now", "light", THEMES)] = "dark"
    origin: str = "usual"


@dataclass(frozen=True, slots=True)
class Units:
    """How figures are said."""

    memory: Annotated[
        Memory,
        About(
            "memory in",
            "GB is 1,000,000,000 bytes, GiB 1,073,741,824; tables and JSON have bytes",
            "GiB",
            MEMORIES,
        ),
    ] = "GB"
    origin: str = "usual"


@dataclass(frozen=True, slots=True)
class Preferences:
    """A person's own figures, by the sections of their file."""

    pace: Pace = field(default_factory=Pace)
    money: Money = field(default_factory=Money)
    screen: Look = field(default_factory=Look)
    units: Units = field(default_factory=Units)
