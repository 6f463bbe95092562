"""Files spoilt at random, as accidents and hostile people spoil them; the same file for the same seed."""

from __future__ import annotations

import json
import random
import re
import sqlite3
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from tests.bundling import built, parts_of

RUN = "runs/1"
STRANGE: tuple[Any, ...] = (
    None,
    -1,
    0,
    1 << 62,
    1 << 70,
    1e308,
    "",
    "x" * 30_000,
    "\x1b[31m",
    [],
    {},
    True,
    [[[[]]]],
    "../../x",
    float("nan"),
)
STRANGE_TEXTS = (
    "",
    "0",
    "-1",
    "1e999",
    "nan",
    "9" * 4_400,
    "0x" + "f" * 4_000,
    '"' + "x" * 20_000 + '"',
    "[" * 3_000,
    "true",
    "[]",
    '"../../x"',
    '"\\u001b[2J"',
    "1979-05-27",
    '"http://u:p@h/?k=1"',
    "²",
    '"',
    "\\",
    "\x00",
    "=1+1",
    "{}",
    "[[1]]",
)
WORD = re.compile(r'"[^"\n]*"|-?\d+(?:\.\d+)?|\b(?:true|false)\b|[\w.-]+')


def strange(value: Any, rng: random.Random, share: float) -> Any:
    """A JSON value with some of its parts replaced by what does not belong there."""
    if rng.random() < share:
        return rng.choice(STRANGE)
    if isinstance(value, dict):
        return {k: strange(v, rng, share) for k, v in value.items() if rng.random() > share / 4}
    return [strange(v, rng, share) for v in value] if isinstance(value, list) else value


def flipped(data: bytes, rng: random.Random, times: int) -> bytes:
    """Bytes changed, taken out, put in."""
    out = bytearray(data)
    for _ in range(times):
        at, kind = rng.randrange(len(out)), rng.random()
        if kind < 0.6:
            out[at] = rng.randrange(256)
        elif kind < 0.8 and len(out) > 100:
            del out[at : at + rng.randrange(1, 50)]
        else:
            out[at:at] = rng.randbytes(rng.randrange(1, 20))
    return bytes(out)


def spoilt_text(base: str, seed: int) -> bytes:
    """A text with bytes flipped, values replaced, lines repeated, moved or taken out."""
    rng = random.Random(seed)
    kind = rng.random()
    if kind < 0.25:
        return flipped(base.encode(), rng, rng.randrange(1, 10))
    if kind < 0.75:
        found = list(WORD.finditer(base))
        for match in sorted(rng.sample(found, min(len(found), rng.randrange(1, 4))), key=lambda m: -m.start()):
            base = base[: match.start()] + rng.choice(STRANGE_TEXTS) + base[match.end() :]
        return base.encode("utf-8", "surrogatepass")
    lines = base.splitlines(keepends=True)
    for _ in range(rng.randrange(1, 5)):
        at, to = rng.randrange(len(lines)), rng.randrange(len(lines))
        act = rng.random()
        if act < 0.4:
            lines.insert(to, lines[at])
        elif act < 0.7 and len(lines) > 1:
            del lines[at]
        elif act < 0.9:
            lines[at], lines[to] = lines[to], lines[at]
        else:
            lines[at:at] = [lines[to]] * 5_000
    return "".join(lines).encode()


def spoilt_bundle(base: Path, seed: int, to: Path) -> Path:
    """A bundle spoilt somewhere; where its list is kept true, what it holds is wrong behind true checksums."""
    rng = random.Random(seed)
    kind = rng.choice(
        [
            "archive",
            "facts.json",
            "plan.json",
            "repeats.jsonl",
            "requests.parquet",
            "traces.parquet",
            "run.toml",
            "decisions.jsonl",
            "notes.jsonl",
        ]
    )
    if kind == "archive":
        to.write_bytes(flipped(base.read_bytes(), rng, rng.randrange(1, 30)))
        return to
    parts, share = parts_of(base), rng.choice([0.005, 0.05, 0.2])
    data = parts[f"{RUN}/{kind}"]
    if kind.endswith("json"):
        data = json.dumps(strange(json.loads(data), rng, share)).encode()
    elif kind.endswith("jsonl"):
        data = "\n".join(json.dumps(strange(json.loads(line), rng, share)) for line in data.splitlines()).encode()
    else:
        data = flipped(data, rng, rng.randrange(1, 6))
    return built({**parts, f"{RUN}/{kind}": data}, to)


def _text_of(value: Any) -> str | int | float | bytes | None:
    """A strange value as a column of a database can have it."""
    if isinstance(value, bool | list | dict):
        return json.dumps(value)
    return value % (1 << 63) if isinstance(value, int) else value


def _columns(db: sqlite3.Connection) -> list[tuple[str, str]]:
    tables = [row[0] for row in db.execute("SELECT name FROM sqlite_master WHERE type = 'table'")]
    return [(table, row[1]) for table in tables for row in db.execute(f"PRAGMA table_info({table})")]


def spoilt_store(base: Path, seed: int, to: Path) -> Path:
    """A store with values, texts, packed blocks or the bytes of its file changed."""
    rng = random.Random(seed)
    if rng.random() < 0.2:
        to.write_bytes(flipped(base.read_bytes(), rng, rng.randrange(1, 20)))
        return to
    to.write_bytes(base.read_bytes())
    db = sqlite3.connect(to)
    try:
        for table, column in rng.sample(_columns(db), rng.randrange(1, 4)):
            rows = db.execute(f"SELECT rowid, {column} FROM {table}").fetchall()
            if rows:
                row, old = rng.choice(rows)
                db.execute(f"UPDATE OR IGNORE {table} SET {column} = ? WHERE rowid = ?", (_spoilt(old, rng), row))
        db.commit()
    except sqlite3.Error:
        pass  # a rule of the tables is in the way; the file stays as it is
    finally:
        db.close()
    return to


def _spoilt(old: object, rng: random.Random) -> object:
    if isinstance(old, bytes) and old and rng.random() < 0.7:
        return flipped(old, rng, rng.randrange(1, 6))
    if isinstance(old, str) and old[:1] in {"{", "["} and rng.random() < 0.7:
        return json.dumps(strange(json.loads(old), rng, 0.05))
    return _text_of(rng.choice(STRANGE))


Make = Callable[[int, Path], Path]
"""Writes the mutant of a seed to a path."""


def text_mutants(bases: Mapping[str, str]) -> Make:
    """Mutants of one of several texts."""
    texts = list(bases.values())

    def make(seed: int, to: Path) -> Path:
        to.write_bytes(spoilt_text(texts[seed % len(texts)], seed))
        return to

    return make
