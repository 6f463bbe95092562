"""What a person may set: one entry each, with what it is, what it is now, and where that is from."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

from zinc_kettle.core.preferences import TOKENS_PER_WORD, Preferences
from zinc_kettle.core.units import PREFIXES, digits

Kind = Literal["number", "text", "choice"]


@dataclass(frozen=True, slots=True)
class Setting:
    """Something that can be set."""

    section: str
    name: str
    title: str
    meaning: str
    kind: Kind
    of: Callable[[Preferences], tuple[str, str]]
    """What it is now, with its unit, and where that is from."""
    choices: tuple[str, ...] = ()

    @property
    def key(self) -> str:
        """As `preferences.toml` nests it: `money.currency`."""
        return f"{self.section}.{self.name}"


@dataclass(frozen=True, slots=True)
class Row:
    """A line of the settings."""

    key: str
    title: str
    value: str
    origin: str
    meaning: str
    setting: Setting | None = None
    """None for what is not set here, such as folders."""


def _money(of: Callable[[Preferences], str]) -> Callable[[Preferences], tuple[str, str]]:
    return lambda p: (of(p), p.money.origin)


SETTINGS: tuple[Setting, ...] = (
    Setting(
        "pace",
        "tokens_per_s",
        "pace",
        "the decode speed you need; lineups, curves and Fit say who keeps it",
        "number",
        lambda p: (f"{digits(p.pace.rate)} tok/s", p.pace.origin),
    ),
    Setting(
        "pace",
        "words_per_minute",
        "pace in words",
        f"the same for a reader, at {TOKENS_PER_WORD:.3g} tokens a word",
        "number",
        lambda p: (f"{digits(p.pace.rate * 60 / TOKENS_PER_WORD)} words a minute", p.pace.origin),
    ),
    Setting(
        "money",
        "currency",
        "currency",
        "of prices of rigs and of energy; said, never converted",
        "text",
        _money(lambda p: p.money.currency or "not set"),
    ),
    Setting(
        "money",
        "energy_per_kwh",
        "energy",
        "what a kilowatt hour costs",
        "number",
        _money(
            lambda p: (
                "not set"
                if p.money.energy_per_kwh is None
                else f"{p.money.energy_per_kwh:g} {p.money.currency} a kWh".replace("  ", " ")
            )
        ),
    ),
    Setting(
        "money",
        "hours_per_day",
        "hours a day",
        "a rig is in use",
        "number",
        _money(lambda p: f"{p.money.hours_per_day:g}"),
    ),
    Setting(
        "money",
        "days_per_year",
        "days a year",
        "a rig is in use",
        "number",
        _money(lambda p: f"{p.money.days_per_year:g}"),
    ),
    Setting("money", "years", "years", "a rig is kept", "number", _money(lambda p: f"{p.money.years:g}")),
    Setting(
        "screen",
        "theme",
        "theme",
        "dark or light; t switches for now",
        "choice",
        lambda p: (p.look.theme, p.look.origin),
        ("dark", "light"),
    ),
    Setting(
        "units",
        "memory",
        "memory in",
        "GB is 1,000,000,000 bytes, GiB 1,073,741,824; tables and JSON have bytes",
        "choice",
        lambda p: (p.units.memory, p.units.origin),
        tuple(PREFIXES),
    ),
)


def setting_rows(own: Preferences) -> list[Row]:
    """Everything that can be set, as it is now."""
    return [Row(s.key, s.title, *s.of(own), s.meaning, s) for s in SETTINGS]


def setting_of(key: str) -> Setting | None:
    """A setting by its key, or by its title."""
    return next((s for s in SETTINGS if key in (s.key, s.title, s.name)), None)
