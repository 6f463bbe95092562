"""Reading repeats and their requests from a connection: of one cell, or of a whole run."""

from __future__ import annotations

import contextlib
import gc
import json
from collections import defaultdict
from collections.abc import Iterator, Sequence
from typing import Any, TypeVar, cast

import msgspec
import sqlalchemy as sa

from zinc_kettle.core.facts import EngineFacts, RunFacts
from zinc_kettle.core.record.repeat import Repeat
from zinc_kettle.core.record.telemetry import Launch, Machine, Trace
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.core.results import Failure, KeptRepeat, RepeatState
from zinc_kettle.errors import StoreError
from zinc_kettle.store import schema as s
from zinc_kettle.store.blocks import decode_block, decode_columns, trace_of
from zinc_kettle.store.requests import decode_request

CHUNK = 400
"""Ids in one question: databases bound how many a statement may have."""

T = TypeVar("T")


def repeats_of_cell(db: sa.Connection, run_id: str, cell: str) -> list[KeptRepeat]:
    """All repeats of a cell with their requests, in the order they ran."""
    query = sa.select(s.repeats).where(s.repeats.c.run == run_id, s.repeats.c.cell == cell).order_by(s.repeats.c.seq)
    rows = db.execute(query).all()
    with _collector_off():
        timelines = _timelines(db, [row.id for row in rows])
    return [_kept(row, timelines.get(row.id, [])) for row in rows]


def repeats_of_run(db: sa.Connection, run_id: str) -> dict[str, list[KeptRepeat]]:
    """All repeats of a run with their requests, by cell."""
    rows = db.execute(sa.select(s.repeats).where(s.repeats.c.run == run_id).order_by(s.repeats.c.seq)).all()
    with _collector_off():
        timelines = _timelines_of_run(db, run_id)
    out: dict[str, list[KeptRepeat]] = defaultdict(list)
    for row in rows:
        out[row.cell].append(_kept(row, timelines.get(row.id, [])))
    return dict(out)


def counts(db: sa.Connection, run_id: str) -> dict[str, tuple[int, int]]:
    """Measured and failed repeats by cell, of cells that have any."""
    query = (
        sa.select(s.repeats.c.cell, s.repeats.c.state, sa.func.count())
        .where(s.repeats.c.run == run_id)
        .group_by(s.repeats.c.cell, s.repeats.c.state)
    )
    out: dict[str, tuple[int, int]] = {}
    for cell, state, count in db.execute(query):
        done, failed = out.get(cell, (0, 0))
        out[cell] = done + count * (state == "measured"), failed + count * (state == "failed")
    return out


def engines_of(db: sa.Connection, run_id: str) -> dict[str, EngineFacts]:
    """What the engine of the last repeat that had one reported, by cell."""
    mine = s.repeats.c.run == run_id
    last = (
        sa.select(sa.func.max(s.repeats.c.seq)).where(mine, s.repeats.c.facts.is_not(None)).group_by(s.repeats.c.cell)
    )
    out: dict[str, EngineFacts] = {}
    # Thousands of cells share few launches: the same text is read once.
    read: dict[str, EngineFacts] = {}
    for cell, text in db.execute(sa.select(s.repeats.c.cell, s.repeats.c.facts).where(mine, s.repeats.c.seq.in_(last))):
        if text not in read:
            read[text] = engine_facts(text)
        out[cell] = read[text]
    return out


def failure_of(text: str) -> Failure:
    """A failure as it was kept.

    Raises:
        StoreError: It is damaged.
    """
    try:
        return msgspec.json.decode(text, type=Failure)
    except msgspec.MsgspecError as error:
        raise StoreError("a stored failure cannot be read", why=str(error)) from error


@contextlib.contextmanager
def _collector_off() -> Iterator[None]:
    """Millions of objects that stay and point nowhere: going through all of them again and again costs a fifth."""
    was_on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was_on:
            gc.enable()


def _timelines(db: sa.Connection, repeats: Sequence[str]) -> dict[str, list[Timeline]]:
    """Requests of some repeats, from the blocks that hold any of them and from the journal."""
    wanted = set(repeats)
    out: dict[str, list[Timeline]] = defaultdict(list)
    seen: set[int] = set()
    for start in range(0, len(repeats), CHUNK):
        some = repeats[start : start + CHUNK]
        query = (
            sa.select(s.blocks.c.id, s.blocks.c.body)
            .where(s.blocks.c.id.in_(sa.select(s.block_repeats.c.block).where(s.block_repeats.c.repeat.in_(some))))
            .order_by(s.blocks.c.id)
        )
        for number, body in db.execute(query):
            if number not in seen:
                seen.add(number)
                _sort_in(out, decode_block(body), wanted)
    for start in range(0, len(repeats), CHUNK):
        pending = sa.select(s.journal).where(s.journal.c.repeat.in_(repeats[start : start + CHUNK]))
        for row in db.execute(pending.order_by(s.journal.c.id)):
            out[row.repeat].append(decode_request(row.body))
    return out


def _sort_in(out: dict[str, list[Timeline]], block: list[tuple[str, Timeline]], wanted: set[str]) -> None:
    for repeat, timeline in block:
        if repeat in wanted:
            out[repeat].append(timeline)


def _timelines_of_run(db: sa.Connection, run_id: str) -> dict[str, list[Timeline]]:
    out: dict[str, list[Timeline]] = defaultdict(list)
    for (body,) in db.execute(sa.select(s.blocks.c.body).where(s.blocks.c.run == run_id).order_by(s.blocks.c.id)):
        for repeat, timeline in decode_block(body):
            out[repeat].append(timeline)
    for row in db.execute(sa.select(s.journal).where(s.journal.c.run == run_id).order_by(s.journal.c.id)):
        out[row.repeat].append(decode_request(row.body))
    return out


def _kept(row: Any, timelines: list[Timeline]) -> KeptRepeat:
    episode = json_object(row.episode) if row.episode else {}
    machine = episode.get("machine")
    try:
        repeat = Repeat(
            repeat_id=row.id,
            block=row.block,
            concurrency=row.concurrency,
            timelines=tuple(timelines),
            launch=msgspec.json.decode(row.launch, type=Launch) if row.launch else None,
            machine=None if machine is None else msgspec.convert(machine, Machine),
            trace=_trace(row.trace, episode),
            driver_cpu_ns=episode.get("driver_cpu_ns", 0),
            wall_ns=episode.get("wall_ns", 0),
            extras=episode.get("extras", {}),
        )
    except msgspec.MsgspecError as error:
        raise StoreError("a stored repeat cannot be read", why=str(error)) from error
    return KeptRepeat(
        cast(RepeatState, row.state),
        repeat,
        failure_of(row.failure) if row.failure else None,
        engine_facts(row.facts) if row.facts else EngineFacts(),
    )


def _trace(data: bytes | None, episode: dict[str, Any]) -> Trace | None:
    return None if data is None else trace_of(decode_columns(data), episode)


def engine_facts(text: str) -> EngineFacts:
    """What an engine reported, as it was kept.

    Raises:
        StoreError: It is damaged.
    """
    return _decoded(text, EngineFacts)


def run_facts(text: str) -> RunFacts:
    """What is known of a run's machines, as it was kept.

    Raises:
        StoreError: It is damaged.
    """
    return _decoded(text, RunFacts)


def _decoded(text: str, kind: type[T]) -> T:
    try:
        return msgspec.json.decode(text, type=kind)
    except (msgspec.MsgspecError, RecursionError) as error:
        raise StoreError("a stored value cannot be read", why=str(error)) from error


def json_object(text: str) -> dict[str, Any]:
    """A kept object.

    Raises:
        StoreError: It is none.
    """
    try:
        value = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise StoreError("a stored value cannot be read", why=str(error)) from error
    if not isinstance(value, dict):
        raise StoreError("a stored value cannot be read", why="it is not an object")
    return value
