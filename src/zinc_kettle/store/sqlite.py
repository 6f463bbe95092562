"""The store: one SQLite file in write-ahead mode, private to the person, written in small transactions."""

from __future__ import annotations

import contextlib
import json
import os
import secrets
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import msgspec
import sqlalchemy as sa
from sqlalchemy.exc import DatabaseError

from zinc_kettle.core.fingerprint import DEFINITIONS_VERSION, fingerprint
from zinc_kettle.core.measures import Repeat
from zinc_kettle.core.plan import Run, Study, to_plain
from zinc_kettle.core.timeline import Timeline
from zinc_kettle.errors import StoreError, UsageError
from zinc_kettle.store import schema as s
from zinc_kettle.store.blocks import encode_block, encode_columns, trace_columns
from zinc_kettle.wire.convert import to_message
from zinc_kettle.wire.messages import Finished

BLOCK_REQUESTS = 256
BUSY_LIMIT_MS = 10_000
_encode = msgspec.msgpack.Encoder().encode
_decode = msgspec.msgpack.Decoder(Finished).decode


class SqliteStore:
    """Implements ports.Store for a file; reading is in store.reading."""

    def __init__(self, path: Path) -> None:
        """Open or create the store.

        Raises:
            StoreError: It cannot be opened, or is of a later version.
        """
        self.path = path
        try:
            path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            os.close(os.open(path, os.O_CREAT | os.O_RDWR, 0o600))
        except OSError as error:
            raise StoreError(
                f"the store {path.name} cannot be opened", why=str(error.strerror),
                remedy="choose another place with --store PATH",
            ) from error  # fmt: skip
        self._engine = sa.create_engine(f"sqlite:///{path}", poolclass=sa.pool.StaticPool)
        sa.event.listen(self._engine, "connect", _on_connect)
        with self._transaction() as db:
            s.metadata.create_all(db)
            version = db.execute(sa.select(s.meta.c.value).where(s.meta.c.key == "schema")).scalar()
            if version is None:
                db.execute(s.meta.insert().values(key="schema", value=str(s.SCHEMA_VERSION)))
            elif int(version) > s.SCHEMA_VERSION:
                raise StoreError(f"the store is of version {version}", remedy="open it with a newer Zinc Kettle")

    @contextlib.contextmanager
    def _transaction(self) -> Iterator[sa.Connection]:
        try:
            with self._engine.begin() as db:
                yield db
        except (DatabaseError, OSError) as error:
            raise StoreError(
                "the store could not be read or written",
                why=str(getattr(error, "orig", error)),
                remedy="free some disk, or choose another place with --store PATH",
            ) from error

    def close(self) -> None:
        """Close the file."""
        self._engine.dispose()

    # writing
    def begin(self, study: Study, *, source: str, facts: dict[str, Any], wall_s: float) -> str:
        """Register a study, or find the unfinished one of the same plan; see ports.Store.

        Raises:
            UsageError: Another copy of the tool is measuring it.
        """
        key = fingerprint(to_plain(study))
        with self._transaction() as db:
            found = db.execute(
                sa.select(s.studies.c.id, s.studies.c.runner)
                .where(s.studies.c.plan_key == key, s.studies.c.state.in_(("running", "stopped")))
                .order_by(s.studies.c.created_s.desc())
            ).first()
            if found is not None:
                if _is_running(found.runner):
                    raise UsageError(
                        f"{study.name} is being measured by another Zinc Kettle (process {found.runner})",
                        remedy="wait for it, or stop it there",
                    )
                self._resume(db, found.id)
                return str(found.id)
            study_id = f"{study.name}-{secrets.token_hex(3)}"
            db.execute(
                s.studies.insert().values(
                    id=study_id, name=study.name, question=study.question, plan_key=key,
                    plan=json.dumps(to_plain(study)), source=source, facts=json.dumps(facts), created_s=wall_s,
                    state="running", simulated=int(bool(facts.get("simulated"))), runner=os.getpid(),
                )
            )  # fmt: skip
            return study_id

    def set_aside(self, study: Study) -> None:
        """Keep an unfinished run of the same plan as it is, so that the next begins anew."""
        key = fingerprint(to_plain(study))
        unfinished = s.studies.c.state.in_(("running", "stopped"))
        with self._transaction() as db:
            db.execute(
                s.studies.update().where(s.studies.c.plan_key == key, unfinished).values(plan_key=f"{key}-aside")
            )

    def _resume(self, db: sa.Connection, study_id: str) -> None:
        broken = s.repeats.update().where(s.repeats.c.study == study_id, s.repeats.c.state == "open")
        db.execute(broken.values(state="broken-off"))
        db.execute(s.studies.update().where(s.studies.c.id == study_id).values(state="running", runner=os.getpid()))

    def done_runs(self, study_id: str) -> set[tuple[int, int]]:
        """(block, cell) of every repeat that is measured or failed."""
        query = sa.select(s.repeats.c.block, s.repeats.c.cell).where(
            s.repeats.c.study == study_id, s.repeats.c.state.in_(("measured", "failed"))
        )
        with self._transaction() as db:
            return {(row.block, row.cell) for row in db.execute(query)}

    def measured(self, study_id: str) -> list[tuple[int, Repeat]]:
        """Cell and repeat of all that is measured, in the order it ran."""
        from zinc_kettle.store.reading import load

        return [(r.cell, r.repeat) for r in load(self, study_id).repeats if r.state == "measured"]

    def begin_repeat(self, study_id: str, run: Run, *, concurrency: int, launch: dict[str, Any] | None) -> str:
        """Open a repeat."""
        repeat_id = secrets.token_hex(6)
        with self._transaction() as db:
            seq = db.execute(sa.select(sa.func.count()).where(s.repeats.c.study == study_id)).scalar_one()
            db.execute(
                s.repeats.insert().values(
                    id=repeat_id, seq=seq, study=study_id, cell=run.cell, block=run.block,
                    concurrency=concurrency, state="open",
                    launch=None if launch is None else json.dumps(launch.get("launch")),
                    facts=None if launch is None else json.dumps(launch.get("facts")),
                )
            )  # fmt: skip
        return repeat_id

    def add_timeline(self, repeat_id: str, timeline: Timeline) -> None:
        """Keep one request; committed, and synced to the disk, when this returns."""
        body = _encode(to_message(timeline, episode=repeat_id))
        study = sa.select(s.repeats.c.study).where(s.repeats.c.id == repeat_id).scalar_subquery()
        with self._transaction() as db:
            db.execute(s.journal.insert().values(study=study, repeat=repeat_id, body=body))

    def end_repeat(self, repeat_id: str, repeat: Repeat) -> None:
        """Close a repeat with its telemetry and cost."""
        values: dict[str, Any] = {
            "state": "measured",
            "episode": json.dumps(_episode(repeat)),
            "launch": None if repeat.launch is None else json.dumps(msgspec.to_builtins(repeat.launch)),
        }
        trace = repeat.trace
        if trace is not None:
            values["trace"] = encode_columns(*trace_columns(trace))
        self._close(repeat_id, values)

    def fail_repeat(self, repeat_id: str, *, what: str, last_words: str) -> None:
        """Close a repeat that failed."""
        self._close(repeat_id, {"state": "failed", "failure": what, "last_words": last_words})

    def _close(self, repeat_id: str, values: dict[str, Any]) -> None:
        with self._transaction() as db:
            db.execute(s.repeats.update().where(s.repeats.c.id == repeat_id).values(**values))
            study = db.execute(sa.select(s.repeats.c.study).where(s.repeats.c.id == repeat_id)).scalar_one()
            waiting = db.execute(sa.select(sa.func.count()).where(s.journal.c.study == study)).scalar_one()
            if waiting >= BLOCK_REQUESTS:
                self._pack(db, study)

    def _pack(self, db: sa.Connection, study_id: str) -> None:
        """Move the journal of a study into blocks, in the same transaction."""
        query = sa.select(s.journal).where(s.journal.c.study == study_id).order_by(s.journal.c.id)
        rows = db.execute(query).all()
        for start in range(0, len(rows), BLOCK_REQUESTS):
            part = rows[start : start + BLOCK_REQUESTS]
            body = encode_block([(row.repeat, _decode(row.body)) for row in part])
            db.execute(s.blocks.insert().values(study=study_id, requests=len(part), body=body))
        db.execute(s.journal.delete().where(s.journal.c.study == study_id))

    def set_state(self, study_id: str, state: str) -> None:
        """Say how a study stands; a measured one is packed."""
        with self._transaction() as db:
            db.execute(s.studies.update().where(s.studies.c.id == study_id).values(state=state, runner=None))
            if state == "measured":
                self._pack(db, study_id)

    def keep_answer(self, study_id: str, answer: str) -> None:
        """Keep what the shelf says of a measured study."""
        with self._transaction() as db:
            db.execute(s.summaries.delete().where(s.summaries.c.study == study_id))
            db.execute(s.summaries.insert().values(study=study_id, definitions=DEFINITIONS_VERSION, answer=answer))

    def add_note(self, study_id: str, cell: int | None, text: str, *, wall_s: float) -> None:
        """Keep a note of the person's."""
        with self._transaction() as db:
            db.execute(s.notes.insert().values(study=study_id, cell=cell, text=text, created_s=wall_s))

    @contextlib.contextmanager
    def reading(self) -> Iterator[sa.Connection]:
        """A connection for store.reading."""
        with self._transaction() as db:
            yield db


def _on_connect(connection: Any, _record: Any) -> None:
    # FULL: each commit reaches the disk, so that power loss takes at most what had not been committed.
    for pragma in ("journal_mode=WAL", "synchronous=FULL", f"busy_timeout={BUSY_LIMIT_MS}", "foreign_keys=ON"):
        connection.execute(f"PRAGMA {pragma}")


def _is_running(pid: int | None) -> bool:
    if pid is None or pid == os.getpid():
        return False
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True


def _episode(repeat: Repeat) -> dict[str, Any]:
    trace = repeat.trace
    return {
        "driver_cpu_ns": repeat.driver_cpu_ns,
        "wall_ns": repeat.wall_ns,
        "extras": repeat.extras,
        "machine": None if repeat.machine is None else msgspec.to_builtins(repeat.machine),
        "sampler_cpu_ns": 0 if trace is None else trace.sampler_cpu_ns,
        "high_water_bytes": -1 if trace is None else trace.high_water_bytes,
        "energy_source": "" if trace is None else trace.energy_source,
    }
