"""Bundles: what goes through one unchanged, what stays behind, and what is refused before it is believed."""

from __future__ import annotations

import json
import os
import resource
import struct
import subprocess
import sys
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
import sqlalchemy as sa

from tests.build import timeline
from tests.bundling import Parts, built, parts_of
from zinc_kettle.app.apart import OUT_OF_TIME
from zinc_kettle.app.imported_stores import Elsewhere
from zinc_kettle.app.packing import pack
from zinc_kettle.app.unpacking import unpack
from zinc_kettle.config import DEMO_FILES, SAMPLE_STORE, Places
from zinc_kettle.core.plan.study import workload
from zinc_kettle.errors import BundleError, UsageError
from zinc_kettle.formats.bundle.archive import LIST
from zinc_kettle.formats.bundle.rows import RequestWriter, Row, read_requests
from zinc_kettle.present.json import cell_json
from zinc_kettle.store import schema as s
from zinc_kettle.store.reading import find, open_run
from zinc_kettle.store.sqlite import copy_database
from zinc_kettle.store.store import KettleStore

RUN = "runs/1"


@pytest.fixture(scope="module")
def sample(tmp_path_factory: pytest.TempPathFactory) -> KettleStore:
    """The finished examples, in a store of our own."""
    path = tmp_path_factory.mktemp("sample") / "kettle.db"
    copy_database(DEMO_FILES / SAMPLE_STORE, path)
    return KettleStore(path)


@pytest.fixture(scope="module")
def packed(sample: KettleStore, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """One of them in a bundle."""
    out = tmp_path_factory.mktemp("packed") / "night.kettle"
    pack(sample, [find(sample, "night-log-desk")], out)
    return out


def figures(results: Any) -> list[str]:
    """All that is told of a run, cell by cell."""
    return [json.dumps(cell_json(results, cell)) for cell in results.cells]


@pytest.mark.parametrize("study", ["night-log-desk", "how-many-desks", "deep-context"])
def test_figures_are_equal_on_the_other_side(sample: KettleStore, tmp_path: Path, study: str) -> None:
    """Every measure with its bounds, cautions, marks, decisions and the answers themselves; and packed again, the same
    bytes but for the moment it was made."""
    mine = open_run(sample, find(sample, study))
    pack(sample, [mine.run.run_id], tmp_path / "a.kettle")
    there = unpack(tmp_path / "a.kettle", tmp_path / "others" / "a")
    assert there.runs == (f"{study}:1",)
    home = Places(home=tmp_path, store=tmp_path / "own.db")
    its = Elsewhere(home).open_run("a", study)
    assert figures(its) == figures(mine) and its.run.decisions == mine.run.decisions and its.run.origin == "a"
    assert its.run.notes == mine.run.notes and its.study.question == mine.study.question
    texts = [[t.text for r in c.read_repeats() for t in r.repeat.timelines] for c in (mine.cells[0], its.cells[0])]
    assert texts[0] == texts[1] and any(texts[0])
    again = KettleStore(there.folder / "kettle.db")
    pack(again, [find(again, study)], tmp_path / "b.kettle")
    first, second = parts_of(tmp_path / "a.kettle"), parts_of(tmp_path / "b.kettle")
    assert {n for n in first if first[n] != second.get(n)} == {LIST} and first.keys() == second.keys()


def test_what_was_left_out_is_not_there_and_still_known_to_be_the_same(sample: KettleStore, tmp_path: Path) -> None:
    """Without prompts and answers neither is in the file, and the cells still pair with those that have them."""
    run = find(sample, "night-log-desk")
    pack(sample, [run], tmp_path / "a.kettle", without=("prompts", "answers"))
    whole = b"".join(parts_of(tmp_path / "a.kettle").values())
    mine = open_run(sample, run)
    prompt, answers = mine.study.prompts.texts[0], [t.text for t in mine.cells[0].repeats[0].timelines]
    assert prompt[:40].encode() not in whole and not any(a[:30].encode() in whole for a in answers if len(a) > 30)
    found = unpack(tmp_path / "a.kettle", tmp_path / "others" / "a")
    assert found.left_out == ("answers", "prompts")
    its = Elsewhere(Places(tmp_path, tmp_path / "own.db")).open_run("a", "night-log-desk")
    assert [workload(its.study, c.cell) for c in its.cells] == [workload(mine.study, c.cell) for c in mine.cells]


def test_hosts_paths_and_keys_stay_here(sample: KettleStore, tmp_path: Path) -> None:
    """A run whose facts, launch lines, failures, notes and study file are full of them: none is in the bundle, and
    two models of one file name in two folders stay two."""
    path = tmp_path / "mine.db"
    copy_database(sample.path, path)
    store = KettleStore(path)
    run = find(store, "night-log-desk")
    secrets = ("quay-host", "/srv/harbour", "10.20.30.40", "hunter2hunter2", "jetty-person")
    line = "serve --model /srv/harbour/night/x.gguf --bind 10.20.30.40:9 --api-key=hunter2hunter2 on quay-host"
    with store.writing() as db:
        facts = json.loads(db.execute(sa.select(s.runs.c.facts).where(s.runs.c.id == run)).scalar_one())
        busy = {"cores": 1.0, "top": [["jetty-person-tool", 1.0]]}
        told = {**facts, "address": "quay-host", "busy": busy}
        db.execute(s.runs.update().where(s.runs.c.id == run).values(facts=json.dumps(told)))
        own = json.dumps({"engine": "e", "launch_line": line, "reached": "http://10.20.30.40:9"})
        db.execute(s.repeats.update().where(s.repeats.c.run == run).values(facts=own))
        study = db.execute(sa.select(s.runs.c.study).where(s.runs.c.id == run)).scalar_one()
        source = db.execute(sa.select(s.studies.c.source).where(s.studies.c.id == study)).scalar_one()
        more = f'# {line}\n{source}\n[endpoint]\nurl = "http://10.20.30.40/v1"\nkey_file = "/srv/harbour/key"\n'
        db.execute(s.studies.update().where(s.studies.c.id == study).values(source=more))
    store.add_note(run, None, f"jetty-person ran {line}", wall_s=1.0)
    pack(store, [run], tmp_path / "a.kettle", words=("quay-host", "jetty-person"))
    whole = b"".join(parts_of(tmp_path / "a.kettle").values()).decode("utf-8", "replace")
    assert not [word for word in secrets if word in whole]
    assert "…/x.gguf" in whole
    assert unpack(tmp_path / "a.kettle", tmp_path / "b").runs


def test_a_damaged_part_is_named(packed: Path, tmp_path: Path) -> None:
    """One byte of a part, in an archive whose own checksum was made to fit: the list knows better."""
    parts = parts_of(packed)
    out = tmp_path / "x.kettle"
    with zipfile.ZipFile(out, "w") as archive:
        for name, data in parts.items():
            spoilt = bytearray(data)
            if name in {f"{RUN}/requests.parquet", f"{RUN}/facts.json"}:
                spoilt[len(spoilt) // 2] ^= 1
            archive.writestr(name, bytes(spoilt))
    with pytest.raises(UsageError) as caught:
        unpack(out, tmp_path / "to")
    assert f"{RUN}/requests.parquet" in str(caught.value) and f"{RUN}/facts.json" in str(caught.value)
    assert not (tmp_path / "to").exists() and not list(tmp_path.glob(".unpacking*"))


# hostile on purpose
def _named(name: str) -> Callable[[Parts, Path], object]:
    def make(parts: Parts, path: Path) -> None:
        built({**parts, name: b"x"}, path)

    return make


def _linked(parts: Parts, path: Path) -> None:
    built(parts, path)
    info = zipfile.ZipInfo(f"{RUN}/prompts/text-9.txt")
    info.external_attr = 0o120777 << 16
    with zipfile.ZipFile(path, "a") as archive:
        archive.writestr(info, "/etc/passwd")


def _twice(parts: Parts, path: Path) -> None:
    built(parts, path)
    with zipfile.ZipFile(path, "a") as archive, pytest.warns(UserWarning, match="Duplicate"):
        archive.writestr(f"{RUN}/facts.json", "{}")


def _bomb(parts: Parts, path: Path) -> None:
    built({**parts, f"{RUN}/notes.jsonl": b" " * (48 << 20)}, path)


def _lying_size(parts: Parts, path: Path) -> None:
    """The archive's directory says a part is a gigabyte."""
    built(parts, path)
    data = bytearray(path.read_bytes())
    at = data.rfind(b"PK\x01\x02")
    data[at + 24 : at + 28] = struct.pack("<I", 1 << 30)
    path.write_bytes(data)


def _parquet_bomb(parts: Parts, path: Path) -> None:
    """One request with forty million stamps, all alike: a few kilobytes."""
    import pyarrow as pa
    from pyarrow import parquet

    from zinc_kettle.formats.bundle.rows import request_schema

    schema, columns = request_schema(), []
    for field in schema:
        many = pa.array([[7] * 8_000_000], type=field.type) if pa.types.is_list(field.type) else None
        plain = {pa.string(): "measured", pa.bool_(): True}.get(field.type, 1)
        columns.append(many if many is not None else pa.array([plain], type=field.type))
    file = path.with_suffix(".parquet")
    parquet.write_table(pa.Table.from_arrays(columns, schema=schema), file, compression="zstd")
    built({**parts, f"{RUN}/requests.parquet": file.read_bytes()}, path)


def _part(name: str, change: Callable[[Any], Any]) -> Callable[[Parts, Path], object]:
    def make(parts: Parts, path: Path) -> None:
        plain = json.loads(parts[f"{RUN}/{name}"])
        built({**parts, f"{RUN}/{name}": json.dumps(change(plain)).encode()}, path)

    return make


def _plan(**changes: Any) -> Callable[[Parts, Path], object]:
    return _part("plan.json", lambda plan: {**plan, **changes})


def _without(name: str) -> Callable[[Parts, Path], object]:
    return lambda parts, out: built({n: d for n, d in parts.items() if n != f"{RUN}/{name}"}, out)


def _with(name: str, data: bytes) -> Callable[[Parts, Path], object]:
    return lambda parts, out: built({**parts, f"{RUN}/{name}": data}, out)


HOSTILE: dict[str, tuple[Callable[[Parts, Path], object], str]] = {
    "climbs out": (_named("../../evil.toml"), "belongs to no bundle"),
    "absolute": (_named("/tmp/evil"), "belongs to no bundle"),
    "backslash": (_named("runs\\1\\..\\evil"), "belongs to no bundle"),
    "python": (_named(f"{RUN}/evil.py"), "belongs to no bundle"),
    "terminal controls in a name": (_named("runs/1/prompts/\x1b[2J.txt"), "belongs to no bundle"),
    "a link": (_linked, "is not a file"),
    "a name twice": (_twice, "two parts of one name"),
    "a bomb": (_bomb, "times its size"),
    "a size that lies": (_lying_size, ""),
    "a bomb of stamps": (_parquet_bomb, "too large"),
    "a part too few": (_without("repeats.jsonl"), "a request for an unknown repeat"),
    "nothing": (lambda _p, out: out.write_bytes(b""), "not a bundle"),
    "some other archive": (lambda _p, out: zipfile.ZipFile(out, "w").close(), "has no bundle.toml"),
    "a later version": (lambda p, out: built(p, out, version=9), "newer Zinc Kettle"),
    "a billion cells": (
        _plan(vary={"threads": list(range(1, 1001)), "context": list(range(16, 1016)), "batch": list(range(1, 1001))}),
        "cannot be measured",
    ),
    "a billion repeats": (_plan(repeats={"count": 1_000_000_000}), "too many repeats"),
    "deep": (_with("facts.json", b"[" * 90_000 + b"]" * 90_000), "facts.json"),
    "levels of another kind": (_plan(vary={"threads": ["many"]}, hold={"model": "x"}), "cannot be measured"),
    "no number": (_part("facts.json", lambda f: {**f, "memory_bytes": float("inf")}), "facts.json"),
}


@pytest.mark.parametrize("case", HOSTILE)
def test_hostile_bundles_are_refused(packed: Path, tmp_path: Path, case: str) -> None:
    """Each in its own way, within a second of work, and nothing of it is left anywhere."""
    make, said = HOSTILE[case]
    path = tmp_path / "evil.kettle"
    make(parts_of(packed), path)
    before = {p for p in tmp_path.rglob("*")}
    spent = _children_s()
    with pytest.raises(UsageError) as caught:
        unpack(path, tmp_path / "to")
    assert said in str(caught.value) and caught.value.exit_code == 2
    assert _children_s() - spent < 5 and {p for p in tmp_path.rglob("*")} == before


def _children_s() -> float:
    used = resource.getrusage(resource.RUSAGE_CHILDREN)
    return used.ru_utime + used.ru_stime


def test_columns_that_earlier_versions_had_not_may_be_missing(tmp_path: Path) -> None:
    """A file without one that came later is read with its default; without one that every request has it is not."""
    from pyarrow import parquet

    file, sent = tmp_path / "requests.parquet", timeline(odd="a count of -1", turn=4)
    writer = RequestWriter(file)
    writer.add(Row(0, sent))
    writer.close()
    table = parquet.read_table(file)
    parquet.write_table(table.drop_columns(["odd", "turn"]), file)
    ((row,),) = read_requests(file, "requests.parquet")
    assert (row.timeline.odd, row.timeline.turn) == ("", 0) and row.timeline.sent_ns == sent.sent_ns
    parquet.write_table(table.drop_columns(["sent_ns"]), file)
    with pytest.raises(BundleError):
        list(read_requests(file, "requests.parquet"))


def test_reading_ends_by_its_own_time_and_not_by_that_of_others() -> None:
    """A process that has used up its processor time is told from one that was refused, or fell."""
    burn = "from zinc_kettle.app.apart_process import bound_time\nbound_time(0.01)\nwhile True: pass"
    ran = subprocess.run([sys.executable, "-c", burn], capture_output=True, timeout=600, check=False)
    assert ran.returncode == OUT_OF_TIME


FUZZ = """
import json, sys, tempfile, time
from pathlib import Path
from tests.mutants import spoilt_bundle
from zinc_kettle.errors import KettleError
from zinc_kettle.app.apart_process import bound_memory
from zinc_kettle.app.unpacking import into_store
base, first, last = Path(sys.argv[1]), int(sys.argv[2]), int(sys.argv[3])
longest, wrong, taken = 0.0, [], 0
bound_memory(base.stat().st_size)
for seed in range(first, last):
    with tempfile.TemporaryDirectory() as folder:
        path = spoilt_bundle(base, seed, Path(folder) / "x.kettle")
        start = time.process_time()
        try:
            into_store(path, Path(folder))
            taken += 1
        except (KettleError, MemoryError):
            longest = max(longest, time.process_time() - start)
        except BaseException as error:
            wrong.append([seed, repr(error)[:200]])
peak = next(int(s.split()[1]) for s in Path("/proc/self/status").read_text().splitlines() if s.startswith("VmHWM"))
print(json.dumps([longest, peak >> 10, wrong, taken]))
"""


@pytest.fixture(scope="module")
def small(sample: KettleStore, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A bundle of two blocks, with some of everything in it."""
    folder = tmp_path_factory.mktemp("small")
    copy_database(sample.path, folder / "kettle.db")
    store = KettleStore(folder / "kettle.db")
    run = find(store, "deep-context")
    with store.writing() as db:
        db.execute(s.repeats.delete().where(s.repeats.c.run == run, s.repeats.c.block > 1))
    store.add_note(run, None, "the desk by the window", wall_s=1.0)
    pack(store, [run], folder / "small.kettle")
    return folder / "small.kettle"


def test_spoilt_bundles_end_in_a_sentence(small: Path) -> None:
    """Whatever is spoilt, refusing it takes less than two seconds of work, and all of them less than 200 MB; what is
    taken all the same had nothing wrong that anybody could know of."""
    ran = subprocess.run(
        [sys.executable, "-c", FUZZ, str(small), "0", "200"],
        capture_output=True,
        text=True,
        timeout=900,
        check=True,
        env={**os.environ, "PYTHONPATH": os.getcwd()},
    )
    longest, peak_mb, wrong, taken = json.loads(ran.stdout)
    assert not wrong and taken < 60
    assert longest < 2.0 and peak_mb < 200
