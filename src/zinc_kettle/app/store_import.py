"""A store that is not one's own, run by run into a store of ours: all of it goes through the checks of bundles."""

from __future__ import annotations

import shutil
from pathlib import Path

from zinc_kettle.app.packing import write_bundle
from zinc_kettle.app.unpacking import take_runs
from zinc_kettle.core.anonymise import Nothing
from zinc_kettle.errors import StoreError
from zinc_kettle.store.reading import shelf
from zinc_kettle.store.sqlite import check_schema, copy_database
from zinc_kettle.store.store import KettleStore

MOST_RUNS = 5_000


def import_store(path: Path, folder: Path) -> list[str]:
    """Check a store, and write its runs into a new one in a folder.

    Returns:
        `STUDY:RUN` of each run.

    Raises:
        StoreError: It is no store, or holds tables, views or triggers that no store has.
        BundleError: A run of it is damaged, or cannot be trusted.
    """
    copy, bundle = folder / "copy.db", folder / "part" / path.name
    bundle.parent.mkdir(mode=0o700)
    copy_database(path, copy)
    check_schema(copy, path.name)
    theirs = None
    try:
        theirs = KettleStore(copy)
        runs = [run.run_id for study in shelf(theirs) for run in study.runs]
        if len(runs) > MOST_RUNS:
            raise StoreError(f"{path.name} has more than {MOST_RUNS:,} runs")
        names = []
        # The first run last: in the new store, too, the newest is then on top.
        for run in reversed(runs):
            write_bundle(theirs, [run], bundle, private=Nothing(), living=True)
            names += take_runs(bundle, folder)[0]
            bundle.unlink()
    except (ArithmeticError, AttributeError, LookupError, TypeError, ValueError) as error:
        # Values of other types than their columns have, which no store of ours can hold.
        raise StoreError(f"{path.name} holds something that cannot be", why=str(error)[:120]) from error
    finally:
        if theirs is not None:
            theirs.close()
        shutil.rmtree(bundle.parent)
        for file in folder.glob(f"{copy.name}*"):
            file.unlink()
    return names
