"""What is thrown away: gone from everywhere, given back for a month, then gone for good."""

from __future__ import annotations

import os
import time
from pathlib import Path

import pytest
import sqlalchemy as sa

from tests.cli import kettle
from zinc_kettle.app.bin import FOLDER, empty, throw_path
from zinc_kettle.config import DEMO_FILES, SAMPLE_STORE, Places
from zinc_kettle.core.facts import RunFacts
from zinc_kettle.errors import RunHeldError, UsageError
from zinc_kettle.store import schema as s
from zinc_kettle.store.plans import study_of
from zinc_kettle.store.reading import find, open_run, shelf
from zinc_kettle.store.sqlite import copy_database
from zinc_kettle.store.store import BIN_DAYS, KettleStore

DAY_S = 86_400.0


@pytest.fixture
def store(tmp_path: Path) -> KettleStore:
    """The finished examples."""
    copy_database(DEMO_FILES / SAMPLE_STORE, tmp_path / "kettle.db")
    return KettleStore(tmp_path / "kettle.db")


def rows(store: KettleStore, run: str) -> dict[str, int]:
    """How many rows of each table belong to a run."""
    tables = (s.repeats, s.blocks, s.summaries, s.notes, s.decisions, s.journal)
    with store.reading() as db:
        found = {t.name: db.execute(sa.select(sa.func.count()).where(t.c.run == run)).scalar_one() for t in tables}
        return {**found, "runs": db.execute(sa.select(sa.func.count()).where(s.runs.c.id == run)).scalar_one()}


def test_a_run_goes_comes_back_and_goes_for_good(store: KettleStore) -> None:
    """Not on the shelf, not to be found, its figures untouched; after the month none of its rows is left, and of
    others' none is missing."""
    run, other = find(store, "deep-context"), find(store, "night-log-desk")
    before = rows(store, run), rows(store, other), [c.value("decode") for c in open_run(store, run).cells]
    store.remove(run, wall_s=1000.0)
    assert "deep-context" not in {row.name for row in shelf(store)}
    with pytest.raises(UsageError, match="no study 'deep-context' in the store"):
        find(store, "deep-context")
    assert find(store, "deep-context", binned=True) == run
    store.restore(run)
    assert find(store, "deep-context") == run and [c.value("decode") for c in open_run(store, run).cells] == before[2]
    store.remove(run, wall_s=1000.0)
    assert store.empty_bin(wall_s=1000.0 + BIN_DAYS * DAY_S) == 0 and rows(store, run) == before[0]
    assert store.empty_bin(wall_s=1001.0 + BIN_DAYS * DAY_S) == 1
    assert set(rows(store, run).values()) == {0} and rows(store, other) == before[1]
    with store.reading() as db:
        names = set(db.execute(sa.select(s.studies.c.name)).scalars())
        lost = sa.select(s.block_repeats).where(s.block_repeats.c.block.not_in(sa.select(s.blocks.c.id)))
        assert "deep-context" not in names and not db.execute(lost).all()


def test_numbers_are_not_used_twice_and_no_thrown_run_is_taken_up(store: KettleStore) -> None:
    """After run 1 was thrown away the next is run 2, also where the old one had been stopped."""
    run = find(store, "deep-context")
    store.set_state(run, "stopped")
    with store.reading() as db:
        plan = db.execute(sa.select(s.studies.c.plan).where(s.studies.c.name == "deep-context")).scalar_one()
    store.remove(run, wall_s=1000.0)
    again = store.begin(study_of(plan), source="", facts=RunFacts(), wall_s=2000.0)
    assert again != run and find(store, "deep-context:2") == again
    with pytest.raises(RunHeldError):
        store.remove(again, wall_s=2001.0)
    assert find(store, "deep-context") == again


def test_a_store_of_version_two_opens(tmp_path: Path) -> None:
    """The column comes, and nothing else changes."""
    old = KettleStore(tmp_path / "old.db")
    old.close()
    import sqlite3

    with sqlite3.connect(tmp_path / "old.db") as db:
        db.execute("ALTER TABLE runs DROP COLUMN removed_s")
        db.execute("UPDATE meta SET value = '2' WHERE key = 'schema'")
    opened = KettleStore(tmp_path / "old.db")
    assert shelf(opened) == []
    with opened.reading() as con:
        assert con.execute(sa.select(s.meta.c.value).where(s.meta.c.key == "schema")).scalar() == "3"


def test_files_come_back_and_go_for_good(store: KettleStore, tmp_path: Path) -> None:
    """A study file and an unpacked bundle; what lies there by now is not written over."""
    places = Places(tmp_path, store.path)
    file = places.studies / "mine.study.toml"
    file.parent.mkdir()
    file.write_text("one")
    thrown = throw_path(file, "the study file")
    assert not file.exists()
    file.write_text("two")
    with pytest.raises(UsageError, match="another mine"):
        thrown.back()
    file.unlink()
    thrown.back()
    assert file.read_text() == "one"
    throw_path(file, "again")
    (kept,) = (places.studies / FOLDER).iterdir()
    empty(places, store)
    assert kept.exists()
    old = kept.with_name(f"{int(time.time() - (BIN_DAYS + 1) * DAY_S)}-mine.study.toml")
    os.rename(kept, old)
    empty(places, store)
    assert not old.exists()


def test_on_the_command_line(store: KettleStore) -> None:
    """remove, restore, and what lies in the bin."""
    home = store.path.parent
    store.close()
    assert kettle(home, "restore").stdout == "The bin is empty.\n"
    assert kettle(home, "remove", "deep-context").stdout == "thrown away: deep-context\n"
    assert kettle(home, "show", "deep-context", "--store", store.path).returncode == 2
    assert "deep-context:1" in kettle(home, "restore").stdout
    assert kettle(home, "restore", "deep-context").returncode == 0
    assert kettle(home, "show", "deep-context").returncode == 0
    assert kettle(home, "remove", "nothing").returncode == 2
