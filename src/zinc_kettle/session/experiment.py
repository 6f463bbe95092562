"""A study from its first launch to its last repeat."""

from __future__ import annotations

import asyncio
import dataclasses
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field

from zinc_kettle.core.budget import time_left_s
from zinc_kettle.core.cell import series
from zinc_kettle.core.drivers import FULL_SHARE, SAFE_TOKENS_PER_S, drivers_wanted
from zinc_kettle.core.measures import Repeat
from zinc_kettle.core.plan import Cell, LaunchSettings, Run, Study, cells, order
from zinc_kettle.core.precision import wanted_repeats
from zinc_kettle.errors import DriverError, EngineError, KettleError, MeasureError
from zinc_kettle.ports import Clock, Engines, Json, LoadSource, ModelFile, Models, RunningEngine, Store, Telemetry
from zinc_kettle.session import progress as p
from zinc_kettle.session.calibrate import Workload
from zinc_kettle.session.episode import EpisodeRunner

LAUNCH_TRIES = 2
"""A launch is tried again once, in a later block: a port or memory may have been taken for a moment."""
DRIVER_LIMIT = 3
"""Drivers that may end in one study before it is given up."""


@dataclass(frozen=True)
class Ports:
    """All a study needs of the outside."""

    engines: Engines
    models: Models
    new_driver: Callable[[], Awaitable[LoadSource]]
    telemetry: Telemetry
    store: Store
    clock: Clock
    test_driver: Callable[[int], Awaitable[Json]] | None = None
    """Holds the driver against a paced server at so many streams; its account is kept with the study."""


@dataclass
class _State:
    """What changes while a study runs."""

    engine: RunningEngine | None = None
    launched: LaunchSettings | None = None
    fresh: bool = False
    """True until the first request after a load has been sent."""
    driver: LoadSource | None = None
    drivers_lost: int = 0
    launches: int = 0
    failures: dict[LaunchSettings, int] = field(default_factory=dict)
    seen_s: dict[int, list[float]] = field(default_factory=dict)
    prompts: dict[tuple[object, ...], Workload] = field(default_factory=dict)
    """Calibrated prompts by what their length depends on."""
    values: dict[int, list[float]] = field(default_factory=dict)
    """The measure that decides how often a cell is repeated, of each of its repeats."""
    wanted: dict[int, int] = field(default_factory=dict)
    """Repeats each cell wants, by what it has."""
    driver_share: dict[int, float] = field(default_factory=dict)
    """Cores the drivers kept busy in the last repeat of a cell."""
    measured: int = 0
    failed: int = 0


class Experiment:
    """Runs what of a study is still missing."""

    def __init__(
        self, study: Study, ports: Ports, emit: Callable[[p.Event], None], *, source: str = "", nonce: str = ""
    ) -> None:
        self._study = study
        self._ports = ports
        self._emit = emit
        self._source = source
        self._nonce = nonce
        self._cells = cells(study)
        self._models: dict[int, ModelFile | None] = {}
        self._state = _State()
        self._study_id = ""
        self._facts: Json = {}

    async def run(self) -> p.Ended:
        """Measure every missing repeat; cancelling stops cleanly and keeps everything.

        Raises:
            StoreError: Figures could not be kept.
            ModelError: A model is not there and cannot be made.
            RigError: A rig cannot be reached; nothing was begun.
            UsageError: Another copy of the tool is measuring this study.
        """
        ports = self._ports
        try:
            self._facts = {**await ports.telemetry.machine_facts(), **await self._tested_driver()}
            self._study_id = ports.store.begin(
                self._study, source=self._source, facts=self._facts, wall_s=ports.clock.wall_s()
            )
        except KettleError:
            await ports.engines.close()
            raise
        done = ports.store.done_runs(self._study_id)
        runs = order(self._study)
        missing = [run for run in runs if (run.block, run.cell) not in done]
        for cell, repeat in ports.store.measured(self._study_id):
            self._learn(cell, repeat)
        self._emit(p.Began(self._study_id, len(runs), len(runs) - len(missing)))
        state = "stopped"
        try:
            await self._find_models(missing)
            await self._run_all(missing, len(runs))
            state = "measured"
        finally:
            await self._end(state)
        ended = p.Ended(state, self._state.measured, self._state.failed)
        self._emit(ended)
        return ended

    async def _tested_driver(self) -> Json:
        """The driver's self-test; a study goes on without it."""
        if self._ports.test_driver is None:
            return {}
        streams = max(int(cell.settings["concurrency"] or 1) for cell in self._cells)
        try:
            return {"driver_test": await self._ports.test_driver(streams)}
        except MeasureError as error:
            return {"driver_test": {"failed": str(error)}}

    def _learn(self, cell: int, repeat: Repeat) -> None:
        """What a finished repeat tells of how many more its cell wants, and of how many drivers."""
        values = self._state.values.setdefault(cell, [])
        values.extend(series([repeat], self._study.repeats.until_measure))
        # Kept, for it is asked of every later run after each repeat, and may resample.
        self._state.wanted[cell] = wanted_repeats(self._study.repeats, values, seed=self._study.seed)
        if repeat.wall_ns > 0:
            self._state.driver_share[cell] = repeat.driver_cpu_ns / repeat.wall_ns

    def _wanted(self, run: Run) -> bool:
        """False where the cell has been repeated often enough before this block."""
        repeats, values = self._study.repeats, self._state.values.get(run.cell, [])
        return repeats.until_percent is None or len(values) < self._state.wanted.get(run.cell, repeats.count)

    async def _end(self, state: str) -> None:
        try:
            await self._drop_engine()
            if self._state.driver is not None:
                await self._state.driver.close()
            await self._ports.engines.close()
        finally:
            self._ports.store.set_state(self._study_id, state)

    async def _find_models(self, missing: list[Run]) -> None:
        if self._study.endpoint is not None:
            return
        for index in sorted({run.cell for run in missing}):
            settings = self._cells[index].launch
            name, quantization = settings.model, settings.quantization
            found = self._ports.models.find(name, quantization, settings.rig)
            if found is None and self._ports.models.needs_making(settings.rig):
                found = await self._make(name, quantization)
            self._models[index] = found

    async def _make(self, name: str, quantization: str | None) -> ModelFile:
        loop = asyncio.get_running_loop()

        def told(done: int, total: int) -> None:
            loop.call_soon_threadsafe(self._emit, p.Making(name, quantization, done, total))

        return await asyncio.to_thread(self._ports.models.make, name, quantization, told)

    async def _run_all(self, missing: list[Run], total: int) -> None:
        self._tell_progress(missing, total)
        for position, run in enumerate(missing):
            if not self._wanted(run):
                continue
            began = self._ports.clock.now_ns()
            await self._run_one(run)
            took = (self._ports.clock.now_ns() - began) / 1e9
            self._state.seen_s.setdefault(run.cell, []).append(took)
            self._tell_progress([later for later in missing[position + 1 :] if self._wanted(later)], total)

    def _tell_progress(self, left: list[Run], total: int) -> None:
        sizes = {i: None if m is None else float(m.size_bytes) for i, m in self._models.items()}
        left_s = time_left_s(self._study, self._cells, left, model_bytes=sizes, seen_s=self._state.seen_s)
        if self._study.repeats.until_percent is not None:
            total = self._state.measured + self._state.failed + len(left)
        self._emit(p.Progress(total - len(left), total, left_s))

    async def _run_one(self, run: Run) -> None:
        cell = self._cells[run.cell]
        settings = cell.launch
        if self._state.failures.get(settings, 0) >= LAUNCH_TRIES:
            self._fail(run, "not tried again: this configuration failed to load before", "")
            return
        try:
            engine = await self._engine_for(run, cell, settings)
        except EngineError as error:
            self._state.failures[settings] = self._state.failures.get(settings, 0) + 1
            self._fail(run, str(error), error.last_words)
            return
        await self._measure(run, cell, engine)

    async def _engine_for(self, run: Run, cell: Cell, settings: LaunchSettings) -> RunningEngine:
        state = self._state
        if state.engine is not None and state.launched == settings and state.engine.alive():
            return state.engine
        await self._drop_engine()
        self._emit(p.Loading(run.cell, run.block))
        state.launches += 1
        launch_id = f"{self._nonce}-{state.launches}"
        engine = await self._ports.engines.start(settings, self._models.get(cell.index), launch_id=launch_id)
        state.engine, state.launched, state.fresh = engine, settings, True
        return engine

    async def _drop_engine(self) -> None:
        engine, self._state.engine = self._state.engine, None
        if engine is not None:
            await engine.stop()

    async def _measure(self, run: Run, cell: Cell, engine: RunningEngine) -> None:
        store, state = self._ports.store, self._state
        launch = {"launch": dataclasses.asdict(engine.launch), "facts": engine.facts}
        concurrency = int(cell.settings["concurrency"] or 1)
        repeat_id = store.begin_repeat(self._study_id, run, concurrency=concurrency, launch=launch)
        try:
            driver = await self._driver()
            episode = EpisodeRunner(
                study=self._study,
                cell=cell,
                block=run.block,
                engine=engine,
                driver=driver,
                telemetry=self._ports.telemetry,
                store=store,
                emit=self._emit,
                repeat_id=repeat_id,
                nonce=f"{self._nonce}-{run.block}",
                cold=state.fresh,
                prompts=state.prompts,
                drivers=self._drivers(cell, engine),
                rig_facts=self._facts.get("rigs", {}).get(engine.rig, self._facts),
            )
            state.fresh = False
            repeat = await episode.run()
        except DriverError as error:
            await self._lost_driver(error)
            self._close_failed(run, repeat_id, str(error), engine.last_words())
            return
        except MeasureError as error:
            self._close_failed(run, repeat_id, str(error), engine.last_words())
            return
        if not repeat.measured:
            why = repeat.failed[0].error if repeat.failed else "no request was answered"
            self._close_failed(run, repeat_id, f"no request could be counted: {why}", engine.last_words())
            return
        store.end_repeat(repeat_id, repeat)
        self._learn(run.cell, repeat)
        state.measured += 1
        self._emit(p.RepeatEnded(run.cell, run.block, repeat, engine.facts))

    def _drivers(self, cell: Cell, engine: RunningEngine) -> int:
        """Driver processes for a cell: as the study says, else by what one carries and what the last repeat took."""
        if self._study.load.drivers:
            return self._study.load.drivers
        streams = max(int(cell.settings["concurrency"] or 1), 1)
        test, predicted = self._facts.get("driver_test") or {}, engine.facts.get("predicted") or {}
        ceiling = float(test.get("ceiling_tokens_per_s") or SAFE_TOKENS_PER_S)
        # Until it was seen, the most that so many streams could bring; afterwards what the drivers really took.
        share = self._state.driver_share.get(cell.index)
        rate = streams * float(predicted.get("decode") or 0) if share is None else share / FULL_SHARE * ceiling
        return drivers_wanted(
            tokens_per_s=rate, streams=streams, ceiling=ceiling, cores=int(self._facts.get("hardware_threads") or 2)
        )

    async def _driver(self) -> LoadSource:
        if self._state.driver is None:
            self._state.driver = await self._ports.new_driver()
        return self._state.driver

    async def _lost_driver(self, error: KettleError) -> None:
        state = self._state
        driver, state.driver = state.driver, None
        state.drivers_lost += 1
        if driver is not None:
            await driver.close()
        if state.drivers_lost >= DRIVER_LIMIT:
            raise error

    def _fail(self, run: Run, what: str, last_words: str) -> None:
        concurrency = int(self._cells[run.cell].settings["concurrency"] or 1)
        repeat_id = self._ports.store.begin_repeat(self._study_id, run, concurrency=concurrency, launch=None)
        self._close_failed(run, repeat_id, what, last_words)

    def _close_failed(self, run: Run, repeat_id: str, what: str, last_words: str) -> None:
        self._ports.store.fail_repeat(repeat_id, what=what, last_words=last_words)
        self._state.failed += 1
        self._emit(p.RepeatFailed(run.cell, run.block, what, last_words))
