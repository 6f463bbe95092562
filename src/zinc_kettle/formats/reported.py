"""Somebody else's figures from a CSV file; hostile until checked: bounded, typed, no hidden characters."""

from __future__ import annotations

import csv
import io
from collections.abc import Mapping
from pathlib import Path

from zinc_kettle.core.compare.reported import Reported
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.plan.factors import Level
from zinc_kettle.core.problem import nearest
from zinc_kettle.core.text import neutralise
from zinc_kettle.core.units import TYPED_UNITS
from zinc_kettle.errors import StudyFileError
from zinc_kettle.formats.bounded import UnreadableFileError, name_of, read_bounded_text

MAX_BYTES = 4 << 20
MAX_ROWS = 20_000
MAX_WORD = 200
NEEDED = ("source", "measure", "value")
KNOWN = (*NEEDED, "unit", "low", "high", "rig", "model", "quantization", "workload")


def read_reported(path: Path) -> tuple[Reported, ...]:
    """Figures of a CSV file with a head line: source, measure, value, and what else is known.

    Columns beside those this module knows are factors, and their values levels: `threads`, `concurrency` …

    Raises:
        StudyFileError: It cannot be read, or a row of it cannot be used.
    """
    try:
        text = read_bounded_text(path, MAX_BYTES, encoding="utf-8-sig")
    except UnreadableFileError as error:
        raise StudyFileError(str(error), file=name_of(path), remedy="a CSV file, saved as UTF-8") from error
    rows = csv.DictReader(io.StringIO(text))
    heads = [neutralise(head or "", keep_newlines=False).strip() for head in rows.fieldnames or []]
    missing = [name for name in NEEDED if name not in heads]
    if missing:
        raise StudyFileError(
            f"has no column {missing[0]!r}", file=path.name, line=1, remedy="a head line with source, measure, value"
        )
    out = []
    try:
        for number, row in enumerate(rows, start=2):
            if number > MAX_ROWS:
                raise StudyFileError(f"has more than {MAX_ROWS:,} rows", file=path.name, remedy="split it")
            plain = {
                head: neutralise(value or "", keep_newlines=False).strip()[:MAX_WORD]
                for head, value in zip(heads, row.values(), strict=False)
                if isinstance(value, str)
            }
            out.append(_figure(plain, path.name, number))
    except csv.Error as error:
        raise StudyFileError("is not CSV", file=path.name, why=str(error)) from error
    return tuple(out)


def _figure(row: Mapping[str, str], file: str, line: int) -> Reported:
    name = row.get("measure", "")
    if name not in MEASURES:
        raise StudyFileError(
            f"names the measure {name!r}, which there is not", file=file, line=line, remedy=nearest(name, MEASURES)
        )
    if not row.get("source"):
        raise StudyFileError("names no source", file=file, line=line, remedy="say who reports it, and where")
    scale = _scale(row.get("unit", ""), name, file, line)
    value = _number(row.get("value", ""), file, line)
    low, high = (None if not row.get(k) else _number(row[k], file, line) * scale for k in ("low", "high"))
    levels: dict[str, Level] = {k: _level(v) for k, v in row.items() if k not in KNOWN and k and v}
    return Reported(
        row["source"],
        name,
        value * scale,
        low,
        high,
        row.get("rig", ""),
        row.get("model", ""),
        row.get("quantization", ""),
        row.get("workload", ""),
        levels,
    )


def _scale(unit: str, measure: str, file: str, line: int) -> float:
    own = MEASURES[measure].unit
    known = TYPED_UNITS.get(own, {own: 1.0})
    if unit and unit not in known:
        raise StudyFileError(f"gives {measure} in {unit!r}", file=file, line=line, remedy=f"one of {', '.join(known)}")
    return known.get(unit, 1.0)


def _number(text: str, file: str, line: int) -> float:
    try:
        value = float(text)
    except ValueError:
        value = float("nan")
    if not 0 <= value < 1e18:
        raise StudyFileError(f"has {text!r} where a number should be", file=file, line=line, remedy="12.5")
    return value


def _level(text: str) -> Level:
    return int(text) if text.isdecimal() and len(text) < 12 else text
