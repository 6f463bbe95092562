"""Changes to the text of a study file, with its comments and its order kept."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import tomlkit
from tomlkit.exceptions import TOMLKitError

from zinc_kettle.core.declared import Plain
from zinc_kettle.core.plan.fields import SECTIONS
from zinc_kettle.errors import StudyFileError

LONG_ARRAY = 100
"""Characters of a line beyond which a list of combinations is broken into several."""
EMPTY = 'format = 1\nname = "new-study"\nquestion = "What is to be answered?"\n\n[vary]\n\n[hold]\n'
"""A study that says nothing yet."""


def with_value(text: str, path: Sequence[str], value: Plain) -> str:
    """The text with one value set; a table that is not there yet is added at its place.

    Args:
        text: Of the study file.
        path: Of the value, as `("vary", "threads")`.
        value: As TOML has it.

    Raises:
        StudyFileError: The text is no TOML.
    """
    document = _parsed(text)
    table: Any = document
    for name in path[:-1]:
        if name not in table:
            _add_table(document, name)
        table = table[name]
    table[path[-1]] = _item(value)
    return tomlkit.dumps(document)


def without_value(text: str, path: Sequence[str]) -> str:
    """The text without a value; a table that is left empty goes, but for those of the factors.

    Raises:
        StudyFileError: The text is no TOML.
    """
    document = _parsed(text)
    table: Any = document
    for name in path[:-1]:
        if name not in table:
            return text
        table = table[name]
    if path[-1] in table:
        table.remove(path[-1])
        if len(path) > 1 and not table and path[0] not in {"vary", "hold"}:
            document.remove(path[0])
    return tomlkit.dumps(document)


def _parsed(text: str) -> tomlkit.TOMLDocument:
    try:
        return tomlkit.parse(text)
    except (TOMLKitError, RecursionError, ValueError) as error:
        raise StudyFileError("is not TOML", file="the plan", why=str(error)) from error


def _add_table(document: tomlkit.TOMLDocument, name: str) -> None:
    """A table before the first one that a person reads after it; at the end where there is none."""
    order = list(SECTIONS)
    behind = set(order[order.index(name) + 1 :]) if name in order else set()
    keys = list(document)
    first = next((place for place, key in enumerate(keys) if key in behind), len(keys))
    if first == len(keys) and not tomlkit.dumps(document).endswith("\n\n"):
        document.add(tomlkit.nl())
    # A document has no insert: what comes behind the new table is taken out and put back.
    rest = [(key, document[key]) for key in keys[first:]]
    for key, _ in rest:
        document.remove(key)
    document.add(name, tomlkit.table())
    for key, item in rest:
        document.add(key, item)


def _item(value: Plain) -> Any:
    if isinstance(value, Mapping):
        table = tomlkit.inline_table()
        table.update({name: _item(part) for name, part in value.items()})
        return table
    if isinstance(value, list):
        array = tomlkit.array()
        for part in value:
            array.append(_item(part))
        if len(array.as_string()) > LONG_ARRAY and value and isinstance(value[0], (list, Mapping)):
            array.multiline(True)
        return array
    return tomlkit.item(value)
