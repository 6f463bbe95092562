"""Reading studies back: the list on the shelf, and one study whole."""

from __future__ import annotations

import contextlib
import gc
import json
from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, cast

import msgspec
import sqlalchemy as sa

from zinc_kettle.core.fingerprint import DEFINITIONS_VERSION
from zinc_kettle.core.measures import Repeat
from zinc_kettle.core.plan import from_plain
from zinc_kettle.core.record import RepeatRecord, RepeatState, StudyRecord, StudyState
from zinc_kettle.core.telemetry import Launch, Machine, Trace
from zinc_kettle.core.timeline import Timeline
from zinc_kettle.errors import UsageError
from zinc_kettle.store import schema as s
from zinc_kettle.store.blocks import decode_block, decode_columns, trace_of
from zinc_kettle.store.sqlite import SqliteStore
from zinc_kettle.wire.convert import to_timeline
from zinc_kettle.wire.messages import Finished

_decode = msgspec.msgpack.Decoder(Finished).decode


@dataclass(frozen=True, slots=True)
class ShelfRow:
    """A study in the list."""

    study_id: str
    name: str
    question: str
    state: StudyState
    created_s: float
    simulated: bool
    facts: dict[str, Any]
    repeats_done: int
    answer: str | None
    """As it was kept; None where it has to be found from the figures."""


def shelf(store: SqliteStore) -> list[ShelfRow]:
    """All studies, newest first."""
    done = (
        sa.select(sa.func.count())
        .where(s.repeats.c.study == s.studies.c.id, s.repeats.c.state == "measured")
        .scalar_subquery()
    )
    current = sa.and_(s.summaries.c.study == s.studies.c.id, s.summaries.c.definitions == DEFINITIONS_VERSION)
    query = (
        sa.select(s.studies, done.label("done"), s.summaries.c.answer)
        .outerjoin(s.summaries, current)
        .order_by(s.studies.c.created_s.desc())
    )
    with store.reading() as db:
        return [
            ShelfRow(
                row.id, row.name, row.question, cast(StudyState, row.state), row.created_s, bool(row.simulated),
                json.loads(row.facts), row.done,
                row.answer,
            )
            for row in db.execute(query)
        ]  # fmt: skip


def find(store: SqliteStore, name: str) -> str:
    """The id of the newest study of this id or name.

    Raises:
        UsageError: There is none.
    """
    rows = shelf(store)
    for row in rows:
        if name in (row.study_id, row.name):
            return row.study_id
    known = ", ".join(dict.fromkeys(row.name for row in rows)) or "none yet"
    raise UsageError(f"there is no study {name!r} in the store", remedy=f"one of these: {known}")


def load(store: SqliteStore, study_id: str) -> StudyRecord:
    """One study with all its repeats and timelines.

    Raises:
        UsageError: There is no such study.
        StoreError: What was kept cannot be read.
    """
    with store.reading() as db:
        row = db.execute(sa.select(s.studies).where(s.studies.c.id == study_id)).first()
        if row is None:
            raise UsageError(f"there is no study {study_id!r} in the store")
        with _collector_off():
            timelines = _timelines(db, study_id)
        query = sa.select(s.repeats).where(s.repeats.c.study == study_id).order_by(s.repeats.c.seq)
        repeats = tuple(_repeat(r, timelines.get(r.id, [])) for r in db.execute(query))
        notes = db.execute(
            sa.select(s.notes.c.cell, s.notes.c.text).where(s.notes.c.study == study_id).order_by(s.notes.c.id)
        ).all()
    return StudyRecord(
        study_id=row.id,
        study=from_plain(json.loads(row.plan)),
        state=cast(StudyState, row.state),
        created_s=row.created_s,
        facts=json.loads(row.facts),
        simulated=bool(row.simulated),
        source=row.source,
        repeats=repeats,
        notes=tuple((n.cell, n.text) for n in notes),
    )


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


def _timelines(db: sa.Connection, study_id: str) -> dict[str, list[Timeline]]:
    out: dict[str, list[Timeline]] = defaultdict(list)
    query = sa.select(s.blocks.c.body).where(s.blocks.c.study == study_id).order_by(s.blocks.c.id)
    for (body,) in db.execute(query):
        for repeat, timeline in decode_block(body):
            out[repeat].append(timeline)
    pending = sa.select(s.journal).where(s.journal.c.study == study_id).order_by(s.journal.c.id)
    for row in db.execute(pending):
        out[row.repeat].append(to_timeline(_decode(row.body)))
    return out


def _repeat(row: Any, timelines: list[Timeline]) -> RepeatRecord:
    episode = json.loads(row.episode) if row.episode else {}
    launch = json.loads(row.launch) if row.launch else None
    machine = episode.get("machine")
    repeat = Repeat(
        repeat_id=row.id,
        block=row.block,
        concurrency=row.concurrency,
        timelines=tuple(timelines),
        launch=None if launch is None else Launch(**launch),
        machine=None if machine is None else Machine(**machine),
        trace=_trace(row.trace, episode),
        driver_cpu_ns=episode.get("driver_cpu_ns", 0),
        wall_ns=episode.get("wall_ns", 0),
        extras=episode.get("extras", {}),
    )
    return RepeatRecord(
        cell=row.cell,
        state=cast(RepeatState, row.state),
        repeat=repeat,
        failure=row.failure or "",
        last_words=row.last_words or "",
        facts=json.loads(row.facts) if row.facts else {},
    )


def _trace(data: bytes | None, episode: dict[str, Any]) -> Trace | None:
    return None if data is None else trace_of(decode_columns(data), episode)
