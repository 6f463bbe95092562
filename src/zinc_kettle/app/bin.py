"""What a person throws away: runs, unpacked bundles, study files of their own; kept for a month, and given back."""

from __future__ import annotations

import contextlib
import shutil
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from zinc_kettle.app.views import ShelfEntry
from zinc_kettle.config import Places
from zinc_kettle.errors import KettleError, UsageError
from zinc_kettle.store.store import BIN_DAYS, KettleStore

FOLDER = ".bin"


class Bin:
    """What this process throws away, and takes back.

    Args:
        places: Where things are kept.
        store: The person's store.
        close: Lets go of somebody else's bundle, by its name, so that its file can be moved.
    """

    def __init__(self, places: Places, store: Callable[[], KettleStore], close: Callable[[str], None]) -> None:
        self._places = places
        self._store = store
        self._close = close
        self._thrown: list[Thrown] = []
        """The last of it last."""
        self._emptied = False

    def empty_once(self) -> None:
        """What has been thrown away for a month goes for good."""
        if not self._emptied:
            self._emptied = True
            with contextlib.suppress(KettleError):
                empty(self._places, self._store())

    def throw_away(self, entry: ShelfEntry, run: int) -> str:
        """Throw a run of the shelf away, a bundle, or a study file; says what it was.

        Raises:
            UsageError: There is nothing to throw away, or it cannot be moved.
            RunHeldError: It is being measured.
        """
        if entry.origin:
            self._close(entry.origin)
            thrown = throw_path(self._places.others / entry.origin, f"the bundle {entry.origin}")
        elif entry.runs:
            chosen = entry.runs[min(run, len(entry.runs) - 1)]
            thrown = throw_run(self._store(), chosen.run_id, f"run {chosen.number} of: {entry.question}")
        elif entry.file is not None:
            thrown = throw_path(entry.file, f"the study file {entry.file.name}")
        else:
            raise UsageError("there is nothing to throw away", remedy="choose a run, a bundle or a study file")
        self._thrown.append(thrown)
        return thrown.what

    def take_back(self) -> str:
        """Take back what was thrown away last; empty where nothing was.

        Raises:
            UsageError: It cannot be taken back.
        """
        if not self._thrown:
            return ""
        thrown = self._thrown.pop()
        thrown.back()
        return thrown.what


@dataclass(frozen=True, slots=True)
class Thrown:
    """Something that was thrown away just now."""

    what: str
    """As a person calls it."""
    back: Callable[[], None]
    """Takes it back."""


def throw_run(store: KettleStore, run_id: str, what: str) -> Thrown:
    """Throw a run away.

    Raises:
        RunHeldError: It is being measured.
    """
    store.remove(run_id, wall_s=time.time())
    return Thrown(what, lambda: store.restore(run_id))


def throw_path(path: Path, what: str) -> Thrown:
    """Throw a file or a folder of the data folder away.

    Raises:
        UsageError: It cannot be moved.
    """
    kept = path.parent / FOLDER / f"{int(time.time())}-{path.name}"
    try:
        kept.parent.mkdir(exist_ok=True, mode=0o700)
        path.rename(kept)
    except OSError as error:
        raise UsageError(f"{path.name} cannot be thrown away", why=str(error.strerror)) from error
    return Thrown(what, lambda: _back(kept, path))


def _back(kept: Path, path: Path) -> None:
    try:
        if path.exists():
            raise UsageError(f"there is another {path.name} by now", remedy=f"it stays in {kept.parent}")
        kept.rename(path)
    except OSError as error:
        raise UsageError(f"{path.name} cannot be taken back", why=str(error.strerror)) from error


def empty(places: Places, store: KettleStore) -> None:
    """Delete for good what has been in the bin for longer than a month."""
    now = time.time()
    store.empty_bin(wall_s=now)
    for folder in (places.others / FOLDER, places.studies / FOLDER):
        for path in folder.iterdir() if folder.is_dir() else ():
            begun = path.name.partition("-")[0]
            if begun.isdecimal() and now - int(begun) > BIN_DAYS * 86_400:
                with contextlib.suppress(OSError):
                    shutil.rmtree(path) if path.is_dir() else path.unlink()
