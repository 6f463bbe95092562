"""Files that were not written by us, read within bounds: regular files only, and never more than a limit."""

from __future__ import annotations

import os
import stat
from pathlib import Path

from zinc_kettle.core.text import neutralise, shorten

MOST_NAME = 80
OPEN = os.O_RDONLY | getattr(os, "O_NONBLOCK", 0) | getattr(os, "O_CLOEXEC", 0) | getattr(os, "O_BINARY", 0)
"""A pipe that nobody writes to would hold us up for ever."""


def name_of(path: Path) -> str:
    """A file's name as it can be shown; a path without one, in quotes."""
    return shorten(neutralise(path.name, keep_newlines=False), MOST_NAME) or repr(str(path))


class UnreadableFileError(Exception):
    """A file that cannot be read, and why, as a clause: `is not a regular file`."""


def read_bounded(path: Path, limit: int) -> bytes:
    """A file whole.

    Args:
        path: The file.
        limit: Bytes it may have.

    Raises:
        UnreadableFileError: It is missing, no regular file, or larger.
    """
    try:
        with open(path, "rb", buffering=0, opener=lambda name, _flags: os.open(name, OPEN)) as file:
            known = os.fstat(file.fileno())
            if not stat.S_ISREG(known.st_mode):
                raise UnreadableFileError("is not a regular file")
            if known.st_size > limit:
                raise UnreadableFileError(f"is larger than {limit >> 20} MiB")
            data = file.read(limit + 1)
    except OSError as error:
        raise UnreadableFileError(f"cannot be read: {error.strerror}") from error
    except ValueError as error:  # a path with a NUL in it
        raise UnreadableFileError(f"cannot be read: {error}") from error
    if len(data) > limit:
        raise UnreadableFileError(f"is larger than {limit >> 20} MiB")
    return data


def read_bounded_text(path: Path, limit: int, *, encoding: str = "utf-8") -> str:
    """A text file whole, line ends as `\\n`; see `read_bounded`.

    Raises:
        UnreadableFileError: It cannot be read, or is no text of this encoding.
    """
    try:
        text = read_bounded(path, limit).decode(encoding)
    except UnicodeDecodeError as error:
        raise UnreadableFileError("is not UTF-8 text" if "utf" in encoding else "is not plain text") from error
    return text.replace("\r\n", "\n").replace("\r", "\n")
