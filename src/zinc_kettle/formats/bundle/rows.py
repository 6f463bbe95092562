"""Requests and traces of a run as Parquet: one row each, stamps as lists; read group by group, within bounds."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import MISSING, dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, get_args

import numpy as np
import numpy.typing as npt

from zinc_kettle.core.record.bounds import BOUNDS, MOST_NS
from zinc_kettle.core.record.telemetry import Trace
from zinc_kettle.core.record.timeline import OF_REPORT, SMALL, EngineReport, RequestRole, SmallField, Timeline
from zinc_kettle.core.text import neutralise
from zinc_kettle.errors import BundleError

if TYPE_CHECKING:
    import pyarrow as pa
    from pyarrow import parquet

GROUP_ROWS = 4_096
GROUP_STAMPS = 400_000
"""A group ends with whichever is reached first, so that reading one takes little memory."""
MOST_ROWS = 8 * GROUP_ROWS
MOST_VALUES = 4 * GROUP_STAMPS
"""A group of more is refused; one request may have so many stamps."""
MOST_CHUNK_TOKENS, MOST_TOKENS = 1 << 20, 1 << 23
"""Tokens of one chunk, and of one answer."""
MOST_TEXT = 16 << 10
MOST_ID = 200

TRACE: tuple[tuple[str, bool], ...] = (
    ("at_ns", True),
    ("resident_bytes", True),
    ("anonymous_bytes", True),
    ("file_bytes", True),
    ("cpu_ns", True),
    ("energy_uj", False),
    ("device_bytes", False),
    ("device_percent", False),
)


@dataclass(frozen=True, slots=True)
class Row:
    """A request, and the line of `repeats.jsonl` its repeat is in, from 0."""

    repeat: int
    timeline: Timeline


def _types() -> dict[str, pa.DataType]:
    import pyarrow as pa

    return {"text": pa.string(), "whole": pa.int64(), "number": pa.float64(), "switch": pa.bool_()}


def request_schema() -> pa.Schema:
    """Columns of `requests.parquet`."""
    import pyarrow as pa

    types = _types()
    return pa.schema(
        [
            pa.field("repeat", pa.int32(), nullable=False),
            *(pa.field(of.name, types[of.type], nullable=of.optional) for of in SMALL),
            *(pa.field(f"engine_{of.name}", types[of.type]) for of in OF_REPORT),
            pa.field("user_ns", pa.list_(pa.int64()), nullable=False),
            pa.field("kernel_ns", pa.list_(pa.int64())),
            pa.field("chunk_tokens", pa.list_(pa.int32()), nullable=False),
        ]
    )


def trace_schema() -> pa.Schema:
    """Columns of `traces.parquet`."""
    import pyarrow as pa

    lists = [pa.field(name, pa.list_(pa.int64()), nullable=not given) for name, given in TRACE]
    return pa.schema([pa.field("repeat", pa.int32(), nullable=False), *lists])


class RequestWriter:
    """Writes requests, group by group.

    Args:
        path: The file.
    """

    def __init__(self, path: Path) -> None:
        from pyarrow import parquet

        stamps = {f"{name}.list.element": "DELTA_BINARY_PACKED" for name in ("user_ns", "kernel_ns")}
        whole = {name: "DELTA_BINARY_PACKED" for name in ("sent_ns", "end_ns")}
        texts = [of.name for of in SMALL if of.type == "text"]
        self._schema = request_schema()
        self._writer = parquet.ParquetWriter(
            path,
            self._schema,
            compression="zstd",
            use_dictionary=texts,
            column_encoding={**stamps, **whole},
            write_statistics=False,
            store_schema=False,
        )
        self._waiting: list[Row] = []
        self._stamps = 0

    def add(self, row: Row) -> None:
        """Add a request."""
        self._waiting.append(row)
        self._stamps += len(row.timeline.chunk_ns)
        if len(self._waiting) >= GROUP_ROWS or self._stamps >= GROUP_STAMPS:
            self._flush()

    def _flush(self) -> None:
        import pyarrow as pa

        rows = self._waiting
        columns: list[Any] = [[r.repeat for r in rows]]
        columns += [[getattr(r.timeline, of.name) for r in rows] for of in SMALL]
        reports = [r.timeline.engine for r in rows]
        columns += [[None if e is None else getattr(e, of.name) for e in reports] for of in OF_REPORT]
        columns += [[getattr(r.timeline, name) for r in rows] for name in ("chunk_ns", "kernel_ns", "chunk_tokens")]
        arrays = [pa.array(column, type=field.type) for column, field in zip(columns, self._schema, strict=True)]
        self._writer.write_table(pa.Table.from_arrays(arrays, schema=self._schema))
        self._waiting, self._stamps = [], 0

    def close(self) -> None:
        """Write what waits, and end the file."""
        if self._waiting:
            self._flush()
        self._writer.close()


def write_traces(traces: Sequence[tuple[int, Trace]], path: Path) -> None:
    """Write the traces of repeats, each with the line its repeat is in."""
    import pyarrow as pa
    from pyarrow import parquet

    schema = trace_schema()
    names = [name for name, _ in TRACE]
    delta = {f"{name}.list.element": "DELTA_BINARY_PACKED" for name in names}
    options: dict[str, Any] = {"compression": "zstd", "use_dictionary": False, "column_encoding": delta}
    with parquet.ParquetWriter(path, schema, write_statistics=False, store_schema=False, **options) as writer:
        for repeat, trace in traces:
            columns = [[repeat], *([getattr(trace, name)] for name in names)]
            arrays = [pa.array(c, type=field.type) for c, field in zip(columns, schema, strict=True)]
            writer.write_table(pa.Table.from_arrays(arrays, schema=schema))


def read_requests(path: Path, part: str) -> Iterator[list[Row]]:
    """Requests, group by group; each is checked.

    Args:
        path: The part, written to a file of our own.
        part: How to name it in an error.

    Raises:
        BundleError: It is not what it should be.
    """
    for table in _groups(path, part, request_schema()):
        try:
            yield _rows(table)
        except (ValueError, TypeError, KeyError, OverflowError) as error:
            raise BundleError(part, "holds a request that cannot be", why=str(error)) from error


def read_traces(path: Path, part: str) -> Iterator[tuple[int, dict[str, npt.NDArray[np.int64] | None]]]:
    """The columns of each repeat's trace.

    Raises:
        BundleError: It is not what it should be.
    """
    for table in _groups(path, part, trace_schema()):
        repeats = table.column("repeat").to_pylist()
        lists = {name: _lists(table, name) for name, _ in TRACE}
        for place, repeat in enumerate(repeats):
            yield repeat, {name: found[place] for name, found in lists.items()}


def trace_from(columns: Mapping[str, npt.NDArray[np.int64] | None]) -> Trace:
    """A trace from its columns.

    Raises:
        ValueError: One that every trace has is missing, or they differ in length.
    """
    given = [columns[name] for name, always in TRACE if always]
    always = [column for column in given if column is not None]
    if len(always) < len(given):
        raise ValueError("a column is missing")
    for name, column in columns.items():
        low, high = BOUNDS.get(f"_{name.rpartition('_')[2]}", (0, MOST_NS))
        if column is not None and len(column) and not low <= column.min() <= column.max() <= high:
            raise ValueError(f"{name} holds a number that cannot be")
    at, resident, anonymous, file, cpu = always
    energy, device, percent = (columns[name] for name in ("energy_uj", "device_bytes", "device_percent"))
    return Trace(at, resident, anonymous, file, cpu, energy_uj=energy, device_bytes=device, device_percent=percent)


def _groups(path: Path, part: str, schema: pa.Schema) -> Iterator[pa.Table]:
    import pyarrow as pa
    from pyarrow import parquet

    try:
        with parquet.ParquetFile(path, thrift_string_size_limit=1 << 20, thrift_container_size_limit=1 << 20) as file:
            _check_columns(file.schema_arrow, schema, part)
            for group in range(file.metadata.num_row_groups):
                _check_group(file, group, part)
                yield file.read_row_group(group, use_threads=False)
    except (pa.ArrowException, OSError, ValueError) as error:
        raise BundleError(part, "cannot be read", why=str(error).partition("\n")[0][:120]) from error


MAY_LACK = frozenset(of.name for of in SMALL if of.default is not MISSING)
"""Columns that a bundle of an earlier version may not have."""


def _check_columns(found: pa.Schema, wanted: pa.Schema, part: str) -> None:
    import pyarrow as pa

    names = set(found.names)
    there = [column for column in wanted if column.name in names or column.name not in MAY_LACK]
    if not found.equals(pa.schema(there), check_metadata=False):
        raise BundleError(part, "has other columns than it should")


def _check_group(file: parquet.ParquetFile, group: int, part: str) -> None:
    meta = file.metadata.row_group(group)
    values = max(meta.column(i).num_values for i in range(meta.num_columns))
    if not 0 <= meta.num_rows <= MOST_ROWS or not 0 <= values <= MOST_VALUES:
        raise BundleError(
            part, "has a group of rows that is too large", why=f"{meta.num_rows:,} rows, {values:,} values"
        )


def _lists(table: pa.Table, name: str) -> list[npt.NDArray[Any] | None]:
    out: list[npt.NDArray[Any] | None] = []
    for chunk in table.column(name).chunks:
        if chunk.values.null_count:
            raise ValueError(f"{name} has an empty value")
        values, offsets = chunk.values.to_numpy(zero_copy_only=False), chunk.offsets.to_numpy()
        missing = chunk.is_null().to_pylist()
        out += [
            None if gone else values[start:end]
            for gone, start, end in zip(missing, offsets[:-1], offsets[1:], strict=True)
        ]
    return out


def _rows(table: pa.Table) -> list[Row]:
    repeats, names = table.column("repeat").to_pylist(), set(table.column_names)
    fields = {of: table.column(of.name).to_pylist() for of in SMALL if of.name in names}
    engine = {of: table.column(f"engine_{of.name}").to_pylist() for of in OF_REPORT if f"engine_{of.name}" in names}
    user, kernel, tokens = (_lists(table, name) for name in ("user_ns", "kernel_ns", "chunk_tokens"))
    out = []
    for i, repeat in enumerate(repeats):
        small = {of.name: _checked(of, column[i]) for of, column in fields.items()}
        stamps = user[i], kernel[i], tokens[i]
        _check_stamps(small, *stamps)
        account = {of.name: column[i] for of, column in engine.items()}
        report = None
        if account["prompt_n"] is not None:
            report = {of.name: _checked(of, account[of.name]) for of in engine}
        assert stamps[0] is not None and stamps[2] is not None
        timeline = Timeline(
            **small,
            chunk_ns=stamps[0],
            kernel_ns=stamps[1],
            chunk_tokens=stamps[2],
            engine=None if report is None else EngineReport(**report),
        )
        out.append(Row(repeat, timeline))
    return out


def _checked(of: SmallField, value: Any) -> Any:
    name, kind = of.name, of.type
    if value is None:
        if not of.optional:
            raise ValueError(f"{name} is missing")
        return None
    if kind == "whole" and not -1 <= value < MOST_NS:
        raise ValueError(f"{name} is {value}")
    if kind == "number" and not 0 <= value < 1e15:
        raise ValueError(f"{name} is {value}")
    if kind == "text":
        if len(value) > MOST_TEXT:
            raise ValueError(f"{name} is longer than {MOST_TEXT >> 10} KiB")
        if name == "request_id" and len(value) > MOST_ID:
            raise ValueError("request_id is too long")
        if name == "role" and value not in get_args(RequestRole):
            raise ValueError(f"role is {value[:20]!r}")
        return neutralise(value)
    return value


def _check_stamps(small: dict[str, Any], user: Any, kernel: Any, tokens: Any) -> None:
    """Stamps in order, after the request was sent; tokens within bounds."""
    if user is None or tokens is None:
        raise ValueError("it has no stamps")
    if small["end_ns"] < small["sent_ns"]:
        raise ValueError("it ended before it was sent")
    for stamps in (user, kernel):
        if stamps is None or not len(stamps):
            continue
        if stamps[0] < small["sent_ns"] or stamps[-1] >= MOST_NS or (np.diff(stamps) < 0).any():
            raise ValueError("its stamps are not in order")
    if len(tokens) and (
        tokens.min() < 0 or tokens.max() > MOST_CHUNK_TOKENS or tokens.sum(dtype=np.int64) > MOST_TOKENS
    ):
        raise ValueError("its tokens cannot be counted")
