"""TOML files as a person wrote them: read within bounds, and refused with a sentence whatever is in them."""

from __future__ import annotations

import re
import tomllib
from pathlib import Path
from typing import Any

from zinc_kettle.core.text import is_hidden
from zinc_kettle.errors import StudyFileError
from zinc_kettle.formats.bounded import UnreadableFileError, name_of, read_bounded_text

MAX_FILE_BYTES = 1 << 20
MAX_LIST = 10_000
MOST_INTEGER = 1 << 63


def read_toml(path: Path) -> tuple[dict[str, Any], str]:
    """What a file holds, and its text.

    Raises:
        StudyFileError: It is too large, cannot be read, is no UTF-8 or no TOML.
    """
    try:
        text = read_bounded_text(path, MAX_FILE_BYTES)
    except UnreadableFileError as error:
        raise StudyFileError(str(error), file=name_of(path), remedy="check its path and its encoding") from error
    return parse_toml(text, file=name_of(path)), text


def parse_toml(text: str, *, file: str) -> dict[str, Any]:
    """TOML as plain values.

    Raises:
        StudyFileError: It is no TOML, nests too deeply, or holds a number or a text nobody can have meant.
    """
    try:
        raw = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        found = re.search(r"at line (\d+)", str(error))
        line = int(found.group(1)) if found else None
        raise StudyFileError("is not TOML", file=file, line=line, why=str(error)) from error
    except RecursionError as error:
        raise StudyFileError("is not usable", file=file, why="its values are nested too deeply") from error
    except ValueError as error:  # Python reads no number of more than 4,300 digits
        raise StudyFileError("is not usable", file=file, why=str(error).partition(";")[0]) from error
    _check_sizes(raw, file)
    hidden = _hidden_in(raw)
    if hidden:
        raise StudyFileError(
            f"{hidden} contains an invisible character",
            file=file,
            why="control, zero-width and direction characters make a text look like a different one",
            remedy="retype it by hand",
        )
    return raw


def _check_sizes(raw: dict[str, Any], file: str) -> None:
    """Numbers of 64 bits, as TOML has them, and lists of a length that a person could have written or made."""
    left: list[tuple[str, object]] = [("the file", raw)]
    while left:
        name, value = left.pop()
        if isinstance(value, dict):
            left += [(str(key), item) for key, item in value.items()]
        elif isinstance(value, list):
            if len(value) > MAX_LIST:
                raise StudyFileError(f"{name} has {len(value):,} entries", file=file, remedy=f"{MAX_LIST:,} at most")
            left += [(name, item) for item in value]
        elif isinstance(value, int) and not -MOST_INTEGER <= value < MOST_INTEGER:
            raise StudyFileError(f"{name} has a number of more than 64 bits", file=file, remedy="write a smaller one")


def _hidden_in(raw: dict[str, Any]) -> str:
    """The key whose text, or whose own name, has a character no terminal shows; empty where there is none."""
    left: list[tuple[str, object]] = [("the file", raw)]
    while left:
        name, value = left.pop()
        if isinstance(value, dict):
            if any(is_hidden(char) for key in value for char in key):
                return f"a key of {name}"
            left += list(value.items())
        elif isinstance(value, list):
            left += [(name, item) for item in value]
        elif isinstance(value, str) and any(is_hidden(char) and char not in "\n\t" for char in value):
            return name
    return ""
