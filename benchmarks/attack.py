"""What the tool does with spoilt files and hostile servers: mutants by the thousand, and the table of docs/faults.md.

    python benchmarks/attack.py [--count 10000] [--only bundles,stores] [--write]

Each mutant is read in a process that has read nothing but mutants; it may be taken where nothing is wrong with it, or
refused with a sentence of ours. Anything else is printed with its seed.
"""

from __future__ import annotations

import argparse
import json
import os
import re
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

from tests.mutants import Make, spoilt_bundle, spoilt_store, text_mutants

from zinc_kettle.config import DEMO_FILES, SAMPLE_STORE
from zinc_kettle.errors import KettleError

ROOT = Path(__file__).parents[1]
SLICE = 500
"""Mutants a process."""
MOST_S, MOST_MB = 2.0, 300
BEGIN, END = "<!-- table of the attack, written by `make bench-attack` -->", "<!-- end of the attack -->"


@dataclass(frozen=True)
class Kind:
    """A kind of file."""

    what: str
    ending: str
    make: Callable[[Path], Make]
    """Given a folder with what mutants are made of."""
    read: Callable[[Path, Path], object]
    """Reads one; a folder of its own is given."""


def _bundles(base: Path) -> Make:
    return lambda seed, to: spoilt_bundle(base / "base.kettle", seed, to)


def _stores(base: Path) -> Make:
    return lambda seed, to: spoilt_store(base / "base.db", seed, to)


def _recipes(_base: Path) -> Make:
    folder = ROOT / "src/zinc_kettle/formats/recipes"
    own = (
        'format = 1\nbased_on = "built-in"\ntitle = "mine"\n[settings.speed]\ntype = "number"\n'
        'meaning = "how fast"\nargument = "--speed"\n'
    )
    return text_mutants({"own": own, **{path.name: path.read_text() for path in sorted(folder.glob("*.toml"))}})


RIGS = """format = 1
[here]
reach = "here"
[here.facts]
bandwidth = { value = 51.2, unit = "GB/s", from = "data sheet" }
price = { value = 900 }
[petrel]
reach = "rehearsal"
[desk]
reach = "url"
url = "http://127.0.0.1:8080"
model = "brine"
key_variable = "OFFICE_KEY"
[tern]
reach = "ssh"
host = "tern"
models = "/srv/models"
engines = { mistralrs = "/srv/python" }
"""
PREFERENCES = """format = 1
[screen]
theme = "light"
[units]
memory = "GiB"
[pace]
tokens_per_s = 9.5
[money]
currency = "EUR"
energy_per_kwh = 0.3
hours_per_day = 8
years = 4
"""
OTHERS = (
    "source,measure,value,unit,low,high,rig,model,threads\nthe board,decode,12.5,tok/s,11,14,heron,kelp-4b,4\n"
    "a sheet,ttft,120,ms,,,heron,kelp-4b,8\nthe board,memory_peak,4.2,GB,,,ibis,kelp-4b,4\n"
)


def _studies(_base: Path) -> Make:
    folders = (ROOT / "examples", DEMO_FILES)
    return text_mutants({p.name: p.read_text() for folder in folders for p in sorted(folder.glob("*.study.toml"))})


def _read_bundle(path: Path, folder: Path) -> object:
    from zinc_kettle.app.unpacking import into_store

    return into_store(path, folder)


def _read_store(path: Path, folder: Path) -> object:
    from zinc_kettle.app.store_import import import_store

    return import_store(path, folder)


def _read_recipe(path: Path, folder: Path) -> object:
    from zinc_kettle.formats.recipe import read_recipes

    path.rename(folder / "mine.toml")
    return read_recipes(folder)


def _read_rigs(path: Path, _folder: Path) -> object:
    from zinc_kettle.formats.rigs import read_rigs

    return read_rigs(path)


def _read_preferences(path: Path, _folder: Path) -> object:
    from zinc_kettle.formats.preferences import read_preferences

    return read_preferences(path)


def _read_others(path: Path, _folder: Path) -> object:
    from zinc_kettle.formats.reported import read_reported

    return read_reported(path)


def _read_study(path: Path, _folder: Path) -> object:
    from zinc_kettle.formats.recipe import shipped
    from zinc_kettle.formats.study import Known, read_study

    return read_study(path, Known({name: recipe.engine for name, recipe in shipped().items()}))


KINDS: dict[str, Kind] = {
    "bundles": Kind("bundles", ".kettle", _bundles, _read_bundle),
    "stores": Kind("stores of somebody else", ".db", _stores, _read_store),
    "studies": Kind("study files", ".study.toml", _studies, _read_study),
    "recipes": Kind("recipes", ".toml", _recipes, _read_recipe),
    "rigs": Kind("rig files", ".toml", lambda _b: text_mutants({"rigs": RIGS}), _read_rigs),
    "preferences": Kind("preferences", ".toml", lambda _b: text_mutants({"p": PREFERENCES}), _read_preferences),
    "others": Kind("others' figures (CSV)", ".csv", lambda _b: text_mutants({"csv": OTHERS}), _read_others),
}


def make_bases(folder: Path) -> None:
    """A bundle and a store of one small run."""
    import sqlalchemy as sa

    from zinc_kettle.app.packing import pack
    from zinc_kettle.store import schema as s
    from zinc_kettle.store.reading import find, shelf
    from zinc_kettle.store.sqlite import copy_database
    from zinc_kettle.store.store import KettleStore, delete_run

    copy_database(DEMO_FILES / SAMPLE_STORE, folder / "whole.db")
    store = KettleStore(folder / "whole.db")
    run = find(store, "deep-context")
    with store.writing() as db:
        for study in shelf(store):
            for other in study.runs:
                if other.run_id != run:
                    delete_run(db, other.run_id)
        db.execute(s.studies.delete().where(~sa.exists().where(s.runs.c.study == s.studies.c.id)))
        db.execute(s.repeats.delete().where(s.repeats.c.run == run, s.repeats.c.block > 1))
    store.add_note(run, None, "the desk by the window", wall_s=1.0)
    pack(store, [run], folder / "base.kettle")
    store.close()
    copy_database(folder / "whole.db", folder / "base.db")
    import sqlite3

    with sqlite3.connect(folder / "base.db") as db_file:
        db_file.execute("VACUUM")


def read_slice(kind: Kind, base: Path, first: int, last: int) -> dict[str, object]:
    """Read mutants; how many were refused and taken, the longest time, the memory, and what went wrong."""
    make, longest, refused, taken, wrong = kind.make(base), 0.0, 0, 0, []
    for seed in range(first, last):
        with tempfile.TemporaryDirectory() as where:
            folder = Path(where) / "own"
            folder.mkdir()
            path = make(seed, Path(where) / f"mutant{kind.ending}")
            start = time.process_time()
            try:
                kind.read(path, folder)
                taken += 1
            except KettleError as error:
                refused += 1
                if not str(error).strip():
                    wrong.append([seed, "no words"])
            except MemoryError:
                refused += 1
            except Exception as error:  # noqa: BLE001 - what is looked for
                wrong.append([seed, repr(error)[:200]])
            longest = max(longest, time.process_time() - start)
    lines = Path("/proc/self/status").read_text().splitlines()
    peak = next(int(line.split()[1]) >> 10 for line in lines if line.startswith("VmHWM"))
    return {"longest": longest, "refused": refused, "taken": taken, "wrong": wrong, "peak": peak}


def attack(name: str, count: int, base: Path) -> dict[str, object]:
    """All mutants of a kind, a slice a process."""
    total = {"longest": 0.0, "refused": 0, "taken": 0, "wrong": [], "peak": 0}
    for found in _slices(name, count, base):
        for key in ("refused", "taken"):
            total[key] += found[key]  # type: ignore[operator]
        for key in ("longest", "peak"):
            total[key] = max(total[key], found[key])  # type: ignore[call-overload]
        total["wrong"] += found["wrong"]  # type: ignore[operator]
    return total


def _slices(name: str, count: int, base: Path) -> Iterator[dict[str, object]]:
    for first in range(0, count, SLICE):
        command = [sys.executable, __file__, "--slice", name, str(first), str(min(count, first + SLICE)), str(base)]
        ran = subprocess.run(
            command,
            capture_output=True,
            text=True,
            check=False,
            timeout=3_600,
            env={**os.environ, "PYTHONPATH": str(ROOT)},
        )
        if ran.returncode:
            sys.stderr.write(ran.stderr)
        yield json.loads(ran.stdout or '{"longest": 0, "refused": 0, "taken": 0, "peak": 0, "wrong": [[-1, "died"]]}')


def main() -> int:
    """Attack, print, and write the table where that is asked for."""
    if sys.argv[1:2] == ["--slice"]:
        name, first, last, base = sys.argv[2:]
        print(json.dumps(read_slice(KINDS[name], Path(base), int(first), int(last))))
        return 0
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--count", type=int, default=10_000)
    parser.add_argument("--only", default="")
    parser.add_argument("--write", action="store_true")
    asked = parser.parse_args()
    rows, bad = [], False
    with tempfile.TemporaryDirectory() as folder:
        make_bases(Path(folder))
        for name in asked.only.split(",") if asked.only else KINDS:
            found = attack(name, asked.count, Path(folder))
            wrong: list[object] = found["wrong"]  # type: ignore[assignment]
            bad |= bool(wrong) or found["longest"] > MOST_S or found["peak"] > MOST_MB  # type: ignore[operator]
            rows.append(
                f"| {KINDS[name].what} | {asked.count:,} | {found['refused']:,} | {found['taken']:,} | "
                f"{len(wrong)} | {found['longest']:.2f} s | {found['peak']} MB |"
            )
            print(rows[-1], *wrong[:10], sep="\n", flush=True)
    if asked.write:
        write(rows)
    return int(bad)


def write(rows: list[str]) -> None:
    """Put the table into docs/faults.md."""
    page = ROOT / "docs" / "faults.md"
    head = [
        "| files | mutants | refused with a sentence | taken | anything else | longest | most memory |",
        "|---|---|---|---|---|---|---|",
    ]
    text = "\n".join([BEGIN, "", *head, *rows, "", END])
    whole = re.compile(re.escape(BEGIN) + ".*?" + re.escape(END), re.DOTALL)
    page.write_text(whole.sub(lambda _found: text, page.read_text()))


if __name__ == "__main__":
    sys.exit(main())
