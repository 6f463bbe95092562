"""`run`: measure a study."""

from __future__ import annotations

import asyncio
import contextlib
import signal
from collections import Counter
from pathlib import Path

from zinc_kettle.cli import output
from zinc_kettle.config import places
from zinc_kettle.core.plan import Study
from zinc_kettle.core.record import StudyRecord
from zinc_kettle.core.units import byte_size, duration
from zinc_kettle.present.records import cell_record
from zinc_kettle.present.table import result_rows
from zinc_kettle.present.view import StudyView
from zinc_kettle.present.words import answer, worth_knowing
from zinc_kettle.session import progress as p
from zinc_kettle.session.experiment import Experiment
from zinc_kettle.store.reading import load
from zinc_kettle.store.sqlite import SqliteStore
from zinc_kettle.wire.messages import Tick
from zinc_kettle.wiring.build import experiment, open_store, read_study


class Reporter:
    """Turns events into progress, and finished cells into records."""

    def __init__(self, study: Study, store: SqliteStore, *, as_json: bool) -> None:
        self._study = study
        self._store = store
        self._json = as_json
        self._titles = {c.cell.index: c.title for c in StudyView(StudyRecord("", study, "planned", 0.0)).cells}
        self._meter = output.Meter()
        self._progress = ""
        self._missing: Counter[int] = Counter()
        self._told: set[int] = set()
        self.study_id = ""

    def __call__(self, event: p.Event) -> None:
        """Take one event."""
        if isinstance(event, p.Began):
            self._began(event)
        elif isinstance(event, p.Making):
            self._making(event)
        elif isinstance(event, p.Progress):
            self._progress = f"{event.done} of {event.runs} repeats, about {duration(event.left_s)} left"
            self._meter.done(self._progress)
        elif isinstance(event, p.Loading):
            self._meter.now(f"{self._progress} · loading {self._titles[event.cell]}")
        elif isinstance(event, p.Live):
            self._live(event)
        elif isinstance(event, p.RepeatEnded):
            self._ended(event.cell)
        elif isinstance(event, p.RepeatFailed):
            self._meter.done(f"failed: {self._titles[event.cell]}: {event.what}")
            self._ended(event.cell)

    def view(self) -> StudyView:
        """The study as it is kept now."""
        return StudyView(load(self._store, self.study_id))

    def tell_rest(self, view: StudyView) -> None:
        """Records of the cells that were not told when they ended."""
        for cell in view.cells:
            if self._json and cell.cell.index not in self._told:
                output.record(cell_record(view, cell))

    def _began(self, event: p.Began) -> None:
        self.study_id = event.study_id
        done = Counter(cell for _, cell in self._store.done_runs(event.study_id))
        self._missing = Counter({i: self._study.repeats.count - done[i] for i in self._titles})
        kept = f", {event.done} of them kept from before" if event.done else ""
        self._meter.done(f"{event.study_id}: {event.runs} repeats{kept}")

    def _ended(self, cell: int) -> None:
        self._missing[cell] -= 1
        if self._json and self._missing[cell] == 0:
            view = self.view()
            output.record(cell_record(view, view.cells[cell]))
            self._told.add(cell)

    def _making(self, event: p.Making) -> None:
        what = f"making {event.model} at {event.quantization} ({byte_size(event.total_bytes)})"
        if event.done_bytes >= event.total_bytes:
            self._meter.done(f"{what}, done")
        else:
            self._meter.now(f"{what} {event.done_bytes / event.total_bytes:.0%}")

    def _live(self, event: p.Live) -> None:
        tick = event.tick
        phase = "warm-up" if event.warmup else "measuring"
        self._meter.now(
            f"{self._progress} · {phase} {self._titles[event.cell]} · {tick.rate:.1f} tok/s now{_flight(tick)}"
        )


def _flight(tick: Tick) -> str:
    """Where the requests of a larger load are."""
    if tick.total < 2:
        return ""
    failed = f", {tick.failed} failed" if tick.failed else ""
    return f" · {tick.finished:,} of {tick.total:,} ended{failed}, {tick.prefill} waiting, {tick.decode} writing"


def run_study(file: Path, store_path: Path | None, *, as_json: bool, fresh: bool) -> int:
    """Run the study in a file; returns the exit code.

    Raises:
        KettleError: Wrong input, or figures that could not be kept.
    """
    study, source = read_study(file)
    where = places(store_path)
    store = open_store(where)
    if fresh:
        store.set_aside(study)
    reporter = Reporter(study, store, as_json=as_json)
    finished = _run_until_stopped(experiment(study, where, store, reporter, source=source))
    if not reporter.study_id:
        return 1
    view = reporter.view()
    reporter.tell_rest(view)
    if not as_json:
        _tell(view)
    if not finished:
        output.note("stopped; what was measured is kept, and running the same file again goes on from there")
    return 0 if finished and view.done_repeats else 1


def _run_until_stopped(work: Experiment) -> bool:
    """Run to the end; False where an interrupt or a termination signal stopped it cleanly."""

    async def main() -> bool:
        task = asyncio.ensure_future(work.run())
        loop = asyncio.get_running_loop()
        for number in (signal.SIGINT, signal.SIGTERM):
            with contextlib.suppress(NotImplementedError):
                loop.add_signal_handler(number, task.cancel)
        try:
            await task
        except asyncio.CancelledError:
            return False
        return True

    try:
        return asyncio.run(main())
    except KeyboardInterrupt:
        return False


def _tell(view: StudyView) -> None:
    output.line(view.study.question)
    output.line()
    output.table(*result_rows(view))
    output.line()
    said = answer(view)
    output.line(said[:1].upper() + said[1:] + ".")
    for sentence in worth_knowing(view):
        output.line(f"- {sentence.text}")
