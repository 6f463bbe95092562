"""Files that are written whole or not at all."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from zinc_kettle.errors import UsageError


@contextmanager
def whole_file(out: Path, *, folder_mode: int = 0o777) -> Iterator[Path]:
    """Give a path to write to; what stands there replaces the file at the end, and is gone if anything fails.

    Args:
        out: The file; its folder is made where there is none.
        folder_mode: Permissions of a folder that has to be made, before the umask.

    Yields:
        A path in the same folder, for this process alone.

    Raises:
        UsageError: It cannot be written.
    """
    part = out.with_name(f".{out.name}.{os.getpid()}.part")
    try:
        out.parent.mkdir(parents=True, exist_ok=True, mode=folder_mode)
        try:
            yield part
            part.replace(out)
        finally:
            part.unlink(missing_ok=True)
    except OSError as error:
        raise UsageError(f"{out.name} cannot be written", why=str(error.strerror or error),
                         remedy="choose another place") from error  # fmt: skip
