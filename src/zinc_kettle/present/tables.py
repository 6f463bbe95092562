"""A run as tables for other programs: of its cells, its repeats, its requests, or every token.

Each column is declared once, with its kind, unit and meaning; the files, the docs and the check of both are made from
that. Wide tables have a column for each measure, long ones a row.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, Literal, TypeAlias

import numpy as np

from zinc_kettle.core.fingerprint import fingerprint
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.measures.kinds import OfCell, OfFacts
from zinc_kettle.core.plan.factors import Level
from zinc_kettle.core.plan.study import workload
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.core.record.value import Value
from zinc_kettle.core.results import CellResults, KeptRepeat, StudyResults
from zinc_kettle.core.summary import series
from zinc_kettle.core.text import neutralise
from zinc_kettle.core.units import NS_PER_S

TABLES_VERSION = 1
"""Raised when a column changes its meaning or goes; new columns do not raise it."""
ColumnKind = Literal["text", "number", "count", "switch"]
"""A number is a double, a count a whole number."""
Of = Literal["cells", "repeats", "requests", "tokens"]
Batch: TypeAlias = Mapping[str, Sequence[Any]]
"""Columns of as many rows each; one that is missing is empty in all of them."""


@dataclass(frozen=True, slots=True)
class Column:
    """A column of a table."""

    name: str
    kind: ColumnKind
    meaning: str
    unit: str = ""


@dataclass(frozen=True)
class Table:
    """Columns, and the rows in batches."""

    of: Of
    long: bool
    columns: tuple[Column, ...]
    batches: Callable[[], Iterator[Batch]]
    """Reads the run as it goes: a table of every token is larger than memory."""


PLACE: tuple[Column, ...] = (
    Column("study", "text", "name of the study"),
    Column("run", "count", "run of the study, from 1"),
    Column("definitions", "count", "version of the definitions the figures follow; see definitions.md"),
    Column("simulated", "switch", "true for figures of a rehearsal: they are made up"),
    Column("workload", "text", "what the engine was asked to do: compare cells where it is the same"),
    Column("cell", "text", "the cell, by its key"),
    Column("rig", "text", "the machine; empty for the one the tool ran on"),
    Column("engine", "text", "the engine, by the name of its recipe"),
    Column("engine_name", "text", "what the engine calls itself"),
    Column("engine_version", "text", "as the engine says it"),
    Column("model", "text", "name of the model"),
    Column("quantization", "text", "stored precision of the model"),
)
"""What every row begins with; behind it a column for each further factor that varies."""
OF_CELL: tuple[Column, ...] = (
    Column("state", "text", "planned, partly, measured, failed or skipped"),
    Column("repeats", "count", "repeats that are measured"),
    Column("repeats_wanted", "count", "repeats the plan asks for"),
    Column("repeats_failed", "count", "repeats that failed"),
    Column("cautions", "text", "codes of the cautions, with spaces between"),
)
OF_REPEAT: tuple[Column, ...] = (
    Column("repeat", "text", "the repeat, by its id"),
    Column("place", "count", "its place among the repeats of its cell, from 0"),
    Column("block", "count", "block of the run; every block holds every cell once"),
    Column("state", "text", "measured, failed, broken-off or open"),
    Column("concurrency", "count", "requests in flight at once"),
)
MEASURE = Column("measure", "text", "name of the measure, or of the column of the wide table")
UNIT = Column("unit", "text", "unit of the value")
VALUE = Column("value", "number", "the figure, in its unit; empty where it cannot be had")
LONG_CELL: tuple[Column, ...] = (
    MEASURE,
    UNIT,
    VALUE,
    Column("low", "number", "lower bound"),
    Column("high", "number", "upper bound"),
    Column("bound", "text", "interval95, or range where there are too few repeats for an interval"),
    Column("n", "count", "what stands behind the figure"),
    Column("counts", "text", "what n counts: repeats, launches or requests"),
    Column("missing", "text", "why there is no figure"),
)


@dataclass(frozen=True, slots=True)
class OfRequest:
    """A column of a request, and how it is found."""

    column: Column
    of: Callable[[Timeline, int], Any]
    """The request, and when the first request of its repeat was sent, in nanoseconds."""


def _counts(t: Timeline) -> bool:
    return t.role == "measured" and t.usable and not t.cold


def _seconds(ns: float | None) -> float | None:
    return None if ns is None else ns / NS_PER_S


def _text(name: str, meaning: str, of: Callable[[Timeline], str | None]) -> OfRequest:
    return OfRequest(Column(name, "text", meaning), lambda t, _zero: of(t))


def _count(name: str, meaning: str, of: Callable[[Timeline], int | None], unit: str = "") -> OfRequest:
    return OfRequest(Column(name, "count", meaning, unit), lambda t, _zero: of(t))


def _switch(name: str, meaning: str, of: Callable[[Timeline], bool]) -> OfRequest:
    return OfRequest(Column(name, "switch", meaning), lambda t, _zero: of(t))


def _span(name: str, meaning: str, of: Callable[[Timeline], float | None]) -> OfRequest:
    return OfRequest(Column(name, "number", meaning, "s"), lambda t, _zero: _seconds(of(t)))


def _moment(name: str, meaning: str, of: Callable[[Timeline], int | None]) -> OfRequest:
    def found(t: Timeline, zero: int) -> float | None:
        at = of(t)
        return None if at is None else (at - zero) / NS_PER_S

    return OfRequest(Column(name, "number", f"{meaning}, since the repeat began", "s"), found)


REQUEST: tuple[OfRequest, ...] = (
    _text("request", "the request, by its id", lambda t: t.request_id),
    _text("role", "measured or warmup", lambda t: t.role),
    _switch("counts", "true where it counts into the figures", _counts),
    _switch("cold", "true for the first request after a load", lambda t: t.cold),
    _count("stream", "which of the streams sent it, from 0", lambda t: t.stream),
    _count("conversation", "its conversation, from 0; empty outside of conversations", lambda t: t.conversation),
    _count("turn", "its turn of the conversation, from 0", lambda t: t.turn),
    _count("attempt", "0 for the first try, 1 for the first retry", lambda t: t.attempt),
    _moment("due_at", "when the schedule wanted it sent", lambda t: t.due_ns),
    _moment("sent_at", "when it was sent", lambda t: t.sent_ns),
    _moment("first_at", "when its first output came", lambda t: t.first_ns if len(t.stamps) else None),
    _moment("last_at", "when its last output came", lambda t: t.last_ns if len(t.stamps) else None),
    _span("connect", "opening the connection, before it was sent", lambda t: t.connect_ns),
    _span("ttft", "from sent to the first output", lambda t: t.ttft_ns),
    _span("latency", "from due, or sent where nothing was due, to the last output", lambda t: t.last_ns - t.wanted_ns),
    _span("decode_time", "from the first output to the last", lambda t: t.decode_ns if len(t.stamps) else None),
    OfRequest(
        Column("decode", "number", "tokens after the first chunk by the time they took", "tokens/s"),
        lambda t, _zero: t.decode_rate,
    ),
    _count("asked_tokens", "length of the answer asked for", lambda t: t.asked_tokens, "tokens"),
    _count("prompt_tokens", "length of the prompt, by the engine", lambda t: t.prompt_tokens, "tokens"),
    _count("cached_tokens", "of these, reused from the engine's cache", lambda t: t.cached_tokens, "tokens"),
    _count("output_tokens", "length of the answer, by the best count there is", lambda t: t.total_tokens, "tokens"),
    _text("counted_by", "where that count comes from: chunk-counts, usage or chunks", lambda t: t.counted_by),
    _count("chunks", "pieces the answer came in", lambda t: len(t.stamps)),
    _count("characters", "length of the answer in characters", lambda t: t.characters),
    _text("stamps", "whose stamps the times are: kernel or user", lambda t: t.stamp_source),
    _text("finish", "why the engine stopped, in its own word", lambda t: t.finish),
    _switch("complete", "true where the stream ended with its end mark", lambda t: t.complete),
    _text("fault", "what went wrong, by its code; see faults.md", lambda t: t.fault or None),
    _count(
        "engine_prompt_tokens",
        "prompt tokens the engine says it processed",
        lambda t: None if t.engine is None else t.engine.prompt_n,
        "tokens",
    ),
    _span(
        "engine_prompt_time",
        "how long that took, on the engine's clock",
        lambda t: None if t.engine is None else t.engine.prompt_ms * 1e6,
    ),
    _count(
        "engine_output_tokens",
        "output tokens, by the engine's own account",
        lambda t: None if t.engine is None else t.engine.predicted_n,
        "tokens",
    ),
    _span(
        "engine_decode_time",
        "how long these took, on the engine's clock",
        lambda t: None if t.engine is None else t.engine.predicted_ms * 1e6,
    ),
)
OF_REQUEST: tuple[Column, ...] = tuple(r.column for r in REQUEST)
MELTED: tuple[Column, ...] = tuple(c for c in OF_REQUEST if c.kind == "number" or c.unit)
"""What a long table of requests has a row for."""
KEPT: tuple[Column, ...] = tuple(c for c in OF_REQUEST if c not in MELTED)
OF_TOKEN: tuple[Column, ...] = (
    Column("repeat", "text", "the repeat, by its id"),
    Column("block", "count", "block of the run"),
    Column("request", "text", "the request, by its id"),
    Column("counts", "switch", "true where its request counts into the figures"),
    Column("token", "count", "the token, from 0"),
    Column("chunk", "count", "the chunk it came in, from 0"),
    Column("came_at", "number", "when it came, since its request was sent", "s"),
    Column("gap", "number", "time since the token before; 0 within a chunk, empty for the first", "s"),
    Column(
        "counted_by",
        "text",
        "chunk-counts, or chunks where nobody says how many tokens a chunk holds: then a row is a chunk",
    ),
)


def table(runs: Sequence[StudyResults], of: Of, *, long: bool = False) -> Table:
    """Runs as one table.

    Args:
        runs: One or more; factors that vary in any of them are columns.
        of: What a row stands for.
        long: A row for each measure, not a column. A table of tokens has one form only.
    """
    levels = _level_columns(runs)
    own, rows = {
        "cells": (_cell_columns(long=long), _cells),
        "repeats": (_repeat_columns(long=long), _repeats),
        "requests": (_request_columns(long=long), _requests),
        "tokens": (OF_TOKEN, _tokens),
    }[of]
    taken = {c.name for c in own}
    # A factor and a measure may have one name: what was asked for, and what came.
    shown = tuple(replace(c, name=f"level_{c.name}") if c.name in taken else c for c in levels)

    def batches() -> Iterator[Batch]:
        for results in runs:
            for cell in results.cells:
                place = _place(results, cell, levels)
                for asked, column in zip(levels, shown, strict=True):
                    place[column.name] = place.pop(asked.name)
                for batch in rows(results, cell, long):
                    count = len(next(iter(batch.values())))
                    yield {**{name: [value] * count for name, value in place.items()}, **batch}

    return Table(of, long, (*PLACE, *shown, *own), batches)


def _level_columns(runs: Sequence[StudyResults]) -> tuple[Column, ...]:
    """A column for each factor that varies and that no row begins with."""
    found: dict[str, list[Level]] = {}
    known = {c.name for c in PLACE}
    for results in runs:
        for name, levels in results.study.vary.items():
            if name not in known:
                found.setdefault(name, []).extend(levels)
    meaning = {n: f.meaning for results in runs for n, f in results.study.factors.items()}
    return tuple(
        Column(name, _kind(levels), f"level of the factor: {meaning.get(name, name)}") for name, levels in found.items()
    )


def _kind(levels: Sequence[Level]) -> ColumnKind:
    if all(isinstance(level, bool) for level in levels):
        return "switch"
    whole = all(isinstance(level, int) and not isinstance(level, bool) for level in levels)
    return "count" if whole else "text"


def _place(results: StudyResults, cell: CellResults, levels: Sequence[Column]) -> dict[str, Any]:
    settings, engine = cell.cell.settings, cell.kept.engine
    out: dict[str, Any] = {
        "study": results.study.name,
        "run": results.run.number or None,
        "definitions": results.definitions,
        "simulated": results.simulated(cell),
        "workload": fingerprint(workload(results.study, cell.cell)),
        "cell": cell.cell.key,
        "rig": settings["rig"],
        "engine": cell.cell.engine.name,
        "engine_name": engine.get("engine"),
        "engine_version": engine.get("version"),
        "model": settings["model"],
        "quantization": settings["quantization"],
    }
    for column in levels:
        level = settings.get(column.name)
        out[column.name] = str(level) if column.kind == "text" and level is not None else level
    return {name: neutralise(v, keep_newlines=False) if isinstance(v, str) else v for name, v in out.items()}


# cells
def _measure_columns(*, bounds: bool) -> tuple[Column, ...]:
    out: list[Column] = []
    for m in MEASURES.values():
        if not bounds and isinstance(m.source, OfCell | OfFacts):
            continue
        out.append(Column(m.name, "number", m.meaning, m.unit))
        if bounds:
            out += [
                Column(f"{m.name}_low", "number", "its lower bound", m.unit),
                Column(f"{m.name}_high", "number", "its upper bound", m.unit),
            ]
    return tuple(out)


def _cell_columns(*, long: bool) -> tuple[Column, ...]:
    return (*OF_CELL, *(LONG_CELL if long else _measure_columns(bounds=True)))


def _cells(results: StudyResults, cell: CellResults, long: bool) -> Iterator[Batch]:
    head: dict[str, Any] = {
        "state": cell.state,
        "repeats": cell.done,
        "repeats_wanted": cell.wanted,
        "repeats_failed": cell.kept.failed,
        "cautions": " ".join(c.code for c in cell.cautions),
    }
    if long:
        figures = [(m, cell.value(m.name)) for m in MEASURES.values()]
        columns = {name: [value] * len(figures) for name, value in head.items()}
        told = [_told(m.name, m.unit, f) for m, f in figures]
        yield columns | {c.name: [row.get(c.name) for row in told] for c in LONG_CELL}
        return
    for name in MEASURES:
        figure = cell.value(name)
        three = (figure.value, figure.low, figure.high) if isinstance(figure, Value) else (None,) * 3
        head.update(zip((name, f"{name}_low", f"{name}_high"), three, strict=True))
    yield {name: [value] for name, value in head.items()}


def _told(name: str, unit: str, figure: object) -> dict[str, Any]:
    if isinstance(figure, Value):
        return {
            "measure": name,
            "unit": unit,
            "value": figure.value,
            "low": figure.low,
            "high": figure.high,
            "bound": figure.bound,
            "n": figure.n,
            "counts": figure.of,
        }
    return {"measure": name, "unit": unit, "missing": getattr(figure, "reason", "")}


# repeats
def _repeat_columns(*, long: bool) -> tuple[Column, ...]:
    return (*OF_REPEAT, *((MEASURE, UNIT, VALUE) if long else _measure_columns(bounds=False)))


def _repeats(results: StudyResults, cell: CellResults, long: bool) -> Iterator[Batch]:
    names = [c.name for c in _measure_columns(bounds=False)]
    for place, kept in enumerate(cell.read_repeats()):
        found = {name: _of_repeat(kept, name) for name in names}
        head = _repeat_head(kept, place)
        if long:
            units = [MEASURES[name].unit for name in names]
            columns: dict[str, list[Any]] = {"measure": names, "unit": units, "value": list(found.values())}
            yield {**{name: [value] * len(names) for name, value in head.items()}, **columns}
        else:
            yield {name: [value] for name, value in {**head, **found}.items()}


def _repeat_head(kept: KeptRepeat, place: int) -> dict[str, Any]:
    r = kept.repeat
    return {"repeat": r.repeat_id, "place": place, "block": r.block, "state": kept.state, "concurrency": r.concurrency}


def _of_repeat(kept: KeptRepeat, name: str) -> float | None:
    if kept.state != "measured":
        return None
    found = series([kept.repeat], name)
    return found[0] if found else None


# requests
def _request_columns(*, long: bool) -> tuple[Column, ...]:
    return (*OF_REPEAT, *((*KEPT, MEASURE, UNIT, VALUE) if long else OF_REQUEST))


def _requests(results: StudyResults, cell: CellResults, long: bool) -> Iterator[Batch]:
    for place, kept in enumerate(cell.read_repeats()):
        timelines = kept.repeat.timelines
        if not timelines:
            continue
        zero = min(t.sent_ns for t in timelines)
        wide: dict[str, list[Any]] = {r.column.name: [r.of(t, zero) for t in timelines] for r in REQUEST}
        head: dict[str, list[Any]] = {n: [v] * len(timelines) for n, v in _repeat_head(kept, place).items()}
        if not long:
            yield head | wide
            continue
        for column in MELTED:
            values = [None if v is None else float(v) for v in wide[column.name]]
            told: dict[str, list[Any]] = {
                "measure": [column.name] * len(values),
                "unit": [column.unit] * len(values),
                "value": values,
            }
            yield head | {c.name: wide[c.name] for c in KEPT} | told


# tokens
def _tokens(results: StudyResults, cell: CellResults, long: bool) -> Iterator[Batch]:
    for kept in cell.read_repeats():
        for t in kept.repeat.timelines:
            if len(t.stamps):
                yield _tokens_of(kept, t)


def _tokens_of(kept: KeptRepeat, t: Timeline) -> Batch:
    counted = t.counted_by == "chunk-counts"
    per_chunk = t.chunk_tokens.astype(np.int64) if counted else np.ones(len(t.stamps), dtype=np.int64)
    chunk = np.repeat(np.arange(len(t.stamps)), per_chunk)
    at = (t.stamps[chunk] - t.sent_ns) / NS_PER_S
    gaps = np.diff(at)
    n = len(chunk)
    alike: dict[str, Any] = {
        "repeat": kept.repeat.repeat_id,
        "block": kept.repeat.block,
        "request": t.request_id,
        "counts": _counts(t),
        "counted_by": "chunk-counts" if counted else "chunks",
    }
    return {
        **{name: [value] * n for name, value in alike.items()},
        "token": list(range(n)),
        "chunk": chunk.tolist(),
        "came_at": at.tolist(),
        "gap": [None, *gaps.tolist()][:n],
    }
