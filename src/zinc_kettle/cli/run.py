"""`run`: measure a study."""

from __future__ import annotations

import asyncio
import contextlib
import signal
from pathlib import Path

from zinc_kettle.cli import output
from zinc_kettle.config import places
from zinc_kettle.core.plan import cells
from zinc_kettle.core.units import byte_size, duration
from zinc_kettle.present.records import cell_record
from zinc_kettle.present.table import result_rows
from zinc_kettle.present.view import StudyView
from zinc_kettle.present.words import answer, worth_knowing
from zinc_kettle.session import progress as p
from zinc_kettle.store.reading import load
from zinc_kettle.wiring.build import experiment, open_store, read_study


class Reporter:
    """Turns events into progress, and finished cells into records."""

    def __init__(self, titles: dict[int, str], wanted: int, *, as_json: bool) -> None:
        self._titles = titles
        self._wanted = wanted
        self._json = as_json
        self._meter = output.Meter()
        self._progress = ""
        self.study_id = ""
        self.finished: dict[int, int] = {}

    def __call__(self, event: p.Event) -> None:
        """Take one event."""
        if isinstance(event, p.Began):
            self.study_id = event.study_id
            kept = f", {event.done} of them kept from before" if event.done else ""
            self._meter.done(f"{event.study_id}: {event.runs} repeats{kept}")
        elif isinstance(event, p.Making):
            self._making(event)
        elif isinstance(event, p.Progress):
            self._progress = f"{event.done} of {event.runs} repeats, about {duration(event.left_s)} left"
            self._meter.done(self._progress)
        elif isinstance(event, p.Loading):
            self._meter.now(f"{self._progress} · loading {self._titles[event.cell]}")
        elif isinstance(event, p.Live):
            self._live(event)
        elif isinstance(event, p.RepeatFailed):
            self._meter.done(f"failed: {self._titles[event.cell]}: {event.what}")

    def _making(self, event: p.Making) -> None:
        what = f"making {event.model} at {event.quantization} ({byte_size(event.total_bytes)})"
        if event.done_bytes >= event.total_bytes:
            self._meter.done(f"{what}, done")
        else:
            self._meter.now(f"{what} {event.done_bytes / event.total_bytes:.0%}")

    def _live(self, event: p.Live) -> None:
        rate = sum(stream.rate for stream in event.streams)
        phase = "warm-up" if event.warmup else "measuring"
        self._meter.now(f"{self._progress} · {phase} {self._titles[event.cell]} · {rate:.1f} tok/s now")


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
    titles = {c.cell.index: c.title for c in StudyView(_planned(study)).cells}
    reporter = Reporter(titles, study.repeats.count, as_json=as_json)

    def on_event(event: p.Event) -> None:
        reporter(event)
        if as_json and isinstance(event, p.RepeatEnded | p.RepeatFailed):
            _tell_finished(event.cell)

    seen: dict[int, int] = {}
    missing_of: dict[int, int] = {}

    def _tell_finished(cell: int) -> None:
        if not missing_of:
            done = store.done_runs(reporter.study_id)
            for c in cells(study):
                before = sum(1 for _, index in done if index == c.index)
                missing_of[c.index] = study.repeats.count - before + (1 if c.index == cell else 0)
        seen[cell] = seen.get(cell, 0) + 1
        if seen[cell] >= missing_of[cell]:
            view = StudyView(load(store, reporter.study_id))
            output.record(cell_record(view, view.cells[cell]))
            told.add(cell)

    told: set[int] = set()
    work = experiment(study, where, store, on_event, source=source)
    stopped = not _run_until_stopped(work.run)
    view = StudyView(load(store, reporter.study_id)) if reporter.study_id else None
    if view is None:
        return 1
    if as_json:
        for cell in view.cells:
            if cell.cell.index not in told:
                output.record(cell_record(view, cell))
    else:
        _tell(view)
    if stopped:
        output.note("stopped; what was measured is kept, and running the same file again goes on from there")
        return 1
    return 0 if view.done_repeats else 1


def _run_until_stopped(run: object) -> bool:
    """Run to the end; False where an interrupt or a termination signal stopped it cleanly."""

    async def main() -> bool:
        task = asyncio.ensure_future(run())  # type: ignore[operator]
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


def _planned(study: object) -> object:
    from zinc_kettle.core.record import StudyRecord

    return StudyRecord("", study, "planned", 0.0)  # type: ignore[arg-type]


def _tell(view: StudyView) -> None:
    output.line(view.study.question)
    output.line()
    output.table(*result_rows(view))
    output.line()
    output.line(answer(view).capitalize() + ".")
    for sentence in worth_knowing(view):
        output.line(f"- {sentence.text}")
