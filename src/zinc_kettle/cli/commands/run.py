"""`run`: measure a study."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Mapping
from pathlib import Path
from typing import Annotated, Any, Optional

import typer

from zinc_kettle.app.build import experiment, open_store, read_study
from zinc_kettle.cli import output
from zinc_kettle.cli.commands.new import new_study
from zinc_kettle.cli.commands.show import tell
from zinc_kettle.cli.options import JsonOption, StoreOption
from zinc_kettle.cli.signals import ending_signals
from zinc_kettle.config import places
from zinc_kettle.core.plan.study import Study
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.core.units import byte_size, plural
from zinc_kettle.errors import UsageError
from zinc_kettle.present.json import cell_json
from zinc_kettle.present.values import left_text
from zinc_kettle.session import progress as p
from zinc_kettle.session.experiment import Experiment
from zinc_kettle.store.reading import open_run
from zinc_kettle.store.store import KettleStore
from zinc_kettle.wire.messages import Tick


class Reporter:
    """Turns events into progress, and finished cells into records; holds the results as they grow."""

    def __init__(self, study: Study, store: KettleStore, *, as_json: bool) -> None:
        self._study = study
        self._store = store
        self._json = as_json
        self._meter = output.Meter()
        self._progress = ""
        self._told: dict[str, Mapping[str, Any]] = {}
        self.results = StudyResults(study)
        self.run_id = ""
        self.failed = False
        """True once a repeat has failed."""

    def __call__(self, event: p.Event) -> None:
        """Take one event."""
        if isinstance(event, p.Began):
            self._began(event)
        elif isinstance(event, p.Widened):
            self.results = open_run(self._store, event.run_id)
        elif isinstance(event, p.Making):
            self._making(event)
        elif isinstance(event, p.Progress):
            self._progress = f"{event.done} of {event.repeats} repeats, {left_text(event.left_s)}"
            self._meter.done(self._progress)
        elif isinstance(event, p.Loading):
            self._meter.now(f"{self._progress} · loading {self._title(event.cell)}")
        elif isinstance(event, p.Disturbed):
            told = f"others use {event.other_cores:.1f} cores, the hypervisor takes {event.stolen_share:.0%}"
            self._meter.now(f"{self._progress} · {self._title(event.cell)} waits for a quiet moment: {told}")
        elif isinstance(event, p.Live):
            self._live(event)
        elif isinstance(event, p.RepeatEnded):
            self._ended(event)

    def _title(self, key: str) -> str:
        return self.results.cell(key).title

    def tell_rest(self) -> None:
        """Records of the cells whose last record was not yet their final one: bounds depend on all cells of a run."""
        for cell in self.results.cells:
            self._tell(cell)

    def _tell(self, cell: CellResults) -> None:
        if not self._json:
            return
        record = cell_json(self.results, cell)
        if record != self._told.get(cell.cell.key):
            output.json_line(record)
            self._told[cell.cell.key] = record

    def _began(self, event: p.Began) -> None:
        self.run_id = event.run_id
        self.results = open_run(self._store, event.run_id)
        kept = f", {event.done} of them kept from before" if event.done else ""
        run = self.results.run.number
        self._meter.done(f"{self._study.name}, run {run}: {event.repeats} repeats{kept}")

    def _ended(self, event: p.RepeatEnded) -> None:
        self.results.take(event.cell, event.kept)
        if event.failure is not None:
            self.failed = True
            self._meter.done(f"failed: {self._title(event.cell)}: {event.failure.what}")
        cell = self.results.cell(event.cell)
        # A cell that needs no more repeats now is told; should it get some, it is told again when they are done.
        if event.kept.done + event.kept.failed >= event.wanted:
            self._tell(cell)

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
            f"{self._progress} · {phase} {self._title(event.cell)} · {tick.rate:.1f} tok/s now{_flight(tick)}"
        )


def _flight(tick: Tick) -> str:
    """Where the requests of a larger load are."""
    if tick.total < 2:
        return ""
    failed = f", {tick.failed} failed" if tick.failed else ""
    return f" · {tick.finished:,} of {tick.total:,} ended{failed}, {tick.prefill} waiting, {tick.decode} writing"


def run_study(file: Path, store_path: Path | None, *, as_json: bool, fresh: bool, told: bool = True) -> int:
    """Run the study in a file; returns the exit code.

    Args:
        file: The study file.
        store_path: Another store than the one in the data folder.
        as_json: JSON Lines on standard output.
        fresh: Begin a new run even where one was stopped.
        told: Print what came of it.

    Raises:
        KettleError: Wrong input, or figures that could not be kept.
    """
    where = places(store_path, study=file)
    study, source = read_study(file, where)
    store = open_store(where)
    reporter = Reporter(study, store, as_json=as_json)
    finished = run_until_stopped(experiment(study, where, store, reporter, source=source, fresh=fresh))
    if not reporter.run_id:
        output.note("stopped before anything was measured")
        return 1
    reporter.tell_rest()
    if told and not as_json:
        tell(reporter.results)
    missing = reporter.results.wanted_repeats - reporter.results.done_repeats
    if not finished:
        output.note("stopped; everything measured is kept, and running the same file again continues from there")
    elif missing and reporter.failed:
        output.note(f"{plural(missing, 'repeat')} failed, tried twice; running the same file again tries once more")
    return 0 if finished and reporter.results.done_repeats else 1


def run_until_stopped(work: Experiment) -> bool:
    """Run to the end; False where an interrupt or a termination signal stopped it cleanly."""

    async def main() -> bool:
        task = asyncio.ensure_future(work.run())
        loop = asyncio.get_running_loop()
        for number in ending_signals():
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


EXAMPLES = (
    "zinc-kettle run night.study.toml",
    "zinc-kettle run --template threads --hold model=brine-60m --json",
)


def command(
    file: Annotated[Optional[Path], typer.Argument(help="A study file.")] = None,  # noqa: UP045
    store: StoreOption = None,
    as_json: JsonOption = False,
    fresh: Annotated[
        bool, typer.Option("--fresh", help="Begin a new run, even where an earlier one was stopped.")
    ] = False,
    template: Annotated[str, typer.Option("--template", help="Create the study from this template first.")] = "",
    vary: Annotated[Optional[list[str]], typer.Option("--vary", help="Of the template: factor=levels.")] = None,  # noqa: UP045
    hold: Annotated[Optional[list[str]], typer.Option("--hold", help="Of the template: factor=level.")] = None,  # noqa: UP045
) -> None:
    """Measure a study, or what is still missing of it."""
    if (file is None) == (not template):
        raise UsageError("no study is named", remedy="run FILE, or run --template NAME --hold model=…")
    if file is None:
        file = new_study(template, vary or [], hold or [], "", None, store, again=True)
    raise typer.Exit(run_study(file, store, as_json=as_json, fresh=fresh))
