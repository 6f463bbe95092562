"""Reading back: the list on the shelf, a run by its name, its cells by their summaries, one cell whole."""

from __future__ import annotations

import re
import time
from collections import defaultdict
from dataclasses import dataclass
from functools import partial
from typing import Any, cast

import sqlalchemy as sa

from zinc_kettle.core.facts import EngineFacts, RunFacts
from zinc_kettle.core.plan.study import Study
from zinc_kettle.core.results import CellKept, Failure, RunInfo, RunState, StudyResults, cell_kept
from zinc_kettle.core.run.schedule import widened
from zinc_kettle.core.summary import CATALOGUE, EMPTY, CellSummary
from zinc_kettle.core.text import is_hidden, shorten
from zinc_kettle.errors import StoreError, UsageError
from zinc_kettle.store import schema as s
from zinc_kettle.store.plans import study_of
from zinc_kettle.store.rows import counts, engine_facts, engines_of, failure_of, json_object, run_facts
from zinc_kettle.store.store import KettleStore
from zinc_kettle.store.summaries import decode_summary

MOST_SHOWN = 80
_PLACE = re.compile(r"^(?P<name>.+?)(?::(?P<run>\d+))?$")


@dataclass(frozen=True, slots=True)
class RunRow:
    """A run in the list."""

    run_id: str
    number: int
    state: RunState
    created_s: float
    simulated: bool
    facts: RunFacts
    repeats_done: int
    answer: str | None
    """As it was kept; None where it has to be found from the figures."""
    answer_by: str
    engine: EngineFacts
    """What the engine of its last launch said of itself."""


@dataclass(frozen=True, slots=True)
class StudyRow:
    """A study in the list, with its runs, newest first."""

    study_id: str
    name: str
    question: str
    plan_key: str
    engines: tuple[str, ...]
    """Those it varies; empty where it has only one."""
    runs: tuple[RunRow, ...]


def shelf(store: KettleStore, *, binned: bool = False) -> list[StudyRow]:
    """All studies that have a run, the one measured last first.

    Args:
        store: The store.
        binned: Those that were thrown away instead, and are still in the bin.
    """
    there = s.runs.c.removed_s.is_not(None) if binned else s.runs.c.removed_s.is_(None)
    with store.reading() as db:
        studies = {row.id: row for row in db.execute(sa.select(s.studies))}
        measured = s.repeats.c.state == "measured"
        query = sa.select(s.repeats.c.run, sa.func.count()).where(measured).group_by(s.repeats.c.run)
        done = {run: int(count) for run, count in db.execute(query)}
        by_study: dict[str, list[RunRow]] = defaultdict(list)
        for row in db.execute(sa.select(s.runs).where(there).order_by(s.runs.c.number.desc())):
            by_study[row.study].append(_run_row(store, db, row, done.get(row.id, 0)))
    newest_first = sorted(by_study.items(), key=lambda item: max(run.created_s for run in item[1]), reverse=True)
    return [
        StudyRow(
            study_id,
            (row := studies[study_id]).name,
            row.question,
            row.plan_key,
            _varied_engines(row.plan),
            tuple(runs),
        )
        for study_id, runs in newest_first
    ]


def _varied_engines(plan: str) -> tuple[str, ...]:
    return tuple(str(name) for name in json_object(plan).get("vary", {}).get("engine", ()))


def _state(store: KettleStore, row: Any) -> RunState:
    """How a run stands; one whose tool has died is stopped, whatever it wrote last."""
    if row.state == "running" and not store.is_held(row.holder, row.heartbeat_s, wall_s=time.time()):
        return "stopped"
    return cast(RunState, row.state)


def _run_row(store: KettleStore, db: sa.Connection, row: Any, done: int) -> RunRow:
    last = sa.select(s.repeats.c.facts).where(s.repeats.c.run == row.id, s.repeats.c.facts.is_not(None))
    facts = db.execute(last.order_by(s.repeats.c.seq.desc()).limit(1)).scalar()
    return RunRow(
        row.id,
        row.number,
        _state(store, row),
        row.created_s,
        bool(row.simulated),
        run_facts(row.facts),
        done,
        row.answer,
        row.answer_by or "",
        engine_facts(facts) if facts else EngineFacts(),
    )


def running(store: KettleStore) -> list[str]:
    """Ids of the runs that are being measured now."""
    with store.reading() as db:
        going = s.runs.c.state == "running", s.runs.c.removed_s.is_(None)
        rows = db.execute(sa.select(s.runs).where(*going)).all()
        return [row.id for row in rows if _state(store, row) == "running"]


def is_running(store: KettleStore, run_id: str) -> bool:
    """True while a run is being measured, by a tool that still lives."""
    with store.reading() as db:
        row = db.execute(sa.select(s.runs).where(s.runs.c.id == run_id)).first()
        return row is not None and _state(store, row) == "running"


def other_runs(store: KettleStore, run_id: str, most: int) -> list[str]:
    """Ids of the other runs of the same study that are not being measured, newest first.

    Args:
        store: The store.
        run_id: The run.
        most: No more than so many.
    """
    study = sa.select(s.runs.c.study).where(s.runs.c.id == run_id).scalar_subquery()
    mine = s.runs.c.study == study, s.runs.c.id != run_id, s.runs.c.removed_s.is_(None), s.runs.c.state != "running"
    with store.reading() as db:
        return list(
            db.execute(sa.select(s.runs.c.id).where(*mine).order_by(s.runs.c.number.desc()).limit(most)).scalars()
        )


def find(store: KettleStore, place: str, *, binned: bool = False) -> str:
    """The id of a run: by its own id, or by its study's name or id, `STUDY` (the newest run) or `STUDY:RUN`.

    Args:
        store: The store.
        place: The name.
        binned: Of those that were thrown away.

    Raises:
        UsageError: There is none.
    """
    found = _PLACE.match(place)
    if found is None or any(is_hidden(char) for char in place):
        raise UsageError(f"{shorten(place, MOST_SHOWN)!r} is no name of a study", remedy="STUDY, or STUDY:RUN")
    name, number = found["name"], found["run"]
    rows = shelf(store, binned=binned)
    for study in rows:
        for run in study.runs:
            if place == run.run_id:
                return run.run_id
            if name in (study.name, study.study_id) and number in (None, str(run.number)):
                return run.run_id
    with store.reading() as db:
        former = db.execute(sa.select(s.runs.c.id).where(s.runs.c.former_id == place)).scalar()
    if former is not None:
        return str(former)
    runs = [str(run.number) for study in rows if study.name == name for run in reversed(study.runs)]
    if runs:
        raise UsageError(f"{name} has no run {number}", remedy=f"one of its runs: {', '.join(runs)}")
    known = ", ".join(dict.fromkeys(study.name for study in rows)) or "none yet"
    where = "bin" if binned else "store"
    raise UsageError(f"there is no study {shorten(name, MOST_SHOWN)!r} in the {where}", remedy=f"one of these: {known}")


def open_run(store: KettleStore, run_id: str) -> StudyResults:
    """A run with its cells; their requests are read when they are asked for.

    Raises:
        UsageError: There is no such run.
        StoreError: What was kept cannot be read.
    """
    study, info = _run(store, run_id)
    whole = widened(study, info.decisions)
    load = partial(store.repeats, run_id)
    with store.reading() as db:
        kept_counts = counts(db, run_id)
        failures, engines = _last_words(db, run_id)
        bodies = {row.cell: row for row in db.execute(sa.select(s.summaries).where(s.summaries.c.run == run_id))}
    kept: dict[str, CellKept] = {}
    for key, (done, failed) in kept_counts.items():
        if key not in whole.by_key:
            raise StoreError(
                "a stored repeat belongs to no cell of its plan", remedy="open it with a newer Zinc Kettle"
            )
        row = bodies.get(key)
        current = row is not None and (row.definitions, row.done, row.failed) == (CATALOGUE, done, failed)
        if row is not None and current:
            summary = partial(decode_summary, row.body)
        elif done or failed:
            summary = partial(_summarised, store, run_id, whole, info.facts, key)
        else:
            summary = partial(_nothing)
        kept[key] = CellKept(summary, done, failed, failures.get(key), engines.get(key, {}))
    return StudyResults(study, info, kept, load)


def order_of(store: KettleStore, run_id: str) -> dict[str, int]:
    """The place of each repeat in the order of its run, from 0, by its id."""
    with store.reading() as db:
        query = sa.select(s.repeats.c.id).where(s.repeats.c.run == run_id).order_by(s.repeats.c.seq)
        return {row.id: place for place, row in enumerate(db.execute(query))}


def _nothing() -> CellSummary:
    return EMPTY


def _summarised(store: KettleStore, run_id: str, study: Study, facts: RunFacts, key: str) -> CellSummary:
    """A cell whose summary is missing or of other definitions: computed from its requests, and kept."""
    found = cell_kept(study, study.by_key[key], facts, store.repeats(run_id, key)).summary
    assert isinstance(found, CellSummary)
    store.keep_summary(run_id, key, found)
    return found


def _run(store: KettleStore, run_id: str) -> tuple[Study, RunInfo]:
    with store.reading() as db:
        row = db.execute(
            sa.select(s.runs, s.studies.c.plan, s.studies.c.source).join(s.studies).where(s.runs.c.id == run_id)
        ).first()
        if row is None:
            raise UsageError(f"there is no run {run_id!r} in the store")
        notes = db.execute(
            sa.select(s.notes.c.cell, s.notes.c.text).where(s.notes.c.run == run_id).order_by(s.notes.c.id)
        )
        told = tuple((note.cell, note.text) for note in notes)
    info = RunInfo(
        run_id,
        row.study,
        row.number,
        _state(store, row),
        row.created_s,
        run_facts(row.facts),
        bool(row.simulated),
        row.source,
        store.decisions(run_id),
        told,
    )
    return study_of(row.plan), info


def _last_words(db: sa.Connection, run_id: str) -> tuple[dict[str, Failure], dict[str, EngineFacts]]:
    """The failure of the last repeat that failed, and the engine of the last that had one, by cell."""
    failures: dict[str, Failure] = {}
    mine = s.repeats.c.run == run_id
    query = sa.select(s.repeats.c.cell, s.repeats.c.failure).where(mine, s.repeats.c.failure.is_not(None))
    for cell, text in db.execute(query.order_by(s.repeats.c.seq)):
        failures[cell] = failure_of(text)
    return failures, engines_of(db, run_id)
