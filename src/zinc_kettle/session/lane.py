"""Where repeats are measured: one engine and one driver at a time, kept for as long as the next repeat can use them."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from dataclasses import dataclass, field

from zinc_kettle.core.drivers import FULL_SHARE, SAFE_TOKENS_PER_S, drivers_wanted
from zinc_kettle.core.facts import DriverTest, EngineFacts, RunFacts, machine_of, other_file, other_program
from zinc_kettle.core.plan.study import Cell, LaunchSpec, Study
from zinc_kettle.core.record.repeat import Repeat
from zinc_kettle.core.results import Failure, FailureKind
from zinc_kettle.core.run.budget import LAUNCH_TRIES
from zinc_kettle.core.run.decisions import Step
from zinc_kettle.errors import DriverError, EngineChangedError, EngineError, KettleError, MeasureError
from zinc_kettle.ports.driver import LoadSource
from zinc_kettle.ports.engines import RunningEngine
from zinc_kettle.ports.models import ModelFile
from zinc_kettle.session import progress as p
from zinc_kettle.session.calibrate import Workload
from zinc_kettle.session.episode import EpisodeRunner
from zinc_kettle.session.ports import Ports

DRIVER_LIMIT = 3
"""Drivers that may end in one study before it is given up."""


@dataclass(frozen=True, slots=True)
class Outcome:
    """What became of a repeat; the store has its requests."""

    repeat_id: str
    repeat: Repeat | None = None
    """None where it failed."""
    failure: Failure | None = None
    facts: EngineFacts = field(default_factory=EngineFacts)
    """Of the engine that was measured."""
    launch_s: float = 0.0
    """Seconds of it that went into a launch."""


def _same(spec: LaunchSpec) -> tuple[tuple[str | None, ...], tuple[str | None, ...]]:
    """Names of what must be the same program, and the same file, whenever a launch has them."""
    return (spec.engine, spec.rig), (spec.model, spec.quantization, spec.rig)


class Lane:
    """Launches engines, and measures one repeat after the other.

    Args:
        ports: The rest of the tool.
        emit: Takes each event.
        run_id: The run its repeats belong to.
        facts: Of the machines.
        nonce: Makes the salts of this start unlike those of any other.
    """

    def __init__(
        self, ports: Ports, emit: Callable[[p.Event], None], *, run_id: str, facts: RunFacts, nonce: str
    ) -> None:
        self._ports = ports
        self._emit = emit
        self._run_id = run_id
        self._facts = facts
        self._nonce = nonce
        self._engine: RunningEngine | None = None
        self._launched: LaunchSpec | None = None
        self._fresh = False
        """True until the first request after a load has been sent."""
        self._driver: LoadSource | None = None
        self._drivers_lost = 0
        self._launches = 0
        self._launch_s = 0.0
        self._engines: dict[tuple[str | None, ...], EngineFacts] | None = None
        """What engines have said of themselves in this run, see `_same`; None where the store has not been asked."""
        self._failures: dict[LaunchSpec, list[EngineError]] = {}
        """Launches that failed, and each time why."""
        self._prompts: dict[tuple[object, ...], Workload] = {}
        """Calibrated prompts by what their length depends on."""
        self._driver_share: dict[str, float] = {}
        """Cores the drivers kept busy in the last repeat of a cell."""

    def given_up(self, spec: LaunchSpec) -> bool:
        """True where a launch has failed so often that it is not tried again."""
        return len(self._failures.get(spec, ())) >= LAUNCH_TRIES

    def try_launches_again(self) -> None:
        """Forget which launches failed."""
        self._failures.clear()

    async def measure(self, study: Study, step: Step, cell: Cell, model: ModelFile | None) -> Outcome:
        """Measure one repeat, with the engine that runs where it is the right one.

        Args:
            study: The plan, with the levels that were added so far.
            step: The block it belongs to.
            cell: The cell.
            model: The file of its model, where one is on this machine.

        Raises:
            EngineChangedError: The engine is another one than that of the repeats there are already.
            DriverError: So many drivers have ended that no further one is tried.
            StoreError: It could not be kept.
        """
        spec, self._launch_s = cell.launch, 0.0
        before = self._failures.get(spec, [])
        if len(before) >= LAUNCH_TRIES:
            what = f"{before[0]}; tried {LAUNCH_TRIES} times, and not again"
            return self._not_launched(step, cell, what, before[0].last_words)
        try:
            engine = await self._engine_for(step, spec, model)
        except EngineError as error:
            self._failures.setdefault(spec, []).append(error)
            return self._not_launched(step, cell, str(error), error.last_words)
        await engine.look_again()
        self._check_same(study, spec, engine)
        return await self._measured(study, step, cell, engine)

    async def close(self) -> None:
        """Stop engine and driver."""
        await self._drop_engine()
        if self._driver is not None:
            await self._driver.close()

    # engines
    async def _engine_for(self, step: Step, spec: LaunchSpec, model: ModelFile | None) -> RunningEngine:
        if self._engine is not None and self._launched == spec and self._engine.alive():
            return self._engine
        began = self._ports.clock.now_ns()
        await self._drop_engine()
        self._emit(p.Loading(step.cell, step.block))
        self._launches += 1
        try:
            engine = await self._ports.engines.start(spec, model, launch_id=f"{self._nonce}-{self._launches}")
        finally:
            self._launch_s = (self._ports.clock.now_ns() - began) / 1e9
        self._engine, self._launched, self._fresh = engine, spec, True
        return engine

    async def _drop_engine(self) -> None:
        engine, self._engine = self._engine, None
        if engine is not None:
            await engine.stop()

    def _check_same(self, study: Study, spec: LaunchSpec, engine: RunningEngine) -> None:
        """Repeats of two different things are no repeats.

        Raises:
            EngineChangedError: The engine is another one than that of the repeats there are already.
        """
        if self._engines is None:
            self._engines = {}
            for key, facts in self._ports.store.engines(self._run_id).items():
                if key in study.by_key:
                    self._note_engine(study.by_key[key].launch, facts)
        program, file = _same(spec)
        now, nothing = engine.facts, EngineFacts()
        changed = other_program(self._engines.get(program, nothing), now) or other_file(
            self._engines.get(file, nothing), now
        )
        if changed is not None:
            before, after = changed
            raise EngineChangedError(
                "the engine is not the one that was measured before",
                why=f"it said {before}, and says {after}",
                remedy="start the former one again, or begin a new run: zinc-kettle run FILE --fresh",
            )
        self._note_engine(spec, now)

    def _note_engine(self, spec: LaunchSpec, facts: EngineFacts) -> None:
        assert self._engines is not None
        for key in _same(spec):
            self._engines[key] = {**self._engines.get(key, EngineFacts()), **facts}

    # repeats
    async def _measured(self, study: Study, step: Step, cell: Cell, engine: RunningEngine) -> Outcome:
        repeat_id = self._ports.store.begin_repeat(
            self._run_id,
            cell,
            step.block,
            concurrency=int(cell.settings["concurrency"] or 1),
            launch=engine.launch,
            facts=engine.facts,
        )
        try:
            repeat = await self._episode(study, step, cell, engine, repeat_id)
        except DriverError as error:
            failed = self._failed(repeat_id, "driver", str(error), engine.last_words())
            await self._lost_driver(error)
            return failed
        except MeasureError as error:
            return self._failed(repeat_id, "measure", str(error), engine.last_words())
        if not repeat.measured:
            why = repeat.failed[0].error if repeat.failed else "no request was answered"
            return self._failed(repeat_id, "requests", f"no request could be counted: {why}", engine.last_words())
        self._ports.store.end_repeat(repeat_id, repeat)
        if repeat.wall_ns > 0:
            self._driver_share[cell.key] = repeat.driver_cpu_ns / repeat.wall_ns
        return Outcome(repeat_id, repeat, facts=engine.facts, launch_s=self._launch_s)

    async def _episode(self, study: Study, step: Step, cell: Cell, engine: RunningEngine, repeat_id: str) -> Repeat:
        if self._driver is None:
            self._driver = await self._ports.new_driver()
        episode = EpisodeRunner(
            study=study,
            cell=cell,
            block=step.block,
            engine=engine,
            driver=self._driver,
            telemetry=self._ports.telemetry,
            store=self._ports.store,
            emit=self._emit,
            repeat_id=repeat_id,
            nonce=f"{self._nonce}-{step.block}",
            cold=self._fresh,
            prompts=self._prompts,
            drivers=self._drivers(study, cell, engine),
            rig_facts=machine_of(self._facts, engine.rig) or self._facts,
        )
        self._fresh = False
        return await episode.run()

    def _drivers(self, study: Study, cell: Cell, engine: RunningEngine) -> int:
        """Driver processes for a cell: as the study says, else by what one carries and what the last repeat took."""
        if study.load.drivers:
            return study.load.drivers
        streams = max(int(cell.settings["concurrency"] or 1), 1)
        test, predicted = self._facts.get("driver_test") or DriverTest(), engine.facts.get("predicted")
        ceiling = float(test.get("ceiling_tokens_per_s") or SAFE_TOKENS_PER_S)
        # Until it was seen, the most that so many streams could bring; afterwards what the drivers really took.
        share = self._driver_share.get(cell.key)
        rate = streams * (predicted["decode"] if predicted else 0.0) if share is None else share / FULL_SHARE * ceiling
        return drivers_wanted(
            tokens_per_s=rate, streams=streams, ceiling=ceiling, cores=int(self._facts.get("hardware_threads") or 2)
        )

    async def _lost_driver(self, error: KettleError) -> None:
        driver, self._driver = self._driver, None
        self._drivers_lost += 1
        if driver is not None:
            with contextlib.suppress(DriverError):
                await driver.close()
        if self._drivers_lost >= DRIVER_LIMIT:
            raise error

    def _not_launched(self, step: Step, cell: Cell, what: str, last_words: str) -> Outcome:
        concurrency = int(cell.settings["concurrency"] or 1)
        repeat_id = self._ports.store.begin_repeat(self._run_id, cell, step.block, concurrency=concurrency)
        return self._failed(repeat_id, "launch", what, last_words)

    def _failed(self, repeat_id: str, kind: FailureKind, what: str, last_words: str) -> Outcome:
        failure = Failure(kind, what, last_words)
        self._ports.store.fail_repeat(repeat_id, failure)
        return Outcome(repeat_id, failure=failure, launch_s=self._launch_s)
