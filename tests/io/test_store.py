"""The store: what goes in comes out, after any end, from any version, whatever others do with it meanwhile."""

from __future__ import annotations

import dataclasses
import json
import random
import shutil
import sqlite3
import stat
import threading
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

import msgspec
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.build import decode_timeline, repeat, repeats_at, study, timeline, trace
from zinc_kettle.app.side_names import Sides
from zinc_kettle.config import Places
from zinc_kettle.core.facts import RunFacts
from zinc_kettle.core.plan.decide import Decide
from zinc_kettle.core.plan.study import Repeats, Study
from zinc_kettle.core.record.timeline import SMALL, EngineReport, Timeline
from zinc_kettle.core.record.value import Value
from zinc_kettle.core.results import Failure, KeptRepeat, cell_kept
from zinc_kettle.core.run.decisions import Mark, More, Skip, Step
from zinc_kettle.core.summary import CATALOGUE, CellSummary
from zinc_kettle.errors import RunHeldError, StoreError, UsageError
from zinc_kettle.store.blocks import decode_block, decode_columns, encode_block, encode_columns, trace_columns, trace_of
from zinc_kettle.store.plans import plan_key, plan_text, study_of
from zinc_kettle.store.reading import find, open_run, other_runs, shelf
from zinc_kettle.store.requests import decode_request, encode_request
from zinc_kettle.store.store import BLOCK_REQUESTS, LEASE_S, KettleStore
from zinc_kettle.store.summaries import decode_summary, encode_summary

FACTS: RunFacts = {"processor": "made up", "physical_cores": 2}
VERSION_1 = Path(__file__).parent.parent / "data" / "store-v1.db"
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


@pytest.fixture
def store(tmp_path: Path) -> Iterator[KettleStore]:
    """A store in a new file."""
    made = KettleStore(tmp_path / "s.db")
    yield made
    made.close()


def begin(store: KettleStore, plan: Study | None = None, *, wall_s: float = 1000.0, fresh: bool = False) -> str:
    """A run begun, or taken up."""
    return store.begin(plan or study(), source="text", facts=FACTS, wall_s=wall_s, fresh=fresh)


def measure(store: KettleStore, run: str, place: int, block: int = 0, rate: float = 20.0) -> None:
    """One repeat of a cell, measured and kept as a run keeps it."""
    plan, cell = study(), study().cells[place]
    done = repeat(decode_timeline(rate), timeline(role="warmup", cold=True), block=block)
    rid = store.begin_repeat(run, cell, block, concurrency=1, launch=done.launch, facts={"engine": "x"})
    for t in done.timelines:
        store.add_timeline(rid, t)
    store.end_repeat(rid, done)
    kept = cell_kept(plan, cell, FACTS, store.repeats(run, cell.key)).summary
    assert isinstance(kept, CellSummary)
    store.keep_summary(run, cell.key, kept)


@settings(max_examples=40)
@given(st.lists(st.tuples(stamps, st.booleans()), min_size=1, max_size=6))
def test_blocks_and_the_journal_give_back_every_bit(requests: list[tuple[list[int], bool]]) -> None:
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
            clock="monotonic-1",
            engine=EngineReport(1, 2, 3.5, 4, 5.5),
        )
        rows.append((f"rep{i % 2}", t))
    for (repeat_id, t), (back_id, back) in zip(rows, decode_block(encode_block(rows)), strict=True):
        assert repeat_id == back_id
        assert same(t, back) and same(t, decode_request(encode_request(t)))


@given(st.lists(st.lists(st.integers(-(2**60), 2**60), min_size=3, max_size=3), min_size=1, max_size=5))
def test_columns_give_back_every_bit(columns: list[list[int]]) -> None:
    """Traces too."""
    arrays = [np.array(c, dtype=np.int64) for c in columns]
    assert all(np.array_equal(a, b) for a, b in zip(arrays, decode_columns(encode_columns(*arrays)), strict=True))


def test_a_request_that_an_earlier_version_kept_is_read() -> None:
    """As the journal had it before a request's fields were declared once, with every field set; and written alike."""
    kept = (Path(__file__).parent.parent / "data" / "request-2.msgpack").read_bytes()
    found = decode_request(kept)
    assert found.engine == EngineReport(8, 56, 12.5, 4, 7.25, 6, 3) and found.stamps.tolist() == [1_990, 3_490, 7_990]
    small = {of.name: getattr(found, of.name) for of in SMALL}
    assert small | {"due_ns": 900, "odd": "a count of -1", "clock": "here", "turn": 5, "finish": "length"} == small
    assert msgspec.msgpack.decode(encode_request(found)) == msgspec.msgpack.decode(kept)


def test_damaged_blocks_are_errors() -> None:
    """Not a traceback of a library."""
    good = encode_block([("a", timeline())])
    for bad in (b"", good[:40], good[:-3] + b"abc"):
        with pytest.raises(StoreError):
            decode_block(bad)
    with pytest.raises(StoreError):
        decode_request(b"x")
    with pytest.raises(StoreError):
        decode_summary(b"x")


def test_a_run_comes_back_whole(tmp_path: Path) -> None:
    """Plan, facts, launch, telemetry, timelines, failure, notes and decisions; by the levels of its cells."""
    store = KettleStore(tmp_path / "s.db")
    run = begin(store)
    measure(store, run, 3)
    bad = store.begin_repeat(run, study().cells[1], 0, concurrency=1)
    store.fail_repeat(bad, Failure("launch", "no memory", "alloc failed"))
    store.add_note(run, study().cells[3].key, "window open", wall_s=1.0)
    decided = Skip(5.0, {"threads": 2}, Step(0, "x"))
    store.decide(run, decided)
    store.set_state(run, "measured")
    store.close()
    results = open_run(KettleStore(tmp_path / "s.db"), run)
    assert results.study == study() and results.run.facts == FACTS and results.run.state == "measured"
    assert results.run.number == 1 and results.run.decisions == (decided,)
    cell = results.cells[3]
    assert results.run.notes == ((cell.cell.key, "window open"),)
    (first,) = cell.kept_repeats
    wanted = repeat(decode_timeline(20.0), timeline(role="warmup", cold=True))
    assert all(same(a, b) for a, b in zip(first.repeat.timelines, wanted.timelines, strict=True))
    assert first.repeat.launch == wanted.launch and first.repeat.machine == wanted.machine
    assert first.repeat.trace is not None and wanted.trace is not None
    assert first.repeat.trace.resident_bytes.tolist() == wanted.trace.resident_bytes.tolist()
    failed = results.cells[1]
    assert failed.state == "skipped" and failed.kept.failure == Failure("launch", "no memory", "alloc failed")
    value = cell.value("decode")
    assert isinstance(value, Value) and value.value == pytest.approx(20.0) and cell.kept.engine == {"engine": "x"}


def test_a_summary_survives_being_kept() -> None:
    """Values, reasons, series, cautions: all of it."""
    plan = study()
    kept = [KeptRepeat("measured", r) for r in repeats_at(10.0, 20.0, 11.0)]
    summary = cell_kept(plan, plan.cells[0], FACTS, kept).summary
    assert isinstance(summary, CellSummary) and decode_summary(encode_summary(summary)) == summary


def test_a_summary_of_other_definitions_is_made_anew(tmp_path: Path, store: KettleStore) -> None:
    """Also one that is missing, or was overtaken by a kill: from the requests, and then kept."""
    run = begin(store)
    measure(store, run, 0)
    for damage in (
        "UPDATE summaries SET definitions = 0, body = x'00'",
        "DELETE FROM summaries",
        "UPDATE summaries SET done = 7",
    ):
        with sqlite3.connect(tmp_path / "s.db") as db:
            db.execute(damage)
        value = open_run(store, run).cells[0].value("decode")
        assert isinstance(value, Value) and value.value == pytest.approx(20.0)
        with sqlite3.connect(tmp_path / "s.db") as db:
            assert db.execute("SELECT definitions, done FROM summaries").fetchone() == (CATALOGUE, 1)


def test_what_was_received_is_there_without_a_close(tmp_path: Path, store: KettleStore) -> None:
    """As after SIGKILL: a second reader of the file sees each request at once."""
    run, cell = begin(store), study().cells[0]
    rid = store.begin_repeat(run, cell, 0, concurrency=1)
    for i in range(3):
        store.add_timeline(rid, timeline(request_id=f"r{i}"))
        other = KettleStore(tmp_path / "s.db")
        assert len(other.repeats(run, cell.key)[0].repeat.timelines) == i + 1
        other.close()


def test_resume_takes_up_the_unfinished_run_and_a_finished_one_gets_another_beside_it(store: KettleStore) -> None:
    """Same plan: the same run, finished repeats known, an open one broken off and kept; then run 2 of the study."""
    run, cells = begin(store), study().cells
    measure(store, run, 2)
    torn = store.begin_repeat(run, cells[4], 0, concurrency=1)
    store.add_timeline(torn, timeline())
    assert begin(store) == run
    assert {key: tally.blocks for key, tally in store.done(run, "decode").items()} == {cells[2].key: frozenset({0})}
    assert store.done(run, "decode")[cells[2].key].values == pytest.approx((20.0,))
    (left,) = store.repeats(run, cells[4].key)
    assert left.state == "broken-off" and len(left.repeat.timelines) == 1
    store.set_state(run, "measured")
    second = begin(store)
    assert second > run, "ids are in the order of their making"
    (row,) = shelf(store)
    assert [(r.number, r.state) for r in row.runs] == [(2, "running"), (1, "measured")]


def test_more_to_measure_opens_the_newest_measured_run_again(store: KettleStore) -> None:
    """Further repeats of a measured run are taken up with it; a mark changes nothing; an older run stays as it is."""
    older = begin(store)
    store.set_state(older, "measured")
    newest = begin(store)
    store.set_state(newest, "measured")
    levels = dict(study().cells[0].levels)
    for run in (older, newest):
        store.decide(run, Mark(1.0, levels, request="r", mark="fine"))
        assert open_run(store, run).run.state == "measured"
        store.decide(run, More(2.0, levels, count=2))
    assert [open_run(store, run).run.state for run in (older, newest)] == ["measured", "stopped"]
    assert begin(store) == newest


def test_fresh_leaves_the_unfinished_run_as_it_is(store: KettleStore) -> None:
    """It is kept, and the next start takes up the newest."""
    first = begin(store)
    store.set_state(first, "stopped")
    second = begin(store, fresh=True)
    store.set_state(second, "stopped")
    assert second != first and begin(store) == second and len(shelf(store)[0].runs) == 2


def test_a_lease_is_held_by_its_heartbeat(tmp_path: Path, store: KettleStore) -> None:
    """Another tool is kept off until the holder has been silent for the lease, or is certainly gone; it then loses."""
    run = begin(store, wall_s=1000.0)
    store.beat(run, wall_s=1010.0)
    other = KettleStore(tmp_path / "s.db")
    with pytest.raises(RunHeldError, match="another Zinc Kettle") as caught:
        begin(other, wall_s=1010.0 + LEASE_S - 1)
    assert caught.value.heartbeat_s == 1010.0
    # Long after 1010 s, only the holder itself believes that it runs still.
    assert [shelf(each)[0].runs[0].state for each in (store, other)] == ["running", "stopped"]
    gone = KettleStore(tmp_path / "s.db", is_gone=lambda holder: holder == store.holder)
    assert begin(gone, wall_s=1011.0) == run
    with pytest.raises(StoreError, match="taken over"):
        store.beat(run, wall_s=1012.0)
    store.set_state(run, "stopped")
    with pytest.raises(RunHeldError):
        begin(other, wall_s=1012.0)
    assert begin(other, wall_s=1011.0 + LEASE_S) == run, "the lease has run out"
    other.set_state(run, "stopped")
    assert begin(store, wall_s=1012.0) == run, "let go of, it is free at once"
    for made in (other, gone):
        made.close()


def test_hundreds_of_requests_become_blocks(tmp_path: Path, store: KettleStore) -> None:
    """The journal empties into blocks, nothing is lost, the order stays, and one cell is read alone."""
    run, (cell, other, *_) = begin(store), study().cells
    rid = store.begin_repeat(run, cell, 0, concurrency=1)
    count = BLOCK_REQUESTS + 5
    for i in range(count):
        store.add_timeline(rid, timeline(request_id=f"r{i}"))
    alone = store.begin_repeat(run, other, 0, concurrency=1)
    store.add_timeline(alone, timeline(request_id="other"))
    store.end_repeat(rid, repeat())
    with sqlite3.connect(tmp_path / "s.db") as db:
        assert db.execute("SELECT count(*) FROM journal").fetchone() == (0,)
        assert db.execute("SELECT sum(requests) FROM blocks").fetchone() == (count + 1,)
    kept = store.repeats(run, cell.key)[0].repeat.timelines
    assert [t.request_id for t in kept] == [f"r{i}" for i in range(count)]
    assert [t.request_id for t in store.repeats(run, other.key)[0].repeat.timelines] == ["other"]
    assert {len(r[0].repeat.timelines) for r in store.all_repeats(run).values()} == {count, 1}


def test_readers_that_fail_disturb_no_writer(store: KettleStore) -> None:
    """Threads read, and give up at random in the middle, while a run writes: every request that was kept is there."""
    run, cell = begin(store), study().cells[0]
    stop, trouble = threading.Event(), list[BaseException]()

    def read(seed: int) -> None:
        rng = random.Random(seed)
        while not stop.is_set():
            try:
                with store.reading() as db:
                    db.exec_driver_sql("SELECT count(*) FROM journal").scalar()
                    if rng.random() < 0.5:
                        raise KeyError("a reader that gives up")
                    db.exec_driver_sql("SELECT count(*) FROM repeats").scalar()
            except KeyError:
                pass
            except StoreError as error:
                trouble.append(error)
                return

    readers = [threading.Thread(target=read, args=(seed,)) for seed in range(3)]
    for reader in readers:
        reader.start()
    try:
        for block in range(25):
            rid = store.begin_repeat(run, cell, block, concurrency=1)
            for i in range(6):
                store.add_timeline(rid, timeline(request_id=f"{block}-{i}"))
            # A write that is given up must not be kept by a reader's end either.
            with pytest.raises(KeyError), store.writing() as db:
                db.exec_driver_sql("INSERT INTO notes (run, text, created_s) VALUES ('x', 'never', 0)")
                raise KeyError("given up")
            store.end_repeat(rid, repeat(block=block))
    finally:
        stop.set()
        for reader in readers:
            reader.join()
    assert not trouble
    kept = [t.request_id for r in store.repeats(run, cell.key) for t in r.repeat.timelines]
    assert kept == [f"{block}-{i}" for block in range(25) for i in range(6)]
    with store.reading() as db:
        assert db.exec_driver_sql("SELECT count(*) FROM notes").scalar() == 0


def test_the_file_is_private(tmp_path: Path, store: KettleStore) -> None:
    """Prompts and answers are nobody else's."""
    assert stat.S_IMODE(store.path.stat().st_mode) == 0o600


def test_finding_by_name_run_and_id(store: KettleStore) -> None:
    """A name finds the newest run, NAME:NUMBER that one; a wrong one says what there is."""
    first = begin(store)
    store.set_state(first, "measured")
    second = begin(store)
    assert find(store, "night-log") == second == find(store, "night-log:2") == find(store, second)
    assert find(store, "night-log:1") == first == find(store, first)
    assert find(store, shelf(store)[0].study_id) == second
    with pytest.raises(UsageError, match="one of its runs: 1, 2"):
        find(store, "night-log:3")
    with pytest.raises(UsageError, match="night-log"):
        find(store, "day-log")
    with pytest.raises(UsageError):
        open_run(store, "nothing")


def test_earlier_runs_are_those_of_the_study_that_are_done(tmp_path: Path, store: KettleStore) -> None:
    """Newest first, as many as are asked for: neither the run itself, nor what was thrown away or is being measured,
    nor another study's; a side of a comparison comes with them."""
    runs = []
    for number in range(5):
        runs.append(begin(store, fresh=True))
        measure(store, runs[-1], 0)
        store.set_state(runs[-1], "running" if number == 4 else "measured")
    store.remove(runs[1], wall_s=2000.0)
    begin(store, dataclasses.replace(study(), name="another"), fresh=True)
    found = other_runs(store, runs[2], 9)
    assert found == [runs[3], runs[0]] and other_runs(store, runs[2], 1) == [runs[3]]
    side = Sides(Places(tmp_path, tmp_path / "s.db"), lambda: store).side(f"{study().name}:3")
    assert [results.run.run_id for results in side.earlier] == found


def test_what_is_no_store_is_refused(tmp_path: Path, store: KettleStore) -> None:
    """Another file, a folder, and a store of a later version."""
    (tmp_path / "x.db").write_text("a letter, not a database" * 100)
    for path in (tmp_path / "x.db", tmp_path):
        with pytest.raises(StoreError):
            KettleStore(path)
    with sqlite3.connect(store.path) as db:
        db.execute("UPDATE meta SET value = '99' WHERE key = 'schema'")
    with pytest.raises(StoreError, match="version 99"):
        KettleStore(store.path)


def test_a_write_that_fails_says_so(tmp_path: Path, store: KettleStore) -> None:
    """A measurement that cannot be kept must stop the run."""
    rid = store.begin_repeat(begin(store), study().cells[0], 0, concurrency=1)
    with sqlite3.connect(tmp_path / "s.db") as db:
        db.execute("DROP TABLE journal")
    with pytest.raises(StoreError, match="could not be read or written"):
        store.add_timeline(rid, timeline())


def test_the_shelf_keeps_its_answer(store: KettleStore) -> None:
    """Found once, kept with who said it, replaced when it is found again."""
    run = begin(store)
    assert shelf(store)[0].runs[0].answer is None
    for said in ("Q4_0 is fastest", "Q8_0 is fastest"):
        store.keep_answer(run, said, by="1.2")
        (row,) = shelf(store)[0].runs
        assert (row.answer, row.answer_by) == (said, "1.2")


def test_kept_plans_are_typed() -> None:
    """A plan is itself again; an unknown field, a wrong type, or no JSON is a sentence, and nothing is dropped."""
    plan = study(repeats=Repeats(count=6, until_percent=2.0, ceiling=9))
    assert study_of(plan_text(plan)) == plan and plan_key(plan) == plan_key(study_of(plan_text(plan)))
    newer = json.loads(plan_text(plan))
    newer["repeats"]["patience"] = 3
    with pytest.raises(StoreError, match=r"'repeats\.patience'.*newer Zinc Kettle"):
        study_of(json.dumps(newer))
    for bad in ("{", json.dumps({**json.loads(plan_text(plan)), "seed": "one"}), "[" * 5_000):
        with pytest.raises(StoreError, match="cannot be read"):
            study_of(bad)
    older = json.loads(plan_text(plan))
    del older["retry"]
    assert plan_key(study_of(json.dumps(older))) == plan_key(plan), "what has its default changes no key"


def test_a_plan_from_before_recipes_keeps_its_settings() -> None:
    """It had the built-in engine as it was then; and what recipes declare today makes no other study of it."""
    plan = study()
    older = {k: v for k, v in json.loads(plan_text(plan)).items() if k not in {"engines", "rig_engines"}}
    found = study_of(json.dumps(older))
    assert [c.settings["batch"] for c in found.cells] == [2048] * 6 and found.cells[0].level("context") == 256
    assert [c.key for c in found.cells] == [c.key for c in plan.cells] and plan_key(found) == plan_key(plan)
    assert {s.name for s in found.engines[0].settings} < {s.name for s in plan.engines[0].settings}


def test_a_store_of_version_1_opens_with_the_same_figures(tmp_path: Path) -> None:
    """The demo's, as it was kept: one study with one run; its decode speeds, read from the old file by other means."""
    path = tmp_path / "old.db"
    shutil.copyfile(VERSION_1, path)
    with sqlite3.connect(path) as db:
        rows = db.execute("SELECT id, cell, block FROM repeats WHERE state = 'measured' ORDER BY seq").fetchall()
        (former, state) = db.execute("SELECT id, state FROM studies").fetchone()
        wanted: dict[str, tuple[int, float]] = {}
        timelines = [
            pair for (body,) in db.execute("SELECT body FROM blocks ORDER BY id") for pair in decode_block(body)
        ]
    for repeat_id, cell, _ in rows:
        mine = [t for r, t in timelines if r == repeat_id and t.role == "measured" and t.usable]
        tokens = sum(int(t.chunk_tokens[1:].sum()) for t in mine)
        span = sum(int(t.stamps[-1] - t.stamps[0]) for t in mine)
        wanted[repeat_id] = cell, tokens * 1e9 / span
    store = KettleStore(path)
    (row,) = shelf(store)
    assert [run.state for run in row.runs] == [state]
    run = find(store, former)
    results = open_run(store, run)
    assert results.done_repeats == len(rows) == results.wanted_repeats and len(wanted) == len(rows)
    for place, cell in enumerate(results.cells):
        speeds = [speed for at, speed in wanted.values() if at == place]
        assert cell.series("decode") == pytest.approx(speeds)
        value = cell.value("decode")
        assert isinstance(value, Value) and value.value == pytest.approx(float(np.median(speeds)))
        assert {r.repeat.repeat_id for r in cell.kept_repeats} <= set(wanted)
    store.close()
    again = KettleStore(path)
    assert open_run(again, run).cells[0].series("decode") == results.cells[0].series("decode")
    assert begin(again, results.study) != run, "measured again, it gets a second run"
    assert [r.number for r in shelf(again)[0].runs] == [2, 1]


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


def test_runs_decide_what_their_plan_says_now(tmp_path: Path) -> None:
    """What is to be decided is no part of the plan's key: a run is asked anew, and its old answer is gone."""
    plan = study()
    with closing(KettleStore(tmp_path / "s.db")) as store:
        run = store.begin(plan, source="before", facts={}, wall_s=1.0)
        store.keep_answer(run, "Q8_0", by="1")
        assert not store.ask(plan, source="before") and not store.ask(study({"threads": (1, 2)}), source="other")
        asked = dataclasses.replace(plan, decide=Decide(baseline={"threads": 1}))
        assert plan_key(asked) == plan_key(plan) and store.ask(asked, source="after")
        [row] = shelf(store)
        assert row.runs[0].answer is None and open_run(store, run).study.decide.baseline == {"threads": 1}
        store.begin(plan, source="again", facts={}, wall_s=2.0)
        assert not open_run(store, run).study.decide.baseline
