"""Files that are written whole or not at all, for nobody but this person."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import psutil

from zinc_kettle.errors import UsageError

PART = ".part"
PRIVATE = 0o600
NEW_FILE = os.O_CREAT | os.O_EXCL | os.O_WRONLY | getattr(os, "O_NOFOLLOW", 0)


@contextmanager
def atomic_file(out: Path, *, folder_mode: int = 0o777) -> Iterator[Path]:
    """Give a path to write to; what stands there replaces the file at the end, and is gone if anything fails.

    What an earlier process left behind because it was killed is removed.

    Args:
        out: The file; its folder is made where there is none.
        folder_mode: Permissions of a folder that has to be made, before the umask.

    Yields:
        A path in the same folder, for this process alone.

    Raises:
        UsageError: It cannot be written.
    """
    part = out.with_name(f".{out.name}.{os.getpid()}{PART}")
    try:
        out.parent.mkdir(parents=True, exist_ok=True, mode=folder_mode)
        _remove_leftovers(out)
        try:
            os.close(os.open(part, NEW_FILE, PRIVATE))
            yield part
            part.replace(out)
        finally:
            part.unlink(missing_ok=True)
    except (OSError, ValueError) as error:  # a name with a NUL in it, or one that this system cannot spell
        raise UsageError(
            f"{out.name} cannot be written",
            why=str(getattr(error, "strerror", None) or error),
            remedy="choose another place",
        ) from error


def _remove_leftovers(out: Path) -> None:
    """Unfinished files of this name whose process has ended; one of a process of ours is from a former one of its
    number."""
    begins, ends = f".{out.name}.", PART
    for path in out.parent.iterdir():
        owner = path.name.removeprefix(begins).removesuffix(ends)
        ours = path.name.startswith(begins) and path.name.endswith(ends) and owner.isdecimal()
        if ours and (int(owner) == os.getpid() or not psutil.pid_exists(int(owner))):
            with contextlib.suppress(OSError):
                path.unlink()
