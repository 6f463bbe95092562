"""TOML files as a person wrote them: read within bounds, and refused with a sentence whatever is in them."""

from __future__ import annotations

import re
import tomllib
from pathlib import Path
from typing import Any

from zinc_kettle.core.text import is_hidden
from zinc_kettle.errors import StudyFileError

MAX_FILE_BYTES = 1 << 20


def read_toml(path: Path) -> tuple[dict[str, Any], str]:
    """What a file holds, and its text.

    Raises:
        StudyFileError: It is too large, cannot be read, is no UTF-8 or no TOML.
    """
    try:
        if path.stat().st_size > MAX_FILE_BYTES:
            raise StudyFileError(f"is larger than {MAX_FILE_BYTES >> 20} MiB", file=path.name,
                                 remedy="a file of this kind is never that large")  # fmt: skip
        text = path.read_text(encoding="utf-8")
    except OSError as error:
        raise StudyFileError(
            "cannot be read", file=path.name, why=str(error.strerror), remedy="check its path"
        ) from error
    except UnicodeDecodeError as error:
        raise StudyFileError("is not UTF-8 text", file=path.name, remedy="save it as UTF-8") from error
    except ValueError as error:  # a path with a NUL in it
        raise StudyFileError("cannot be read", file=path.name, why=str(error), remedy="check its path") from error
    return parse_toml(text, file=path.name), text


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
    hidden = _hidden_in(raw)
    if hidden:
        raise StudyFileError(
            f"{hidden} contains an invisible character", file=file,
            why="control, zero-width and direction characters make a text look like a different one",
            remedy="retype it by hand",
        )  # fmt: skip
    return raw


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
