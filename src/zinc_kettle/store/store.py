"""The store: studies with their runs, written in small transactions, append-only for what is measured and decided."""

from __future__ import annotations

import contextlib
import json
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from threading import RLock
from typing import Any

import msgspec
import sqlalchemy as sa
from sqlalchemy.exc import DatabaseError
from uuid_utils import uuid7

from zinc_kettle.core.facts import EngineFacts, RunFacts
from zinc_kettle.core.plan.study import Cell, Study
from zinc_kettle.core.record.repeat import Repeat
from zinc_kettle.core.record.telemetry import Launch
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.core.results import Failure, KeptRepeat
from zinc_kettle.core.run.decisions import GIVES_WORK, Decision, Step
from zinc_kettle.core.run.schedule import Tally
from zinc_kettle.core.summary import CATALOGUE, CellSummary, series
from zinc_kettle.errors import RunHeldError, StoreError, UsageError
from zinc_kettle.store import schema as s
from zinc_kettle.store.blocks import encode_block, encode_columns, repeats_of, trace_columns
from zinc_kettle.store.migrate import migrate
from zinc_kettle.store.plans import decision_of, decision_text, plan_key, plan_text, study_of
from zinc_kettle.store.requests import decode_request, encode_request
from zinc_kettle.store.rows import engines_of, repeats_of_cell, repeats_of_run
from zinc_kettle.store.sqlite import STORE_ID, WRITES, open_engine
from zinc_kettle.store.summaries import encode_summary

BLOCK_REQUESTS = 256
LEASE_S = 15.0
"""A run whose holder has not said so for this long may be taken over; five missed heartbeats."""


BIN_DAYS = 30
"""A run that was thrown away can be taken back for so long."""


def new_id() -> str:
    """A globally unique id; later ones sort after earlier ones."""
    return str(uuid7())


class KettleStore:
    """Implements ports.Store; reading is in store.reading.

    Args:
        path: The file.
        holder: Who this is, for leases: unique to this process.
        is_gone: Tells of another holder whether it has certainly ended, so that its lease need not run out.
        borrowed: Somebody else's: read only; what a person would add to it is refused with this remedy.

    Raises:
        StoreError: It cannot be opened, or is of a later version.
    """

    def __init__(
        self,
        path: Path,
        *,
        holder: str = "",
        is_gone: Callable[[str], bool] = lambda _holder: False,
        borrowed: str = "",
    ) -> None:
        self.path = path
        self._borrowed = borrowed
        self.holder = holder or new_id()
        self._is_gone = is_gone
        self._engine = open_engine(path)
        self._writing = RLock()
        """One writer in this process at a time; others' writers are kept off by the file."""
        with self.writing() as db:
            migrate(db)

    @contextlib.contextmanager
    def _connection(self, **options: Any) -> Iterator[sa.Connection]:
        try:
            with self._engine.connect().execution_options(**options) as db, db.begin():
                yield db
        except (DatabaseError, OSError) as error:
            raise StoreError(
                "the store could not be read or written",
                why=str(getattr(error, "orig", error)),
                remedy="free some disk space, or choose another place with --store PATH",
            ) from error

    @contextlib.contextmanager
    def writing(self) -> Iterator[sa.Connection]:
        """A transaction that may write; committed at its end, undone by an error."""
        with self._writing, self._connection(**{WRITES: True}) as db:
            yield db

    @contextlib.contextmanager
    def reading(self) -> Iterator[sa.Connection]:
        """A transaction that sees the store as it was when it began, whatever is written meanwhile."""
        with self._connection() as db:
            yield db

    def close(self) -> None:
        """Close the file."""
        self._engine.dispose()

    def own_id(self) -> str:
        """The id of the store, given to it where it has none yet."""
        here = s.meta.c.key == STORE_ID
        with self.writing() as db:
            found = db.execute(sa.select(s.meta.c.value).where(here)).scalar()
            if found is None:
                found = new_id()
                db.execute(s.meta.insert().values(key=STORE_ID, value=found))
            return str(found)

    def _check_own(self) -> None:
        if self._borrowed:
            raise UsageError(
                "this store is somebody else's, and is only read", remedy=self._borrowed, code="borrowed-store"
            )

    # runs
    def begin(self, study: Study, *, source: str, facts: RunFacts, wall_s: float, fresh: bool = False) -> str:
        """Take up the unfinished run of a plan, or begin a new one beside those there are; see ports.Store.

        Args:
            study: The study.
            source: The study file as it was; empty where there was none.
            facts: Of the machines.
            wall_s: Seconds since 1970.
            fresh: Begin a new run even where one was stopped.
        """
        self._check_own()
        with self.writing() as db:
            study_id = self._study(db, study, source, wall_s)
            mine = sa.select(s.runs).where(s.runs.c.study == study_id).order_by(s.runs.c.number.desc())
            last = db.execute(mine).first()
            newest = db.execute(mine.where(s.runs.c.removed_s.is_(None))).first()
            if newest is not None and newest.state != "measured" and not fresh:
                self._take(db, newest, study.name, wall_s)
                return str(newest.id)
            self._end_abandoned(db, study_id, wall_s)
            run_id = new_id()
            db.execute(
                s.runs.insert().values(
                    id=run_id,
                    study=study_id,
                    number=1 if last is None else last.number + 1,
                    state="running",
                    facts=json.dumps(facts),
                    simulated=int(bool(facts.get("simulated"))),
                    created_s=wall_s,
                    holder=self.holder,
                    heartbeat_s=wall_s,
                )
            )
            return run_id

    def _study(self, db: sa.Connection, study: Study, source: str, wall_s: float) -> str:
        key = plan_key(study)
        found = self._asked_anew(db, study, key, source)
        if found is None:
            found = new_id()
            db.execute(
                s.studies.insert().values(
                    id=found,
                    name=study.name,
                    question=study.question,
                    plan_key=key,
                    plan=plan_text(study),
                    source=source,
                    created_s=wall_s,
                )
            )
        return found

    def ask(self, study: Study, *, source: str) -> bool:
        """Let all runs of a kept study decide what its plan says now; False where that is what they decide already."""
        key = plan_key(study)
        with self.reading() as db:
            kept = db.execute(sa.select(s.studies.c.plan).where(s.studies.c.plan_key == key)).scalar()
        if kept is None or study_of(kept).decide == study.decide:
            return False
        with self.writing() as db:
            return self._asked_anew(db, study, key, source) is not None

    def _asked_anew(self, db: sa.Connection, study: Study, key: str, source: str) -> str | None:
        """The id of a kept study, which decides what the plan says now; None where there is none.

        What is to be decided is no part of what is measured.
        """
        row = db.execute(sa.select(s.studies.c.id, s.studies.c.plan).where(s.studies.c.plan_key == key)).first()
        if row is None:
            return None
        kept, found = study_of(row.plan), str(row.id)
        if kept.decide != study.decide:
            plan = plan_text(replace(kept, decide=study.decide))
            db.execute(s.studies.update().where(s.studies.c.id == found).values(plan=plan, source=source))
            db.execute(s.runs.update().where(s.runs.c.study == found).values(answer=None, answer_by=None))
        return found

    def _take(self, db: sa.Connection, run: Any, name: str, wall_s: float) -> None:
        if run.holder != self.holder and self.is_held(run.holder, run.heartbeat_s, wall_s=wall_s):
            raise RunHeldError(name, heartbeat_s=run.heartbeat_s, lease_s=LEASE_S)
        broken = s.repeats.update().where(s.repeats.c.run == run.id, s.repeats.c.state == "open")
        db.execute(broken.values(state="broken-off"))
        mine = {"state": "running", "holder": self.holder, "heartbeat_s": wall_s}
        db.execute(s.runs.update().where(s.runs.c.id == run.id).values(**mine))

    def _end_abandoned(self, db: sa.Connection, study_id: str, wall_s: float) -> None:
        """Runs of a study whose tool was killed are stopped, also where nobody takes them up."""
        going = sa.select(s.runs).where(s.runs.c.study == study_id, s.runs.c.state == "running")
        for run in db.execute(going).all():
            if not self.is_held(run.holder, run.heartbeat_s, wall_s=wall_s):
                stopped = {"state": "stopped", "holder": None, "heartbeat_s": None}
                db.execute(s.runs.update().where(s.runs.c.id == run.id).values(**stopped))

    def is_held(self, holder: str | None, heartbeat_s: float | None, *, wall_s: float) -> bool:
        """True where a run's lease has not run out and its holder is not known to have ended."""
        if holder is None or holder == self.holder:
            return holder is not None
        return wall_s - (heartbeat_s or 0.0) < LEASE_S and not self._is_gone(holder)

    def beat(self, run_id: str, *, wall_s: float) -> None:
        """Say that this run is still being measured here.

        Raises:
            StoreError: Somebody else has taken it over; nothing more must be written to it.
        """
        with self.writing() as db:
            mine = s.runs.update().where(s.runs.c.id == run_id, s.runs.c.holder == self.holder)
            if not db.execute(mine.values(heartbeat_s=wall_s)).rowcount:
                raise StoreError(
                    "another Zinc Kettle has taken over this run",
                    why=f"this one did not respond for {LEASE_S:g} s",
                    remedy="continue there",
                )

    def set_state(self, run_id: str, state: str) -> None:
        """Say how a run stands, and let go of it where it is no longer running; a measured one is packed.

        Nothing is said of a run that another tool has taken over: it is theirs now.
        """
        with self.writing() as db:
            values = {"state": state} if state == "running" else {"state": state, "holder": None, "heartbeat_s": None}
            mine = s.runs.update().where(s.runs.c.id == run_id, s.runs.c.holder == self.holder)
            if db.execute(mine.values(**values)).rowcount and state == "measured":
                self._pack(db, run_id)

    # thrown away
    def remove(self, run_id: str, *, wall_s: float) -> None:
        """Throw a run away; it is kept in the bin for BIN_DAYS.

        Raises:
            RunHeldError: It is being measured.
        """
        self._check_own()
        with self.writing() as db:
            run = db.execute(sa.select(s.runs).where(s.runs.c.id == run_id)).one()
            if run.state == "running" and self.is_held(run.holder, run.heartbeat_s, wall_s=wall_s):
                name = db.execute(sa.select(s.studies.c.name).where(s.studies.c.id == run.study)).scalar_one()
                raise RunHeldError(name, heartbeat_s=run.heartbeat_s, lease_s=LEASE_S)
            db.execute(s.runs.update().where(s.runs.c.id == run_id).values(removed_s=wall_s))

    def restore(self, run_id: str) -> None:
        """Take a run back out of the bin."""
        with self.writing() as db:
            db.execute(s.runs.update().where(s.runs.c.id == run_id).values(removed_s=None))

    def empty_bin(self, *, wall_s: float) -> int:
        """Delete for good what has been in the bin for longer than BIN_DAYS; returns how many runs."""
        before = wall_s - BIN_DAYS * 86_400.0
        with self.reading() as db:  # nobody is kept from writing where there is nothing to do
            old = list(db.execute(sa.select(s.runs.c.id).where(s.runs.c.removed_s < before)).scalars())
        if old:
            with self.writing() as db:
                for run in old:
                    delete_run(db, run)
                db.execute(s.studies.delete().where(~sa.exists().where(s.runs.c.study == s.studies.c.id)))
        return len(old)

    # decisions
    def decide(self, run_id: str, decision: Decision) -> None:
        """Add a decision to the log of a run; a measured one that is the newest of its study is open again where the
        decision gives it more to measure."""
        self._check_own()
        with self.writing() as db:
            db.execute(s.decisions.insert().values(run=run_id, body=decision_text(decision)))
            if isinstance(decision, GIVES_WORK):
                run = db.execute(sa.select(s.runs.c.study, s.runs.c.number).where(s.runs.c.id == run_id)).one()
                mine = s.runs.c.study == run.study, s.runs.c.removed_s.is_(None)
                newest = db.execute(sa.select(sa.func.max(s.runs.c.number)).where(*mine)).scalar()
                if run.number == newest:
                    measured = s.runs.update().where(s.runs.c.id == run_id, s.runs.c.state == "measured")
                    db.execute(measured.values(state="stopped"))

    def decisions(self, run_id: str) -> tuple[Decision, ...]:
        """What was decided, in order."""
        query = sa.select(s.decisions.c.body).where(s.decisions.c.run == run_id).order_by(s.decisions.c.id)
        with self.reading() as db:
            return tuple(decision_of(body) for (body,) in db.execute(query))

    def last_step(self, run_id: str) -> Step | None:
        """What is being measured, or was last; None where nothing was begun."""
        query = sa.select(s.repeats.c.block, s.repeats.c.cell).where(s.repeats.c.run == run_id)
        with self.reading() as db:
            row = db.execute(query.order_by(s.repeats.c.seq.desc()).limit(1)).first()
        return None if row is None else Step(row.block, row.cell)

    # repeats
    def done(self, run_id: str, measure: str | None = None) -> dict[str, Tally]:
        """What each cell has: blocks that are measured or failed, and a measure of each measured repeat."""
        finished = s.repeats.c.state.in_(("measured", "failed"))
        asked = sa.select(s.repeats.c.cell, s.repeats.c.block, s.repeats.c.state)
        out: dict[str, Tally] = {}
        with self.reading() as db:
            # In the order of their states: what was measured in the end takes back that it failed before.
            rows = asked.where(s.repeats.c.run == run_id, finished).order_by(s.repeats.c.state)
            for cell, block, state in db.execute(rows):
                out[cell] = out.get(cell, Tally()).with_repeat(block, failed=state == "failed")
        return out if measure is None else {cell: self._tally(run_id, cell, t, measure) for cell, t in out.items()}

    def _tally(self, run_id: str, cell: str, found: Tally, measure: str) -> Tally:
        measured = [r.repeat for r in self.repeats(run_id, cell) if r.state == "measured"]
        pairs = [(value, r.block) for r in measured for value in series([r], measure)]
        return replace(found, values=tuple(value for value, _ in pairs), at=tuple(block for _, block in pairs))

    def engines(self, run_id: str) -> dict[str, EngineFacts]:
        """What the engine of each cell's last repeat reported, by the cell's key."""
        with self.reading() as db:
            return engines_of(db, run_id)

    def repeats(self, run_id: str, cell: str) -> list[KeptRepeat]:
        """All repeats of a cell with their requests, in the order they ran."""
        with self.reading() as db:
            return repeats_of_cell(db, run_id, cell)

    def all_repeats(self, run_id: str) -> dict[str, list[KeptRepeat]]:
        """All repeats of a run with their requests, by cell."""
        with self.reading() as db:
            return repeats_of_run(db, run_id)

    def begin_repeat(
        self,
        run_id: str,
        cell: Cell,
        block: int,
        *,
        concurrency: int,
        launch: Launch | None = None,
        facts: EngineFacts | None = None,
    ) -> str:
        """Open a repeat.

        Args:
            run_id: The run.
            cell: The cell.
            block: Counted from 0.
            concurrency: Requests in flight at once.
            launch: The launch it runs in; None where the engine did not start.
            facts: What that engine reported.
        """
        repeat_id = new_id()
        with self.writing() as db:
            last = db.execute(sa.select(sa.func.max(s.repeats.c.seq)).where(s.repeats.c.run == run_id)).scalar()
            db.execute(
                s.repeats.insert().values(
                    id=repeat_id,
                    run=run_id,
                    seq=0 if last is None else last + 1,
                    cell=cell.key,
                    levels=json.dumps(cell.levels),
                    block=block,
                    concurrency=concurrency,
                    state="open",
                    launch=None if launch is None else launch_text(launch),
                    facts=None if facts is None else json.dumps(facts),
                )
            )
        return repeat_id

    def add_timeline(self, repeat_id: str, timeline: Timeline) -> None:
        """Keep one request; committed, and synced to the disk, when this returns."""
        body = encode_request(timeline)
        run = sa.select(s.repeats.c.run).where(s.repeats.c.id == repeat_id).scalar_subquery()
        with self.writing() as db:
            db.execute(s.journal.insert().values(run=run, repeat=repeat_id, body=body))

    def end_repeat(self, repeat_id: str, repeat: Repeat) -> None:
        """Close a repeat with its telemetry and cost."""
        values: dict[str, Any] = {
            "state": "measured",
            "episode": json.dumps(episode_of(repeat)),
            "launch": None if repeat.launch is None else launch_text(repeat.launch),
        }
        if repeat.trace is not None:
            values["trace"] = encode_columns(*trace_columns(repeat.trace))
        self._close(repeat_id, values)

    def fail_repeat(self, repeat_id: str, failure: Failure) -> None:
        """Close a repeat that failed."""
        self._close(repeat_id, {"state": "failed", "failure": msgspec.json.encode(failure).decode()})

    def _close(self, repeat_id: str, values: dict[str, Any]) -> None:
        with self.writing() as db:
            db.execute(s.repeats.update().where(s.repeats.c.id == repeat_id).values(**values))
            run = db.execute(sa.select(s.repeats.c.run).where(s.repeats.c.id == repeat_id)).scalar_one()
            waiting = db.execute(sa.select(sa.func.count()).where(s.journal.c.run == run)).scalar_one()
            if waiting >= BLOCK_REQUESTS:
                self._pack(db, run)

    def _pack(self, db: sa.Connection, run_id: str) -> None:
        """Move the journal of a run into blocks, in the same transaction."""
        query = sa.select(s.journal).where(s.journal.c.run == run_id).order_by(s.journal.c.id)
        rows = [(row.repeat, decode_request(row.body)) for row in db.execute(query)]
        for start in range(0, len(rows), BLOCK_REQUESTS):
            add_block(db, run_id, rows[start : start + BLOCK_REQUESTS])
        db.execute(s.journal.delete().where(s.journal.c.run == run_id))

    def keep_summary(self, run_id: str, cell: str, summary: CellSummary) -> None:
        """Keep what is told of a cell, under the definitions of now."""
        values = {"definitions": CATALOGUE, "done": summary.done, "failed": summary.failed}
        here = s.summaries.c.run == run_id, s.summaries.c.cell == cell
        with self.writing() as db:
            db.execute(s.summaries.delete().where(*here))
            body = encode_summary(summary)
            db.execute(s.summaries.insert().values(run=run_id, cell=cell, body=body, **values))

    def forget_derived(self) -> None:
        """Forget what was computed from the measurements, so that it is computed again."""
        with self.writing() as db:
            db.execute(s.summaries.delete())
            db.execute(s.runs.update().values(answer=None, answer_by=None))

    def keep_answer(self, run_id: str, answer: str, *, by: str) -> None:
        """Keep what the shelf says of a measured run, and which version of the tool and its definitions said it."""
        with self.writing() as db:
            db.execute(s.runs.update().where(s.runs.c.id == run_id).values(answer=answer, answer_by=by))

    def add_note(self, run_id: str, cell: str | None, text: str, *, wall_s: float) -> None:
        """Keep a note of the person's.

        Args:
            run_id: The run.
            cell: Key of a cell; None for the run.
            text: As it was written.
            wall_s: Seconds since 1970.
        """
        self._check_own()
        with self.writing() as db:
            db.execute(s.notes.insert().values(run=run_id, cell=cell, text=text, created_s=wall_s))


def delete_run(db: sa.Connection, run: str) -> None:
    """A run with everything that belongs to it."""
    mine = sa.select(s.blocks.c.id).where(s.blocks.c.run == run)
    db.execute(s.block_repeats.delete().where(s.block_repeats.c.block.in_(mine)))
    for table in (s.blocks, s.journal, s.repeats, s.summaries, s.notes, s.decisions):
        db.execute(table.delete().where(table.c.run == run))
    db.execute(s.runs.delete().where(s.runs.c.id == run))


def add_block(db: sa.Connection, run_id: str, rows: Sequence[tuple[str, Timeline]]) -> None:
    """Keep requests with the ids of their repeats as one block."""
    keep_block(db, run_id, len(rows), encode_block(rows))


def keep_block(db: sa.Connection, run_id: str, requests: int, body: bytes) -> None:
    """Keep a packed block, and which repeats it has requests of.

    Args:
        db: A connection that may write.
        run_id: The run.
        requests: How many are in it.
        body: The block.
    """
    block = db.execute(s.blocks.insert().values(run=run_id, requests=requests, body=body)).inserted_primary_key
    assert block is not None
    entries = [{"repeat": repeat, "block": block[0]} for repeat in repeats_of(body)]
    if entries:
        db.execute(s.block_repeats.insert(), entries)


def launch_text(launch: Launch) -> str:
    """A launch for keeping."""
    return json.dumps(msgspec.to_builtins(launch))


def episode_of(repeat: Repeat) -> dict[str, Any]:
    """What is kept of a repeat besides its requests and its trace's columns."""
    trace = repeat.trace
    return {
        "driver_cpu_ns": repeat.driver_cpu_ns,
        "wall_ns": repeat.wall_ns,
        "extras": repeat.extras,
        "machine": None if repeat.machine is None else msgspec.to_builtins(repeat.machine),
        "sampler_cpu_ns": 0 if trace is None else trace.sampler_cpu_ns,
        "highest_bytes": -1 if trace is None else trace.highest_bytes,
        "energy_source": "" if trace is None else trace.energy_source,
    }
