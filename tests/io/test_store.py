"""The store: what goes in comes out, after any end."""

from __future__ import annotations

import dataclasses
import os
import sqlite3
import stat
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.build import decode_timeline, repeat, study, timeline, trace
from zinc_kettle.core.plan import Run
from zinc_kettle.core.telemetry import Launch
from zinc_kettle.core.timeline import EngineReport, Timeline
from zinc_kettle.errors import StoreError, UsageError
from zinc_kettle.store.blocks import decode_block, decode_columns, encode_block, encode_columns, trace_columns, trace_of
from zinc_kettle.store.reading import find, load, shelf
from zinc_kettle.store.sqlite import BLOCK_REQUESTS, SqliteStore
from zinc_kettle.wire.convert import to_message, to_timeline

FACTS = {"processor": "made up", "physical_cores": 2}
stamps = st.lists(st.integers(0, 2**62), max_size=30)


def same(a: Timeline, b: Timeline) -> bool:
    """Equal in every field, arrays included."""
    for f in dataclasses.fields(Timeline):
        x, y = getattr(a, f.name), getattr(b, f.name)
        if isinstance(x, np.ndarray):
            if not np.array_equal(x, y):
                return False
        elif x != y:
            return False
    return True


def vars_of(launch: Launch | None) -> dict[str, object]:
    """A launch as plain values."""
    assert launch is not None
    return dataclasses.asdict(launch)


def store_at(tmp_path: Path) -> SqliteStore:
    """A store in a new file."""
    return SqliteStore(tmp_path / "s.db")


def begin(store: SqliteStore) -> str:
    """A study begun."""
    return store.begin(study(), source="text", facts=FACTS, wall_s=1000.0)


@settings(max_examples=40)
@given(st.lists(st.tuples(stamps, st.booleans()), min_size=1, max_size=6))
def test_blocks_give_back_every_bit(requests: list[tuple[list[int], bool]]) -> None:
    """Any stamps, in any order, with and without kernel stamps, of any length also zero."""
    rows = []
    for i, (ns, kernel) in enumerate(requests):
        array = np.array(ns, dtype=np.int64)
        t = timeline(
            [1.0] * len(ns),
            chunk_ns=array,
            kernel_ns=array[::-1].copy() if kernel else None,
            end_ns=7,
            request_id=f"r{i}",
            engine=EngineReport(1, 2, 3.5, 4, 5.5),
        )
        rows.append((f"rep{i % 2}", to_message(t, episode="e")))
    for (repeat_id, message), (back_id, back) in zip(rows, decode_block(encode_block(rows)), strict=True):
        assert repeat_id == back_id
        assert same(to_timeline(message), back)


@given(st.lists(st.lists(st.integers(-(2**60), 2**60), min_size=3, max_size=3), min_size=1, max_size=5))
def test_columns_give_back_every_bit(columns: list[list[int]]) -> None:
    """Traces too."""
    arrays = [np.array(c, dtype=np.int64) for c in columns]
    assert all(np.array_equal(a, b) for a, b in zip(arrays, decode_columns(encode_columns(*arrays)), strict=True))


def test_damaged_blocks_are_errors() -> None:
    """Not a traceback of a library."""
    good = encode_block([("a", to_message(timeline(), episode="e"))])
    for bad in (b"", good[:40], good[:-3] + b"abc"):
        with pytest.raises(StoreError):
            decode_block(bad)


def test_a_study_comes_back_whole(tmp_path: Path) -> None:
    """Plan, facts, launch, telemetry, timelines, failure and notes."""
    store = store_at(tmp_path)
    study_id = begin(store)
    done = repeat(decode_timeline(20.0), timeline(role="warmup", cold=True))
    rid = store.begin_repeat(
        study_id, Run(0, 3), concurrency=1, launch={"launch": vars_of(done.launch), "facts": {"engine": "x"}}
    )
    for t in done.timelines:
        store.add_timeline(rid, t)
    store.end_repeat(rid, done)
    bad = store.begin_repeat(study_id, Run(0, 1), concurrency=1, launch=None)
    store.fail_repeat(bad, what="no memory", last_words="alloc failed")
    store.add_note(study_id, 3, "window open", wall_s=1.0)
    store.set_state(study_id, "measured")
    store.close()
    record = load(SqliteStore(tmp_path / "s.db"), study_id)
    assert record.study == study() and record.facts == FACTS and record.state == "measured"
    assert record.notes == ((3, "window open"),)
    first, second = record.repeats
    assert all(same(a, b) for a, b in zip(first.repeat.timelines, done.timelines, strict=True))
    assert first.repeat.launch == done.launch and first.repeat.machine == done.machine
    assert first.repeat.trace is not None and done.trace is not None
    assert first.repeat.trace.resident_bytes.tolist() == done.trace.resident_bytes.tolist()
    assert (second.state, second.failure, second.last_words) == ("failed", "no memory", "alloc failed")


def test_what_was_received_is_there_without_a_close(tmp_path: Path) -> None:
    """As after SIGKILL: a second reader of the file sees each request at once."""
    store = store_at(tmp_path)
    study_id = begin(store)
    rid = store.begin_repeat(study_id, Run(0, 0), concurrency=1, launch=None)
    for i in range(3):
        store.add_timeline(rid, timeline(request_id=f"r{i}"))
        other = load(SqliteStore(tmp_path / "s.db"), study_id)
        assert len(other.repeats[0].repeat.timelines) == i + 1


def test_resume_finds_the_unfinished_run(tmp_path: Path) -> None:
    """Same plan: the same study, finished repeats known, an open one broken off and kept."""
    store = store_at(tmp_path)
    study_id = begin(store)
    done = store.begin_repeat(study_id, Run(0, 2), concurrency=1, launch=None)
    store.end_repeat(done, repeat(timeline()))
    torn = store.begin_repeat(study_id, Run(0, 4), concurrency=1, launch=None)
    store.add_timeline(torn, timeline())
    assert begin(store) == study_id
    assert store.done_runs(study_id) == {(0, 2)}
    states = [r.state for r in load(store, study_id).repeats]
    assert states == ["measured", "broken-off"]
    assert len(load(store, study_id).repeats[1].repeat.timelines) == 1
    store.set_state(study_id, "measured")
    assert begin(store) != study_id


def test_fresh_sets_the_unfinished_run_aside(tmp_path: Path) -> None:
    """It is kept, and not resumed."""
    store = store_at(tmp_path)
    first = begin(store)
    store.set_aside(study())
    assert begin(store) != first
    assert len(shelf(store)) == 2


def test_another_copy_at_work_is_refused(tmp_path: Path) -> None:
    """Two tools must not fill one study."""
    store = store_at(tmp_path)
    begin(store)
    with sqlite3.connect(tmp_path / "s.db") as db:
        db.execute("UPDATE studies SET runner = ?", (os.getppid(),))
    with pytest.raises(UsageError, match="another Zinc Kettle"):
        begin(store)


def test_hundreds_of_requests_become_blocks(tmp_path: Path) -> None:
    """The journal empties into blocks, nothing is lost and the order stays."""
    store = store_at(tmp_path)
    study_id = begin(store)
    rid = store.begin_repeat(study_id, Run(0, 0), concurrency=1, launch=None)
    count = BLOCK_REQUESTS + 5
    for i in range(count):
        store.add_timeline(rid, timeline(request_id=f"r{i}"))
    store.end_repeat(rid, repeat())
    with sqlite3.connect(tmp_path / "s.db") as db:
        assert db.execute("SELECT count(*) FROM journal").fetchone() == (0,)
        assert db.execute("SELECT sum(requests) FROM blocks").fetchone() == (count,)
    kept = load(store, study_id).repeats[0].repeat.timelines
    assert [t.request_id for t in kept] == [f"r{i}" for i in range(count)]


def test_the_file_is_private(tmp_path: Path) -> None:
    """Prompts and answers are nobody else's."""
    store_at(tmp_path)
    assert stat.S_IMODE((tmp_path / "s.db").stat().st_mode) == 0o600


def test_finding_by_name_and_by_id(tmp_path: Path) -> None:
    """A name finds the newest; a wrong one says what there is."""
    store = store_at(tmp_path)
    study_id = begin(store)
    assert find(store, "night-log") == find(store, study_id) == study_id
    with pytest.raises(UsageError, match="night-log"):
        find(store, "day-log")
    with pytest.raises(UsageError):
        load(store, "nothing")


def test_what_is_no_store_is_refused(tmp_path: Path) -> None:
    """Another file, a folder, and a store of a later version."""
    (tmp_path / "x.db").write_text("a letter, not a database" * 100)
    for path in (tmp_path / "x.db", tmp_path):
        with pytest.raises(StoreError):
            SqliteStore(path)
    store_at(tmp_path)
    with sqlite3.connect(tmp_path / "s.db") as db:
        db.execute("UPDATE meta SET value = '99' WHERE key = 'schema'")
    with pytest.raises(StoreError, match="version 99"):
        SqliteStore(tmp_path / "s.db")


def test_a_write_that_fails_says_so(tmp_path: Path) -> None:
    """A measurement that cannot be kept must stop the run."""
    store = store_at(tmp_path)
    study_id = begin(store)
    rid = store.begin_repeat(study_id, Run(0, 0), concurrency=1, launch=None)
    with sqlite3.connect(tmp_path / "s.db") as db:
        db.execute("DROP TABLE journal")
    with pytest.raises(StoreError, match="could not be read or written"):
        store.add_timeline(rid, timeline())


def test_the_shelf_keeps_its_answer(tmp_path: Path) -> None:
    """Found once, kept, replaced when it is found again."""
    store = store_at(tmp_path)
    study_id = begin(store)
    assert shelf(store)[0].answer is None
    for said in ("Q4_0 is fastest", "Q8_0 is fastest"):
        store.keep_answer(study_id, said)
        assert shelf(store)[0].answer == said


@pytest.mark.parametrize("further", [{}, {"energy_uj": 7}, {"device_bytes": 3}, {"energy_uj": 7, "device_bytes": 3}])
def test_a_trace_keeps_what_was_told_and_no_more(further: dict[str, int]) -> None:
    """Energy and device memory come back where they were told, and stay untold where they were not."""
    plain = trace()
    columns = {name: np.arange(3, dtype=np.int64) * factor for name, factor in further.items()}
    filled = dataclasses.replace(plain, **columns, energy_source="counters")  # type: ignore[arg-type]
    told = trace_of(decode_columns(encode_columns(*trace_columns(filled))), {"energy_source": "counters"})
    for name in ("energy_uj", "device_bytes"):
        value = getattr(told, name)
        assert value is None if name not in further else np.array_equal(value, columns[name])
    assert np.array_equal(told.resident_bytes, plain.resident_bytes) and told.energy_source == "counters"
