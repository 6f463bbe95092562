"""`make sample`: figures and answers of the finished examples under the definitions of now, for what they decide now.

They are kept in the store that comes with the tool, so that a first start computes nothing. What was measured stays.
"""

from __future__ import annotations

import shutil
import sqlite3
import tempfile
from contextlib import closing
from pathlib import Path

from zinc_kettle.app.build import read_study
from zinc_kettle.app.services import Services
from zinc_kettle.config import DEMO_FILES, SAMPLE_STORE, Places
from zinc_kettle.store.reading import open_run, shelf
from zinc_kettle.store.store import KettleStore


def main() -> None:
    """Read everything in a copy, and put that in place of it."""
    sample = DEMO_FILES / SAMPLE_STORE
    with tempfile.TemporaryDirectory() as folder:
        copy = Path(folder) / "kettle.db"
        shutil.copyfile(sample, copy)
        where = Places(Path(folder), copy)
        with closing(KettleStore(copy)) as store:
            for file in sorted(DEMO_FILES.glob("*.study.toml")):
                study, source = read_study(file, where)
                store.ask(study, source=source)
            for run in (run for study in shelf(store) for run in study.runs):
                for cell in open_run(store, run.run_id).cells:
                    _ = cell.summary
        Services(where).studies.shelf()
        with closing(sqlite3.connect(copy)) as db:
            db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        # A file that nobody has open, for only of such a one the mode can be changed.
        alone = Path(folder) / "alone.db"
        shutil.copyfile(copy, alone)
        with closing(sqlite3.connect(alone)) as db:
            assert db.execute("PRAGMA journal_mode=DELETE").fetchone() == ("delete",)
            db.execute("VACUUM")
        shutil.copyfile(alone, sample)


if __name__ == "__main__":
    main()
