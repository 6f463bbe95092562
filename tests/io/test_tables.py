"""Tables as files, read back by other programs: Arrow, DuckDB and a plain CSV reader."""

from __future__ import annotations

import csv
import json
import re
from collections.abc import Callable
from pathlib import Path
from typing import Any

import duckdb
import pytest
from pyarrow import parquet

from zinc_kettle.config import DEMO_FILES, SAMPLE_STORE
from zinc_kettle.core.compare.cells import leader, ratio
from zinc_kettle.core.lengths import families
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.record.value import Value
from zinc_kettle.core.results import StudyResults
from zinc_kettle.errors import UsageError
from zinc_kettle.formats.tables import VERSION_KEY, write_table
from zinc_kettle.present.tables import TABLES_VERSION, Of, table
from zinc_kettle.store.reading import find, open_run
from zinc_kettle.store.sqlite import copy_database
from zinc_kettle.store.store import KettleStore

Opened = Callable[[str], StudyResults]
QUERIES = re.findall(r"```sql\n-- ([a-z -]+): (.*?)```", Path("docs/tables.md").read_text(encoding="utf-8"), re.DOTALL)


@pytest.fixture(scope="module")
def opened(tmp_path_factory: pytest.TempPathFactory) -> Opened:
    """Opens a finished example."""
    path = tmp_path_factory.mktemp("sample") / "kettle.db"
    copy_database(DEMO_FILES / SAMPLE_STORE, path)
    store = KettleStore(path)
    return lambda study: open_run(store, find(store, study))


def rows_of(file: Path) -> list[dict[str, Any]]:
    """A file's rows, read by what belongs to its ending."""
    if file.suffix == ".parquet":
        return list(parquet.read_table(file).to_pylist())
    if file.suffix == ".jsonl":
        return [json.loads(line) for line in file.read_text(encoding="utf-8").splitlines()]
    with duckdb.connect() as db:
        found = db.execute(f"SELECT * FROM read_csv('{file}', all_varchar = true)")
        names = [column[0] for column in found.description or ()]
        return [dict(zip(names, row, strict=True)) for row in found.fetchall()]


def first_row(query: str) -> tuple[Any, ...]:
    """The first row of an answer."""
    with duckdb.connect() as db:
        return tuple(db.execute(query).fetchall()[0])


@pytest.mark.parametrize("of", ["cells", "repeats", "requests", "tokens"])
@pytest.mark.parametrize("long", [False, True])
def test_three_formats_hold_the_same(opened: Opened, tmp_path: Path, of: Of, long: bool) -> None:
    """As many rows and columns, and every number equal, whoever reads it; Parquet knows units and version."""
    made = table([opened("night-log-desk")], of, long=long)
    files = [tmp_path / f"t{ending}" for ending in (".parquet", ".jsonl", ".csv")]
    counts = {write_table(made, file) for file in files}
    whole, lines, plain = (rows_of(file) for file in files)
    assert counts == {len(whole)} and len(whole) == len(lines) == len(plain) > 0 and whole == lines
    for row, said in list(zip(whole, plain, strict=True))[:: max(1, len(whole) // 50)]:
        for name, value in row.items():
            text = said[name]
            assert (text in (None, "")) == (value in (None, "")), name
            assert not isinstance(value, float) or float(text) == value
    schema = parquet.read_schema(files[0])
    assert schema.metadata[VERSION_KEY] == str(TABLES_VERSION).encode()
    assert [f.name for f in schema] == [c.name for c in made.columns]
    assert all(schema.field(c.name).metadata[b"unit"].decode() == c.unit for c in made.columns)
    with files[2].open(encoding="utf-8", newline="") as file:
        assert next(csv.reader(file)) == [c.name for c in made.columns]


def test_figures_are_those_of_the_sheet(opened: Opened, tmp_path: Path) -> None:
    """Every measure of every cell, and per repeat; a long table says the same as the wide one, and why a figure is
    missing."""
    results = opened("deep-context")
    write_table(table([results], "cells"), tmp_path / "wide.parquet")
    write_table(table([results], "cells", long=True), tmp_path / "long.parquet")
    wide, long = rows_of(tmp_path / "wide.parquet"), rows_of(tmp_path / "long.parquet")
    told = {(row["cell"], row["measure"]): row for row in long}
    for cell, row in zip(results.cells, wide, strict=True):
        for name in MEASURES:
            figure, said = cell.value(name), told[cell.cell.key, name]
            expected = (figure.value, figure.low, figure.high) if isinstance(figure, Value) else (None, None, None)
            assert (row[name], row[f"{name}_low"], row[f"{name}_high"]) == expected
            assert (said["value"], said["low"], said["high"]) == expected
            assert (said["missing"] is None) == isinstance(figure, Value)
    write_table(table([results], "repeats"), tmp_path / "repeats.parquet")
    by_cell: dict[str, list[float]] = {}
    for row in rows_of(tmp_path / "repeats.parquet"):
        if row["decode"] is not None:
            by_cell.setdefault(row["cell"], []).append(row["decode"])
    assert by_cell == {c.cell.key: list(c.series("decode")) for c in results.cells}


def test_tokens_add_up(opened: Opened, tmp_path: Path) -> None:
    """Gaps of a request's tokens sum to the time from its first to its last, and there are as many as it says."""
    results = opened("pasted-log")
    for of in ("requests", "tokens"):
        write_table(table([results], of), tmp_path / f"{of}.parquet")
    found = first_row(f"""
        SELECT count(*), bool_and(
            abs(gaps - decode_time) < 1e-9 AND tokens = output_tokens AND abs(earliest - ttft) < 1e-9)
        FROM '{tmp_path}/requests.parquet' JOIN (
            SELECT request, sum(gap) AS gaps, count(*) AS tokens, min(came_at) AS earliest
            FROM '{tmp_path}/tokens.parquet' GROUP BY request) USING (request)
    """)
    assert found[0] > 30 and found[1] is True


def test_runs_of_several_studies_make_one_table(opened: Opened, tmp_path: Path) -> None:
    """Factors that vary in any of them are columns; settings that a study holds stand there too."""
    made = table([opened("three-ways"), opened("which-rig")], "cells")
    write_table(made, tmp_path / "both.parquet")
    rows = rows_of(tmp_path / "both.parquet")
    assert {"threads", "level_prompt_tokens", "rig", "quantization"} <= {c.name for c in made.columns}
    assert {row["study"] for row in rows} == {"three-ways", "which-rig"} and len(rows) == 20
    assert {row["simulated"] for row in rows if row["study"] == "which-rig"} == {True}


def test_a_file_that_cannot_be_written_is_refused_and_the_old_one_stays(opened: Opened, tmp_path: Path) -> None:
    """Another ending, or a folder that is a file: exit code 2; a file that was there is as it was."""
    made = table([opened("pasted-log")], "cells")
    with pytest.raises(UsageError, match=r"\.csv, \.jsonl, \.parquet"):
        write_table(made, tmp_path / "x.xlsx")
    old = tmp_path / "old.csv"
    old.write_text("mine")
    with pytest.raises(UsageError, match="cannot be written"):
        write_table(made, old / "x.csv")
    assert old.read_text() == "mine" and list(tmp_path.iterdir()) == [old]


# the queries of the page
def _best(opened: Opened, row: tuple[Any, ...], study: str) -> None:
    best = leader([c for c in opened(study).cells if c.done], "decode")
    assert set(map(str, best.cell.levels.values())) <= set(map(str, row))


def _ratio(results: StudyResults, over: dict[str, Any], under: dict[str, Any]) -> float:
    cells = [next(c for c in results.cells if c.cell.levels.items() >= levels.items()) for levels in (over, under)]
    found = ratio(cells[0], cells[1], "decode")
    assert found is not None
    return found.value


def _services(opened: Opened, row: tuple[Any, ...]) -> None:
    results, product = opened("night-log-desk"), 1.0
    for level in results.study.vary["quantization"]:
        product *= _ratio(results, {"quantization": level, "threads": 2}, {"quantization": level, "threads": 1})
    assert row[0] == pytest.approx(product ** (1 / 3), rel=1e-9)


def _settings(opened: Opened, row: tuple[Any, ...]) -> None:
    on, off = {"threads": 2, "flash_attention": True}, {"threads": 1, "flash_attention": False}
    assert row[0] == pytest.approx(_ratio(opened("last-weeks-settings"), on, off), rel=1e-9)


def _slope(opened: Opened, row: tuple[Any, ...]) -> None:
    slope = families(opened("pasted-log"))[0].slope
    assert row[0] == pytest.approx(getattr(slope, "rate", 0.0), rel=0.15)  # the tool's own line is a robust one


def _deep(opened: Opened, row: tuple[Any, ...]) -> None:
    cells = {
        c.cell.levels["depth"]: c.value("decode")
        for c in opened("deep-context").cells
        if c.cell.levels["flash_attention"]
    }
    deep, shallow = cells[700], cells[100]
    assert isinstance(deep, Value) and isinstance(shallow, Value)
    assert row[0] == pytest.approx(deep.value / shallow.value)


def _desks(opened: Opened, row: tuple[Any, ...]) -> None:
    cell = next(c for c in opened("how-many-desks").cells if c.cell.levels == {"rig": "gannet", "concurrency": row[0]})
    found = cell.value("ttft_p95")
    assert isinstance(found, Value) and row[1] == pytest.approx(found.value, rel=0.02)


def _pause(opened: Opened, row: tuple[Any, ...]) -> None:
    gaps = {
        t.request_id: t.chunk_gaps_ns.max() for c in opened("pasted-log").cells for r in c.repeats for t in r.measured
    }
    assert row[1] == pytest.approx(max(gaps.values()) / 1e9) and gaps[row[0]] == max(gaps.values())


HOLDS: dict[str, Callable[[Opened, tuple[Any, ...]], None]] = {
    "which-rig": lambda o, row: _best(o, row, "which-rig"),
    "three-ways": lambda o, row: _best(o, row, "three-ways"),
    "two-engines": lambda o, row: _best(o, row, "two-engines"),
    "night-log-desk": _services,
    "last-weeks-settings": _settings,
    "pasted-log": _slope,
    "deep-context": _deep,
    "how-many-desks": _desks,
    "any study": _pause,
}


@pytest.mark.parametrize(("study", "query"), QUERIES, ids=[study for study, _ in QUERIES])
def test_each_query_of_the_page_answers_as_the_tool_does(
    opened: Opened, tmp_path: Path, study: str, query: str
) -> None:
    """Every question of the demo has its query, and DuckDB finds what the tool says."""
    assert {name for name, _ in QUERIES} == set(HOLDS)
    for name, of in set(re.findall(r"'([a-z-]+)\.([a-z]+)\.parquet'", query)):
        kind: Of = "cells" if of == "long" else of
        write_table(table([opened(name)], kind, long=of == "long"), tmp_path / f"{name}.{of}.parquet")
    asked = query.partition("\n")[2]
    row = first_row(re.sub(r"'([a-z-]+\.[a-z]+\.parquet)'", rf"'{tmp_path}/\1'", asked))
    HOLDS[study](opened, row)
