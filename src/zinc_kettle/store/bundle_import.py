"""Runs that were measured elsewhere, written whole into a store of their own."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

import msgspec
import sqlalchemy as sa

from zinc_kettle.core.plan.factors import Level
from zinc_kettle.core.plan.study import Study
from zinc_kettle.core.record.repeat import Repeat
from zinc_kettle.core.record.telemetry import Trace
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.core.results import KeptRepeat, RunInfo
from zinc_kettle.store import schema as s
from zinc_kettle.store.blocks import encode_columns, trace_columns
from zinc_kettle.store.plans import decision_text, plan_key, plan_text
from zinc_kettle.store.store import BLOCK_REQUESTS, KettleStore, add_block, episode_of, launch_text


@dataclass(frozen=True, slots=True)
class ImportedRepeat:
    """A repeat without its requests and its trace, as it is to be kept."""

    kept: KeptRepeat
    place: int
    """In the order of the run, from 0."""
    cell: str
    """Key of its cell."""
    levels: Mapping[str, Level]


class Intake:
    """Writes one run.

    Args:
        store: Where it is kept; it has no run of this id yet.
        study: As it was begun.
        info: The run: its ids, number, state, facts, decisions and notes.
    """

    def __init__(self, store: KettleStore, study: Study, info: RunInfo) -> None:
        self._store = store
        self._run = info.run_id
        with store.writing() as db:
            known = db.execute(sa.select(s.studies.c.id).where(s.studies.c.id == info.study_id)).first()
            if known is None:
                db.execute(
                    s.studies.insert().values(
                        id=info.study_id,
                        name=study.name,
                        question=study.question,
                        plan_key=plan_key(study),
                        plan=plan_text(study),
                        source=info.source,
                        created_s=info.created_s,
                    )
                )
            db.execute(
                s.runs.insert().values(
                    id=info.run_id,
                    study=info.study_id,
                    number=info.number,
                    state=info.state,
                    facts=json.dumps(info.facts),
                    simulated=int(info.simulated),
                    created_s=info.created_s,
                )
            )
            for decision in info.decisions:
                db.execute(s.decisions.insert().values(run=info.run_id, body=decision_text(decision)))
            for cell, text in info.notes:
                note = {"run": info.run_id, "cell": cell, "text": text, "created_s": info.created_s}
                db.execute(s.notes.insert().values(**note))

    def repeats(self, arrived: Iterable[ImportedRepeat]) -> None:
        """Keep repeats."""
        with self._store.writing() as db:
            for one in arrived:
                db.execute(s.repeats.insert().values(**self._values(one)))

    def _values(self, one: ImportedRepeat) -> dict[str, object]:
        kept, repeat = one.kept, one.kept.repeat
        return {
            "id": repeat.repeat_id,
            "run": self._run,
            "seq": one.place,
            "cell": one.cell,
            "levels": json.dumps(one.levels),
            "block": repeat.block,
            "concurrency": repeat.concurrency,
            "state": "broken-off" if kept.state == "open" else kept.state,
            "launch": None if repeat.launch is None else launch_text(repeat.launch),
            "facts": json.dumps(kept.facts) if kept.facts else None,
            "episode": json.dumps(episode_of(repeat)) if kept.state == "measured" else None,
            "failure": None if kept.failure is None else msgspec.json.encode(kept.failure).decode(),
        }

    def traces(self, traced: Iterable[tuple[Repeat, Trace]]) -> None:
        """Keep the traces of repeats that are kept."""
        with self._store.writing() as db:
            for repeat, trace in traced:
                values = {"trace": encode_columns(*trace_columns(trace)), "episode": json.dumps(episode_of(repeat))}
                db.execute(s.repeats.update().where(s.repeats.c.id == repeat.repeat_id).values(**values))

    def requests(self, rows: Sequence[tuple[str, Timeline]]) -> None:
        """Keep requests, each with the id of its repeat."""
        with self._store.writing() as db:
            for start in range(0, len(rows), BLOCK_REQUESTS):
                add_block(db, self._run, rows[start : start + BLOCK_REQUESTS])
