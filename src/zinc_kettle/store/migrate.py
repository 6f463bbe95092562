"""From any earlier version of the store to this one, in one transaction: all of it, or nothing.

Each entry of MIGRATIONS takes a store of one version to the next. A newer store than ours is refused.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Any

import msgspec
import sqlalchemy as sa
from uuid_utils import uuid7

from zinc_kettle.core.plan.study import Study
from zinc_kettle.core.results import Failure
from zinc_kettle.errors import StoreError
from zinc_kettle.store import schema as s
from zinc_kettle.store.blocks import repeats_of
from zinc_kettle.store.plans import plan_key, plan_text, study_of
from zinc_kettle.store.requests import encode_request
from zinc_kettle.store.version1 import decode_journal_1

MOST_DIGITS = 6
FIRST_TABLES = ("studies", "repeats", "journal", "blocks", "summaries", "notes")


def migrate(db: sa.Connection) -> None:
    """Make a new store, or bring an old one forward.

    Raises:
        StoreError: It is of a later version, or what it holds cannot be read.
    """
    tables = sa.inspect(db).get_table_names()
    if "meta" not in tables:
        s.metadata.create_all(db)
        db.execute(s.meta.insert().values(key="schema", value=str(s.SCHEMA_VERSION)))
        return
    said = str(db.execute(sa.select(s.meta.c.value).where(s.meta.c.key == "schema")).scalar() or 1)
    if not (said.isascii() and said.isdecimal() and len(said) <= MOST_DIGITS and int(said)):
        raise StoreError(
            "the store has no version that could be read",
            why=f"it says {said!r:.40}",
            remedy="choose another store with --store PATH",
        )
    version = int(said)
    if version > s.SCHEMA_VERSION:
        raise StoreError(
            f"the store is of version {version}",
            why=f"this Zinc Kettle knows {s.SCHEMA_VERSION}",
            remedy="open it with a newer Zinc Kettle",
        )
    for step in range(version, s.SCHEMA_VERSION):
        MIGRATIONS[step](db)
        db.execute(s.meta.update().where(s.meta.c.key == "schema").values(value=str(step + 1)))


def _from_1(db: sa.Connection) -> None:
    """Studies and runs apart, cells by their levels, ids for good; blocks stay as they are."""
    there = sa.inspect(db).get_table_names()
    present = [name for name in FIRST_TABLES if name in there]  # the first stores had fewer
    for name in present:
        db.exec_driver_sql(f"ALTER TABLE {name} RENAME TO first_{name}")
    for name in ("ix_studies_plan_key", "repeats_by_study", "ix_journal_study", "ix_blocks_study", "ix_notes_study"):
        db.exec_driver_sql(f"DROP INDEX IF EXISTS {name}")
    s.metadata.create_all(db)
    old = {name: sa.Table(f"first_{name}", sa.MetaData(), autoload_with=db) for name in present}
    by_plan: dict[str, tuple[str, int]] = {}
    for row in db.execute(sa.select(old["studies"]).order_by(old["studies"].c.created_s)).all():
        _run_of_1(db, old, row, by_plan)
    for name in reversed(present):
        db.exec_driver_sql(f"DROP TABLE first_{name}")


def _run_of_1(db: sa.Connection, old: dict[str, sa.Table], row: Any, by_plan: dict[str, tuple[str, int]]) -> None:
    study = study_of(row.plan)
    key = plan_key(study)
    study_id, runs = by_plan.get(key, (str(uuid7()), 0))
    if not runs:
        db.execute(
            s.studies.insert().values(
                id=study_id,
                name=row.name,
                question=row.question,
                plan_key=key,
                plan=plan_text(study),
                source=row.source,
                created_s=row.created_s,
            )
        )
    by_plan[key] = study_id, runs + 1
    run_id = str(uuid7())
    db.execute(
        s.runs.insert().values(
            id=run_id,
            study=study_id,
            number=runs + 1,
            facts=row.facts,
            simulated=row.simulated,
            former_id=row.id,
            state="stopped" if row.state == "running" else row.state,
            created_s=row.created_s,
        )
    )
    _requests_of_1(db, old, row.id, run_id)
    _repeats_of_1(db, old, row.id, run_id, study)
    for note in db.execute(sa.select(old["notes"]).where(old["notes"].c.study == row.id).order_by("id")).all():
        cell = None if note.cell is None else study.cells[note.cell].key
        db.execute(s.notes.insert().values(run=run_id, cell=cell, text=note.text, created_s=note.created_s))


def _requests_of_1(db: sa.Connection, old: dict[str, sa.Table], former: str, run_id: str) -> None:
    blocks, journal = old["blocks"], old["journal"]
    for block in db.execute(sa.select(blocks).where(blocks.c.study == former).order_by(blocks.c.id)).all():
        db.execute(s.blocks.insert().values(id=block.id, run=run_id, requests=block.requests, body=block.body))
        for repeat in repeats_of(block.body):
            db.execute(s.block_repeats.insert().values(repeat=repeat, block=block.id))
    for row in db.execute(sa.select(journal).where(journal.c.study == former).order_by(journal.c.id)).all():
        try:
            body = encode_request(decode_journal_1(row.body))
        except msgspec.MsgspecError as error:
            raise StoreError("a request in the journal is damaged", why=str(error)) from error
        db.execute(s.journal.insert().values(run=run_id, repeat=row.repeat, body=body))


def _repeats_of_1(db: sa.Connection, old: dict[str, sa.Table], former: str, run_id: str, study: Study) -> None:
    repeats = old["repeats"]
    for row in db.execute(sa.select(repeats).where(repeats.c.study == former).order_by(repeats.c.seq)).all():
        cell = study.cells[row.cell]
        failure = None
        if row.failure:
            kind = "launch" if row.launch is None else "requests"
            failure = msgspec.json.encode(Failure(kind, row.failure, row.last_words or "")).decode()  # type: ignore[arg-type]
        db.execute(
            s.repeats.insert().values(
                id=row.id,
                run=run_id,
                seq=row.seq,
                cell=cell.key,
                levels=json.dumps(cell.levels),
                block=row.block,
                concurrency=row.concurrency,
                state="broken-off" if row.state == "open" else row.state,
                launch=row.launch,
                facts=row.facts,
                episode=row.episode,
                trace=row.trace,
                failure=failure,
            )
        )


def _from_2(db: sa.Connection) -> None:
    """Runs may be thrown away, and taken back."""
    if "removed_s" not in {column["name"] for column in sa.inspect(db).get_columns("runs")}:
        db.exec_driver_sql("ALTER TABLE runs ADD COLUMN removed_s FLOAT")


MIGRATIONS: dict[int, Callable[[sa.Connection], None]] = {1: _from_1, 2: _from_2}
"""By the version they start from."""
