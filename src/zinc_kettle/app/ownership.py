"""Which stores are the person's own: those that were made here. Any other is only read, and checked before.

Each store made here has an id, and an empty file of that name lies in the data folder; nobody else can know the id.
"""

from __future__ import annotations

import filecmp
from pathlib import Path

from zinc_kettle.app.apart import check_regular, read_apart, work_folder
from zinc_kettle.config import DEMO_FILES, SAMPLE_STORE, Places
from zinc_kettle.store.sqlite import read_store_id
from zinc_kettle.store.store import KettleStore


def is_new(path: Path) -> bool:
    """True where there is nothing yet."""
    return not path.exists() or (path.is_file() and path.stat().st_size == 0)


def is_own(places: Places) -> bool:
    """True for a store in the data folder, one a person's environment names, one made here, and one that would be."""
    path = places.store
    if places.store_is_usual or is_new(path) or path.resolve().is_relative_to(places.home.resolve()):
        return True
    return _is_sample(path) or _is_known(places, read_store_id(path))


def claim(places: Places, store: KettleStore) -> None:
    """From now on a store is the person's own."""
    if store.path.resolve().is_relative_to(places.home.resolve()):
        return
    places.own_stores.mkdir(parents=True, exist_ok=True, mode=0o700)
    (places.own_stores / store.own_id()).touch(mode=0o600)


def adopt(places: Places) -> int:
    """Check a store in a process apart and make it the person's own; what was derived in it is computed again.

    Returns:
        How many runs it has.

    Raises:
        UsageError: There is none, or it cannot be trusted.
    """
    check_regular(places.store)
    with work_folder(places.others) as work:
        runs = read_apart(places.store, work)
    store = KettleStore(places.store)
    store.forget_derived()
    claim(places, store)
    store.close()
    return len(runs)


def _is_known(places: Places, store_id: str) -> bool:
    return bool(store_id) and (places.own_stores / store_id).is_file()


def _is_sample(path: Path) -> bool:
    sample = DEMO_FILES / SAMPLE_STORE
    return path.is_file() and sample.is_file() and filecmp.cmp(path, sample, shallow=False)
