"""Tables as files: CSV, JSON Lines and Parquet, written as they are read, whole or not at all."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Mapping
from contextlib import AbstractContextManager, contextmanager
from pathlib import Path
from typing import IO, TYPE_CHECKING

from zinc_kettle.errors import UsageError
from zinc_kettle.formats.atomic_file import atomic_file
from zinc_kettle.present.tables import TABLES_VERSION, Batch, Table

if TYPE_CHECKING:
    import pyarrow as pa

BATCH_ROWS = 1 << 16
"""Rows that are written together: a group of rows of Parquet is read as one."""
FORMULA = r"^([=+\-@\t\r])"
VERSION_KEY = b"zinc_kettle.tables"


def schema_of(table: Table) -> pa.Schema:
    """The columns of a table as Arrow has them; units and meanings are metadata of the fields."""
    import pyarrow as pa

    types = {"text": pa.string(), "number": pa.float64(), "count": pa.int64(), "switch": pa.bool_()}
    fields = [pa.field(c.name, types[c.kind], metadata={"unit": c.unit, "meaning": c.meaning}) for c in table.columns]
    return pa.schema(fields, metadata={VERSION_KEY: str(TABLES_VERSION).encode()})


def write_table(table: Table, out: Path) -> int:
    """Write a table into a file; its ending says the format. A file of that name is replaced when all is written.

    Returns:
        The number of rows.

    Raises:
        UsageError: Another ending, or the file cannot be written.
    """
    ending = out.suffix.lower()
    if ending not in WRITERS:
        raise UsageError(f"{out.name} ends in none of {', '.join(WRITERS)}", remedy="choose one of these endings")
    with atomic_file(out) as part, part.open("wb") as file:
        rows = write_to(table, file, ending)
    return rows


def write_to(table: Table, file: IO[bytes], ending: str) -> int:
    """Write a table into an open file.

    Args:
        table: The table.
        file: Open for writing bytes.
        ending: A key of WRITERS.

    Returns:
        The number of rows.
    """
    schema, rows = schema_of(table), 0
    with WRITERS[ending](file, schema) as write:
        for batch in _gathered(table, schema):
            write(batch)
            rows += batch.num_rows
    return rows


def _gathered(table: Table, schema: pa.Schema) -> Iterator[pa.Table]:
    """The rows, many at a time."""
    import pyarrow as pa

    waiting: list[pa.Table] = []
    count = 0
    for batch in table.batches():
        waiting.append(_arrow(batch, schema))
        count += waiting[-1].num_rows
        if count >= BATCH_ROWS:
            yield pa.concat_tables(waiting).combine_chunks()
            waiting, count = [], 0
    yield pa.concat_tables(waiting).combine_chunks() if waiting else schema.empty_table()


def _arrow(batch: Batch, schema: pa.Schema) -> pa.Table:
    import pyarrow as pa

    count = len(next(iter(batch.values())))
    arrays = [pa.array(batch.get(field.name) or [None] * count, type=field.type) for field in schema]
    return pa.Table.from_arrays(arrays, schema=schema)


def _as_text(batch: pa.Table) -> pa.Table:
    """Texts that a spreadsheet would take for a formula, and so run, begin with an apostrophe: then they are text."""
    import pyarrow as pa
    from pyarrow import compute

    for place, field in enumerate(batch.schema):
        if pa.types.is_string(field.type):
            column = compute.replace_substring_regex(batch.column(place), FORMULA, r"'\1")
            batch = batch.set_column(place, field, column)
    return batch


Writing = AbstractContextManager[Callable[["pa.Table"], None]]


@contextmanager
def _parquet(file: IO[bytes], schema: pa.Schema) -> Iterator[Callable[[pa.Table], None]]:
    from pyarrow import parquet

    with parquet.ParquetWriter(file, schema, compression="zstd") as writer:
        yield writer.write_table


@contextmanager
def _csv(file: IO[bytes], schema: pa.Schema) -> Iterator[Callable[[pa.Table], None]]:
    from pyarrow import csv

    with csv.CSVWriter(file, schema, write_options=csv.WriteOptions(quoting_style="needed")) as plain:
        yield lambda batch: plain.write_table(_as_text(batch))


@contextmanager
def _json_lines(file: IO[bytes], _schema: pa.Schema) -> Iterator[Callable[[pa.Table], None]]:
    yield lambda batch: file.writelines(
        (json.dumps(row, ensure_ascii=False) + "\n").encode() for row in batch.to_pylist()
    )


WRITERS: Mapping[str, Callable[[IO[bytes], pa.Schema], Writing]] = {
    ".csv": _csv,
    ".jsonl": _json_lines,
    ".parquet": _parquet,
}
"""By the ending of the file."""
