"""What a person may set: one entry each, with what it is, what it is now, and where that is from."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from zinc_kettle.core.declared import Declared, declared, parts_of
from zinc_kettle.core.preferences import TOKENS_PER_WORD, Preferences
from zinc_kettle.core.units import digits


@dataclass(frozen=True, slots=True)
class Setting:
    """Something that can be set."""

    section: str
    declared: Declared

    @property
    def name(self) -> str:
        """As its section has it."""
        return self.declared.name

    @property
    def key(self) -> str:
        """As `preferences.toml` nests it: `money.currency`."""
        return f"{self.section}.{self.name}"

    @property
    def title(self) -> str:
        """As a person names it."""
        return self.declared.about.label

    @property
    def meaning(self) -> str:
        """What it is."""
        return self.declared.about.help

    @property
    def choices(self) -> tuple[str, ...]:
        """What it can be, where that is one of a few."""
        return tuple(self.declared.about.choices)

    def of(self, own: Preferences) -> tuple[str, str]:
        """What it is now, with its unit, and where that is from."""
        section = getattr(own, self.section)
        said = _SAID.get(self.key)
        return said(own) if said is not None else _said(getattr(section, self.name)), section.origin


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


def _said(value: Any) -> str:
    return "not set" if value in (None, "") else f"{value:g}" if isinstance(value, float) else str(value)


def _energy(own: Preferences) -> str:
    price = own.money.energy_per_kwh
    return "not set" if price is None else f"{price:g} {own.money.currency} per kWh".replace("  ", " ")


_SAID: Mapping[str, Callable[[Preferences], str]] = {
    "pace.tokens_per_s": lambda own: f"{digits(own.pace.rate)} tok/s",
    "pace.words_per_minute": lambda own: f"{digits(own.pace.rate * 60 / TOKENS_PER_WORD)} words a minute",
    "money.energy_per_kwh": _energy,
}
"""Of those that are said with a unit, or by what they come to."""
SETTINGS: tuple[Setting, ...] = tuple(
    Setting(section, of) for section, record in parts_of(Preferences).items() for of in declared(record).values()
)


def setting_rows(own: Preferences) -> list[Row]:
    """Everything that can be set, as it is now."""
    return [Row(s.key, s.title, *s.of(own), s.meaning, s) for s in SETTINGS]


def setting_of(key: str) -> Setting | None:
    """A setting by its key, or by its title."""
    return next((s for s in SETTINGS if key in (s.key, s.title, s.name)), None)
