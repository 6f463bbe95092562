"""The person's own figures, in `preferences.toml` of the data folder."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import tomlkit
from pydantic import ValidationError

from zinc_kettle.core.declared import parts_of
from zinc_kettle.core.preferences import Preferences
from zinc_kettle.errors import StudyFileError
from zinc_kettle.formats.atomic_file import atomic_file
from zinc_kettle.formats.declared import Strict, complaint, model_of, record_of
from zinc_kettle.formats.toml import parse_toml, read_toml


class PreferencesFile(model_of(Preferences)):  # type: ignore[misc]
    """The whole file."""

    format: int


def read_preferences(path: Path) -> Preferences:
    """A person's own figures; usual ones where there is no file.

    Raises:
        StudyFileError: The file cannot be used.
    """
    if not path.is_file():
        return Preferences()
    raw, _ = read_toml(path)
    found = _checked(raw, path.name)
    said = ((name, record, getattr(found, name)) for name, record in parts_of(Preferences).items())
    return Preferences(**{name: record_of(m, record, origin=path.name) for name, record, m in said if _says(m)})


def _says(section: Strict | None) -> bool:
    """False for an empty section: then what is usual holds, and it is not the file's."""
    return section is not None and bool(section.model_fields_set)


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
    with atomic_file(path, folder_mode=0o700) as part:
        part.write_text(changed, encoding="utf-8")


def _checked(raw: dict[str, Any], name: str) -> PreferencesFile:
    try:
        found: PreferencesFile = PreferencesFile.model_validate(raw)
    except ValidationError as error:
        first = error.errors()[0]
        raise StudyFileError(
            f"{'.'.join(map(str, first['loc']))} cannot be used",
            file=name,
            why=complaint(first),
            remedy="as in docs/preferences.md",
        ) from error
    if found.format != 1:
        raise StudyFileError("does not say its format", file=name, remedy="write format = 1 in its first line")
    return found
