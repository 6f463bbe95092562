"""Stores of somebody else, for one process: read apart into a store of ours, which goes when the process ends."""

from __future__ import annotations

import atexit
from contextlib import ExitStack
from pathlib import Path

from zinc_kettle.app.apart import read_apart, work_folder
from zinc_kettle.app.unpacking import STORE
from zinc_kettle.config import Places
from zinc_kettle.store.store import KettleStore

_kept_open = ExitStack()
"""Folders that are needed until the process ends."""
atexit.register(_kept_open.close)


def imported(path: Path, places: Places) -> Path:
    """A store of ours with what a bundle or a store of somebody else holds; it lasts as long as this process.

    Raises:
        UsageError: It cannot be read, or cannot be trusted.
    """
    with ExitStack() as stack:
        folder = stack.enter_context(work_folder(places.others))
        read_apart(path, folder)
        _kept_open.push(stack.pop_all())
    return folder / STORE


def borrow(places: Places) -> KettleStore:
    """A store the person named that is not their own.

    Raises:
        UsageError: It cannot be read, or cannot be trusted.
    """
    remedy = f"choose another store, or make it yours: zinc-kettle doctor --adopt {places.store}"
    return KettleStore(imported(places.store, places), borrowed=remedy)
