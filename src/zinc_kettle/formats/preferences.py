"""The person's own figures, in `preferences.toml` of the data folder."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

import tomlkit
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from zinc_kettle.core.preferences import Look, Money, Pace, Preferences, Theme, Units
from zinc_kettle.core.units import Memory
from zinc_kettle.errors import StudyFileError
from zinc_kettle.formats.toml import parse_toml, read_toml
from zinc_kettle.formats.whole import whole_file

Positive = Annotated[float, Field(gt=0, le=1e9, allow_inf_nan=False)]


USUAL = Money()


class _Model(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class PaceSection(_Model):
    """`[pace]`: the decode speed needed."""

    tokens_per_s: Positive | None = None
    words_per_minute: Positive | None = None


class MoneySection(_Model):
    """`[money]`."""

    currency: Annotated[str, Field(max_length=8)] = ""
    energy_per_kwh: Annotated[float, Field(ge=0, le=1e6, allow_inf_nan=False)] | None = None
    hours_per_day: Annotated[float, Field(gt=0, le=24)] = USUAL.hours_per_day
    days_per_year: Annotated[float, Field(gt=0, le=366)] = USUAL.days_per_year
    years: Annotated[float, Field(gt=0, le=50)] = USUAL.years


class ScreenSection(_Model):
    """`[screen]`."""

    theme: Theme = "dark"


class UnitsSection(_Model):
    """`[units]`."""

    memory: Memory = "GB"


class PreferencesFile(_Model):
    """The whole file."""

    format: int
    pace: PaceSection = PaceSection()
    money: MoneySection | None = None
    screen: ScreenSection | None = None
    units: UnitsSection | None = None


def read_preferences(path: Path) -> Preferences:
    """A person's own figures; usual ones where there is no file.

    Raises:
        StudyFileError: The file cannot be used.
    """
    if not path.is_file():
        return Preferences()
    raw, _ = read_toml(path)
    found = _checked(raw, path.name)
    look = Look() if found.screen is None else Look(found.screen.theme, path.name)
    money = Money() if found.money is None else _money(found.money, path.name)
    units = Units() if found.units is None else Units(found.units.memory, path.name)
    return Preferences(_pace(found.pace, path.name), money, look, units)


def write_preference(path: Path, section: str, name: str, value: str | float | None) -> None:
    """Change one of a person's own figures; comments and the order of the file stay.

    Args:
        path: The file; made where there is none.
        section: `pace`, `money`, `screen` or `units`.
        name: Of the figure.
        value: The new one; None takes it away, so that what is usual holds again.

    Raises:
        StudyFileError: The file, or the value, cannot be used; nothing is changed then.
        UsageError: It cannot be written.
    """
    text = read_toml(path)[1] if path.is_file() else "format = 1\n"
    document = tomlkit.parse(text)
    if section not in document:
        document.add(section, tomlkit.table())
    table: Any = document[section]
    if value is not None:
        table[name] = value
    elif name in table:
        table.remove(name)
    if not table:
        document.remove(section)
    changed = tomlkit.dumps(document)
    _checked(parse_toml(changed, file=path.name), path.name)
    with whole_file(path, folder_mode=0o700) as part:
        part.write_text(changed, encoding="utf-8")


def _checked(raw: dict[str, Any], name: str) -> PreferencesFile:
    try:
        found = PreferencesFile.model_validate(raw)
    except ValidationError as error:
        first = error.errors()[0]
        raise StudyFileError(
            f"{'.'.join(map(str, first['loc']))} cannot be used",
            file=name,
            why=str(first["msg"]),
            remedy="as in docs/preferences.md",
        ) from error
    if found.format != 1:
        raise StudyFileError("does not say its format", file=name, remedy="write format = 1 in its first line")
    return found


def _pace(section: PaceSection, name: str) -> Pace:
    if section.tokens_per_s is not None:
        return Pace(section.tokens_per_s, name)
    if section.words_per_minute is not None:
        from zinc_kettle.core.preferences import TOKENS_PER_WORD

        return Pace(section.words_per_minute / 60 * TOKENS_PER_WORD, name)
    return Pace()


def _money(section: MoneySection, name: str) -> Money:
    return Money(**section.model_dump(), origin=name)
