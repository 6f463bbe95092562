"""What comes from elsewhere and means harm: it changes nothing but a folder of its own, and ends in a sentence."""

from __future__ import annotations

import hashlib
import json
import os
import sqlite3
import zlib
from collections.abc import Callable
from pathlib import Path

import msgspec
import pytest

from tests.bundling import Parts, built, parts_of
from zinc_kettle.app.build import open_store
from zinc_kettle.app.imported_stores import Elsewhere
from zinc_kettle.app.ownership import adopt
from zinc_kettle.app.packing import pack
from zinc_kettle.app.services import Services
from zinc_kettle.app.store_import import import_store
from zinc_kettle.app.unpacking import into_store, unpack
from zinc_kettle.app.views import Checked
from zinc_kettle.config import DEMO_FILES, SAMPLE_STORE, Places
from zinc_kettle.errors import KettleError, UsageError
from zinc_kettle.formats.shared_study import NO_ADDRESS
from zinc_kettle.formats.toml import parse_toml
from zinc_kettle.store.reading import find, open_run, shelf
from zinc_kettle.store.sqlite import copy_database
from zinc_kettle.store.store import KettleStore, delete_run

RUN = "runs/1"
OWN = "mine"


@pytest.fixture(scope="module")
def packed(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A bundle of a finished example."""
    folder = tmp_path_factory.mktemp("packed")
    copy_database(DEMO_FILES / SAMPLE_STORE, folder / "kettle.db")
    store = KettleStore(folder / "kettle.db")
    pack(store, [find(store, "night-log-desk")], folder / "night.kettle")
    return folder / "night.kettle"


@pytest.fixture
def home(tmp_path: Path) -> Path:
    """A data folder with something in every place a stranger might want to write to."""
    folder = tmp_path / "home"
    for name in (f"studies/{OWN}.study.toml", "recipes/own.toml", "rigs.toml", "reports/r.report.toml", "keys/office"):
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_text(f"# {name}\n")
    return folder


def contents(folder: Path) -> dict[str, str]:
    """Every file and folder with its checksum, modes included."""
    out = {}
    for path in folder.rglob("*"):
        known = path.lstat()
        digest = hashlib.sha256(path.read_bytes()).hexdigest() if path.is_file() and not path.is_symlink() else ""
        out[str(path.relative_to(folder))] = f"{known.st_mode:o} {digest}"
    return out


def with_plan(packed: Path, to: Path, change: Callable[[dict[str, object]], None], **parts: bytes) -> Path:
    """The bundle with another plan, behind true checksums."""
    everything: Parts = parts_of(packed)
    plan = json.loads(everything[f"{RUN}/plan.json"])
    change(plan)
    more = {f"{RUN}/{name.replace('_', '.')}": data for name, data in parts.items()}
    return built({**everything, f"{RUN}/plan.json": json.dumps(plan).encode(), **more}, to)


HOSTILE_NAMES = (
    "../../studies/mine",
    "/tmp/zinc-kettle-escaped",
    "..",
    ".",
    "a/b",
    "a\\b",
    "a\nb",
    "",
    "mine\x00",
    "MINE",
    "x" * 200,
    "~root",
    "-o",
    "con:",
    "é",
)


@pytest.mark.parametrize("name", HOSTILE_NAMES)
def test_the_name_of_a_strangers_study_is_never_a_path(packed: Path, home: Path, tmp_path: Path, name: str) -> None:
    """Refused; nothing in the data folder or beside it is different afterwards."""
    evil = with_plan(packed, tmp_path / "evil.kettle", lambda plan: plan.update(name=name))
    (tmp_path / "work").mkdir()
    before = contents(tmp_path)
    with pytest.raises(UsageError) as caught:
        into_store(evil, tmp_path / "work")
    assert caught.value.code == "bundle-plan"
    assert contents(tmp_path) == before and not Path("/tmp/zinc-kettle-escaped").exists()


def test_a_refused_bundle_leaves_nothing_whichever_way_it_is_named(packed: Path, home: Path, tmp_path: Path) -> None:
    """Unpacked, or as a side of a comparison, which a gate does as well."""
    evil = with_plan(packed, tmp_path / "evil.kettle", lambda plan: plan.update(name="../../studies/mine"))
    (home / "others").mkdir()
    before = contents(tmp_path)
    with pytest.raises(UsageError):
        unpack(evil, home / "others" / "evil")
    with pytest.raises(UsageError):
        Elsewhere(Places(home, home / "kettle.db")).store(str(evil))
    assert contents(tmp_path) == before


def test_what_is_unpacked_lies_in_one_folder(packed: Path, home: Path, tmp_path: Path) -> None:
    """A store and a note of where it is from; the study of a name one has oneself stays one's own."""
    taken = with_plan(packed, tmp_path / "b.kettle", lambda plan: plan.update(name=OWN), study_toml=b"# theirs")
    before = contents(home)
    unpack(taken, home / "others" / "b")
    after = contents(home)
    assert before.items() <= after.items()
    assert {name for name in after if name not in before} == {
        "others",
        "others/b",
        "others/b/kettle.db",
        "others/b/about.toml",
    }


ENDPOINT = {
    "url": "http://harbour.invalid:9/v1",
    "model": "m",
    "key_variable": "OFFICE_KEY",
    "key_file": "/etc/shadow",
    "ca_file": "/etc/hosts",
}


def on_an_endpoint(plan: dict[str, object]) -> None:
    """A plan for an engine behind an address, as a stranger would have it."""
    plan.update(
        endpoint=ENDPOINT,
        vary={"concurrency": [1]},
        hold={"prompt_tokens": 16},
        repeats={},
        engines=[{"name": "open-protocol", "started": False}],
    )
    plan["prompts"] = {"files": ["/etc/passwd", "../x.txt"], "withheld": {"texts": "abc"}}


def test_a_copy_of_a_strangers_plan_has_no_address_no_key_and_no_path(
    packed: Path, home: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Written from the plan, whatever the text that came along says; the address is to be typed in."""
    theirs = b'endpoint.url = "http://harbour.invalid:9/v1"\nendpoint.key_variable = "OFFICE_KEY"\n'
    rest = {"repeats_jsonl": b"", "decisions_jsonl": b"", "notes_jsonl": b""}
    evil = with_plan(packed, tmp_path / "evil.kettle", on_an_endpoint, study_toml=theirs)
    parts = {n: d for n, d in parts_of(evil).items() if "parquet" not in n}
    parts |= {f"{RUN}/{name.replace('_', '.')}": data for name, data in rest.items()}
    parts[f"{RUN}/requests.parquet"] = _no_requests(tmp_path)
    built(parts, evil)
    unpack(evil, home / "others" / "evil")
    (home / "rigs.toml").unlink()
    (home / "recipes" / "own.toml").unlink()
    services = Services(Places(home, home / "kettle.db"))
    entry = next(entry for entry in services.studies.shelf() if entry.origin == "evil")
    results = services.studies.open(entry)
    plan = services.plans.copy_of(results, entry.file)
    raw = parse_toml(plan.text, file="the copy")
    assert raw["endpoint"] == {"url": NO_ADDRESS, "model": "m"} and plan.origin == "evil"
    assert all(plan.folder / name == plan.folder / Path(name).name for name in raw["prompts"]["files"])
    told = plan.text + results.run.source + json.dumps(msgspec.to_builtins(results.study.endpoint))
    assert not [word for word in ("harbour.invalid", "OFFICE_KEY", "shadow", "/etc") if word in told]
    checked = services.plans.check(plan.text, plan.folder, Checked())
    assert ("endpoint", "url") in [problem.path for problem in checked.problems]


def _no_requests(folder: Path) -> bytes:
    from zinc_kettle.formats.bundle.rows import RequestWriter

    RequestWriter(folder / "none.parquet").close()
    return (folder / "none.parquet").read_bytes()


@pytest.mark.parametrize("at_s", [-1e18, 1e18, 1e12, -1.0])
def test_a_time_that_is_none_is_refused(packed: Path, tmp_path: Path, at_s: float) -> None:
    """In a decision, in a run's head and in the list; no calendar is asked about it."""
    parts = parts_of(packed)
    decision = {"kind": "pause", "at_s": at_s, "levels": {}, "count": 0, "step": None, "text": ""}
    evil = built({**parts, f"{RUN}/decisions.jsonl": json.dumps(decision).encode() + b"\n"}, tmp_path / "a.kettle")
    with pytest.raises(UsageError):
        unpack(evil, tmp_path / "a")
    with pytest.raises(UsageError):
        unpack(built(parts, tmp_path / "b.kettle", made_s=at_s), tmp_path / "b")


# stores
@pytest.fixture(scope="module")
def small(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A store with two of the examples."""
    path = tmp_path_factory.mktemp("small") / "small.db"
    copy_database(DEMO_FILES / SAMPLE_STORE, path)
    store = KettleStore(path)
    with store.writing() as db:
        for study in shelf(store):
            if study.name not in {"night-log-desk", "pasted-log"}:
                for run in study.runs:
                    delete_run(db, run.run_id)
    store.close()
    return path


def spoilt(small: Path, tmp_path: Path, *statements: tuple[str, tuple[object, ...]]) -> Path:
    """A store of somebody else in which something is wrong."""
    path = tmp_path / "theirs.db"
    copy_database(small, path)
    with sqlite3.connect(path) as db:
        for sql, values in statements:
            db.execute(sql, values)
    db.close()
    return path


ENDLESS = "WITH RECURSIVE n(x) AS (SELECT 1 UNION ALL SELECT x + 1 FROM n) SELECT x AS key, x AS value FROM n"
VIEW = f"CREATE VIEW {{}} AS {ENDLESS}"
NOTE = "INSERT INTO notes (run, cell, text, created_s) SELECT id, 'nowhere', 't', 1 FROM runs"
STRANGE_STORES: dict[str, tuple[tuple[str, tuple[object, ...]], ...]] = {
    "a version that is none": (("UPDATE meta SET value = 'abc' WHERE key = 'schema'", ()),),
    "a version of later": (("UPDATE meta SET value = '99' WHERE key = 'schema'", ()),),
    "a time that is none": (("UPDATE runs SET created_s = 1e300", ()),),
    "brackets": (("UPDATE studies SET plan = ?", ("[" * 100_000,)),),
    "a plan of brackets": (("UPDATE studies SET plan = ?", ('{"name":' + "[" * 100_000,)),),
    "blocks of text": (("UPDATE blocks SET body = 'no block'", ()),),
    "blocks of nothing": (("UPDATE blocks SET body = x''", ()),),
    "traces of text": (("UPDATE repeats SET trace = 'no trace'", ()),),
    "traces of another shape": (("UPDATE repeats SET trace = ?", (msgspec.msgpack.encode([zlib.compress(b"abc")]),)),),
    "a note on no cell": ((NOTE, ()),),
    "a view that never ends": (("DROP TABLE meta", ()), (VIEW.format("meta"), ())),
    "a view beside": ((VIEW.format("more"), ()),),
    "a trigger": (("CREATE TRIGGER t AFTER INSERT ON notes BEGIN DELETE FROM runs; END", ()),),
    "a table beside": (("CREATE TABLE more (x)", ()),),
    "numbers of text": (("UPDATE repeats SET block = 'x', concurrency = 'y'", ()),),
    "a cell of no plan": (("UPDATE repeats SET cell = 'nowhere'", ()),),
}


@pytest.mark.parametrize("case", STRANGE_STORES)
def test_a_store_of_somebody_else_goes_through_the_checks_of_bundles(small: Path, tmp_path: Path, case: str) -> None:
    """Whatever is wrong with it ends in a sentence; a note on no cell is the only thing that does no harm."""
    path = spoilt(small, tmp_path, *STRANGE_STORES[case])
    (tmp_path / "work").mkdir()
    if case == "a note on no cell":
        assert len(import_store(path, tmp_path / "work")) == 2
        return
    with pytest.raises(KettleError) as caught:
        import_store(path, tmp_path / "work")
    assert str(caught.value) and "Traceback" not in str(caught.value)


@pytest.mark.parametrize("case", ["a view that never ends", "brackets"])
def test_no_way_of_naming_a_store_leads_round_the_checks(small: Path, tmp_path: Path, case: str) -> None:
    """As a side of a comparison, named for one command, and adopted."""
    path = spoilt(small, tmp_path, *STRANGE_STORES[case])
    here = Places(tmp_path / "home", path, store_is_usual=False)
    for read in (lambda: Elsewhere(here).store(str(path)), lambda: open_store(here), lambda: adopt(here)):
        with pytest.raises(UsageError):
            read()


def test_a_block_that_would_grow_to_gigabytes_is_refused(small: Path, tmp_path: Path) -> None:
    """Two gigabytes of zeros in two megabytes, as the stamps of one request."""
    squeeze = zlib.compressobj(9)
    zeros = b"".join([*(squeeze.compress(bytes(1 << 24)) for _ in range(128)), squeeze.flush()])
    nothing = zlib.compress(b"")
    block = {
        "version": 2,
        "repeats": ["r"],
        "chunks": (1).to_bytes(4, "little"),
        "user": zeros,
        "kernel": nothing,
        "has_kernel": [False],
        "tokens": zeros,
        "rest": zeros,
    }
    path = spoilt(small, tmp_path, ("UPDATE blocks SET body = ?", (msgspec.msgpack.encode(block),)))
    store = KettleStore(path)  # our own reading bounds it, too
    run = shelf(store)[0].runs[0].run_id
    with pytest.raises(Exception, match="damaged"):
        store.all_repeats(run)


def test_a_store_that_was_not_made_here_is_only_read_until_it_is_adopted(small: Path, tmp_path: Path) -> None:
    """One made here is one's own wherever it lies; the file of somebody else is as it was."""
    theirs = spoilt(small, tmp_path, ("UPDATE runs SET answer = 'a lie', answer_by = '9'", ()))
    home, before = tmp_path / "home", theirs.read_bytes()
    here = Places(home, theirs, store_is_usual=False)
    store = open_store(here)
    run = find(store, "night-log-desk")
    plan = open_run(store, run).study
    for write in (
        lambda: store.begin(plan, source="", facts={}, wall_s=1.0),
        lambda: store.add_note(run, None, "mine", wall_s=1.0),
    ):
        with pytest.raises(UsageError) as caught:
            write()
        assert caught.value.code == "borrowed-store"
    assert theirs.read_bytes() == before
    store.close()
    assert adopt(here) == 2
    mine = open_store(here)
    assert mine.path == theirs and not [r for study in shelf(mine) for r in study.runs if r.answer]
    mine.add_note(find(mine, "night-log-desk"), None, "mine", wall_s=1.0)
    made = open_store(Places(home, tmp_path / "made.db", store_is_usual=False))
    made.close()
    again = open_store(Places(home, tmp_path / "made.db", store_is_usual=False))
    assert again.path == tmp_path / "made.db"
    other = Places(tmp_path / "other-home", tmp_path / "made.db", store_is_usual=False)
    assert open_store(other).path != tmp_path / "made.db"


def test_devices_and_pipes_are_not_read(tmp_path: Path) -> None:
    """Of a device that never ends, and of a pipe nobody writes to, not a byte."""
    os.mkfifo(tmp_path / "pipe.kettle")
    for path in (Path("/dev/zero"), tmp_path / "pipe.kettle", tmp_path):
        with pytest.raises(UsageError) as caught:
            unpack(path, tmp_path / "to")
        assert caught.value.code == "no-file"


def test_what_a_killed_reading_left_behind_is_gone_at_the_next_start(packed: Path, tmp_path: Path) -> None:
    """Its folder names a process that has ended; that of one which still reads stays."""
    others = tmp_path / "others"
    dead, alive = others / ".reading-999999999-x", others / f".reading-{os.getppid()}-x"
    for folder in (dead, alive):
        folder.mkdir(parents=True)
    unpack(packed, others / "a")
    assert not dead.exists() and alive.exists()


@pytest.mark.parametrize("study", ["winter-talk", "three-ways"])
def test_the_tools_own_bundles_are_taken(tmp_path: Path, study: str) -> None:
    """Those of suites and of many requests as well: what the libraries need for themselves is not counted."""
    copy_database(DEMO_FILES / SAMPLE_STORE, tmp_path / "kettle.db")
    store = KettleStore(tmp_path / "kettle.db")
    pack(store, [find(store, study)], tmp_path / "own.kettle")
    assert unpack(tmp_path / "own.kettle", tmp_path / "others" / "own").runs == (f"{study}:1",)
