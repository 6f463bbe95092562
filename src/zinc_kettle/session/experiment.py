"""A run of a study from its first launch to its last repeat: what comes next, what is kept, how long it takes."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from zinc_kettle.core.facts import DriverTest, RunFacts
from zinc_kettle.core.plan.recipe import further_models
from zinc_kettle.core.plan.study import Cell, Study
from zinc_kettle.core.results import Failure, KeptRepeat, cell_kept
from zinc_kettle.core.run.budget import Speeds, TimeLeft
from zinc_kettle.core.run.decisions import Pause, Settle, Step, TimeUp
from zinc_kettle.core.run.schedule import NOTHING, Schedule, Tally
from zinc_kettle.core.run.stopping import settled_now
from zinc_kettle.core.search.capacity import next_decisions
from zinc_kettle.core.summary import CellSummary, series
from zinc_kettle.errors import KettleError, MeasureError, RunHeldError
from zinc_kettle.ports.models import ModelFile
from zinc_kettle.session import progress as p
from zinc_kettle.session.lane import Lane, Outcome
from zinc_kettle.session.ports import Ports

HEARTBEAT_S = 3.0
"""Between two signs of life in the store; a lease outlasts five of them."""
PAUSE_LOOK_S = 0.5
"""Between two looks whether a paused run is to go on."""

CELLS_AT_HAND = 512
"""Cells whose repeats stay in memory, some MB; those of others are read from the store when they are needed again."""


@dataclass
class _State:
    """What changes while a study runs."""

    retried: dict[str, frozenset[int]] = field(default_factory=dict)
    """Blocks in which a cell that failed was let try once more, by cell."""
    done: dict[str, Tally] = field(default_factory=dict)
    repeats: dict[str, list[KeptRepeat]] = field(default_factory=dict)
    """Repeats of cells that were measured or read in this process, by cell."""
    measured: int = 0
    failed: int = 0


class Experiment:
    """Measures what of a study is still missing.

    Args:
        study: The study.
        ports: The rest of the tool.
        emit: Takes each event of the run, in the event loop.
        source: The study file as it was; empty where there was none.
        nonce: Makes the salts of this start unlike those of any other.
        fresh: Begin a new run even where one was stopped.
        speeds: What is predicted of the cells; asked once their rigs are known.
    """

    def __init__(
        self,
        study: Study,
        ports: Ports,
        emit: Callable[[p.Event], None],
        *,
        source: str = "",
        nonce: str = "",
        fresh: bool = False,
        speeds: Callable[[], Speeds] = dict,
    ) -> None:
        self._predict = speeds
        self._speeds: Speeds = {}
        self._schedule = Schedule(study)
        self._ports = ports
        self._emit = emit
        self._source = source
        self._nonce = nonce
        self._fresh = fresh
        self._models: dict[str, ModelFile | None] = {}
        self._state = _State()
        self._run_id = ""
        self._facts: RunFacts = {}
        self._lane: Lane
        """Where its repeats are measured; there is one from the beginning of the run."""

    @property
    def _study(self) -> Study:
        """With the levels that were added so far."""
        return self._schedule.whole

    async def run(self) -> p.Ended:
        """Measure every missing repeat; cancelling stops cleanly and keeps everything.

        Raises:
            StoreError: Figures could not be kept, or another copy of the tool took the run over.
            ModelError: A model is not there and cannot be made.
            RigError: A rig cannot be reached; nothing was begun.
            RunHeldError: Another copy of the tool is measuring this run.
        """
        ports = self._ports
        try:
            self._facts = await ports.telemetry.machine_facts()
            test = await self._tested_driver()
            if test is not None:
                self._facts["driver_test"] = test
            self._run_id = await self._begin()
            self._schedule = Schedule(self._schedule.study, run=self._run_id)
            self._lane = Lane(ports, self._emit, run_id=self._run_id, facts=self._facts, nonce=self._nonce)
        except KettleError:
            await ports.engines.close()
            raise
        state = "stopped"
        heart = asyncio.create_task(self._beat())
        work = asyncio.create_task(self._work())
        try:
            await asyncio.wait({heart, work}, return_when=asyncio.FIRST_COMPLETED)
            if heart.done():
                heart.result()
            state = "measured" if await work else "stopped"
        finally:
            for task in (heart, work):
                task.cancel()
            await asyncio.gather(heart, work, return_exceptions=True)
            await self._end(state)
        ended = p.Ended(state, self._state.measured, self._state.failed)
        self._emit(ended)
        return ended

    async def _begin(self) -> str:
        """Take the run; where another copy held it a moment ago, wait whether it still says so."""
        ports, heard = self._ports, 0.0
        while True:
            try:
                return ports.store.begin(
                    self._schedule.study,
                    source=self._source,
                    facts=self._facts,
                    wall_s=ports.clock.wall_s(),
                    fresh=self._fresh,
                )
            except RunHeldError as error:
                if heard and error.heartbeat_s > heard:
                    raise
                heard = error.heartbeat_s
                await asyncio.sleep(max(0.1, min(error.lease_s, heard + error.lease_s - ports.clock.wall_s()) + 0.1))

    async def _beat(self) -> None:
        while True:
            await asyncio.sleep(HEARTBEAT_S)
            self._ports.store.beat(self._run_id, wall_s=self._ports.clock.wall_s())

    async def _work(self) -> bool:
        """Measure; true where nothing is left."""
        store = self._ports.store
        until = self._study.repeats.until_measure if self._study.repeats.adaptive else None
        # What failed before is tried again.
        self._state.done = {key: tally.without(tally.failed) for key, tally in store.done(self._run_id, until).items()}
        self._read_decisions()
        left = self._left()
        done = sum(tally.measured for tally in self._state.done.values())
        self._emit(p.Began(self._run_id, done + sum(left.values()), done))
        await self._find_models(left)
        return await self._run_all(left)

    def _left(self) -> dict[str, int]:
        """Repeats still to do, by cell."""
        out = {}
        for cell in self._study.cells:
            tally = self._state.done.get(cell.key, NOTHING)
            out[cell.key] = max(0, self._schedule.wanted(cell.key, tally) - len(tally.blocks))
        return out

    def _read_decisions(self) -> bool:
        """Look into the log of decisions; true where there is something new."""
        decisions = self._ports.store.decisions(self._run_id)
        if decisions == self._schedule.decisions:
            return False
        self._schedule = Schedule(self._schedule.study, decisions, self._run_id)
        return True

    async def _tested_driver(self) -> DriverTest | None:
        """The driver's self-test; a study goes on without it."""
        if self._ports.test_driver is None:
            return None
        streams = max(int(cell.settings["concurrency"] or 1) for cell in self._study.cells)
        try:
            return await self._ports.test_driver(streams)
        except MeasureError as error:
            return {"failed": str(error)}

    async def _end(self, state: str) -> None:
        try:
            await self._lane.close()
            await self._ports.engines.close()
        finally:
            self._ports.store.set_state(self._run_id, state)

    async def _find_models(self, left: Mapping[str, int]) -> None:
        if self._study.endpoint is not None:
            return
        # Thousands of cells share a few files.
        files: dict[tuple[str, str | None, str | None], ModelFile | None] = {}
        for key in [key for key, count in left.items() if count and key not in self._models]:
            cell = self._study.by_key[key]
            spec = cell.launch
            wanted = spec.model, spec.quantization, spec.rig
            further = [(*found, spec.rig) for found in further_models(cell.engine, spec.levels).values()]
            for file in (wanted, *further) if cell.engine.started else ():
                if file not in files:
                    files[file] = await self._model(*file)
            self._models[key] = files.get(wanted)

    async def _model(self, name: str, quantization: str | None, rig: str | None) -> ModelFile | None:
        found = self._ports.models.find(name, quantization, rig)
        if found is None and self._ports.models.needs_making(rig):
            found = await self._make(name, quantization)
        return found

    async def _make(self, name: str, quantization: str | None) -> ModelFile:
        loop = asyncio.get_running_loop()

        def told(done: int, total: int) -> None:
            loop.call_soon_threadsafe(self._emit, p.Making(name, quantization, done, total))

        return await asyncio.to_thread(self._ports.models.make, name, quantization, told)

    async def _run_all(self, left: dict[str, int]) -> bool:
        """Step after step, the next one found each time; true where nothing is left at the end."""
        self._settle()
        # Earlier runs are read for it: a screen beside this goes on meanwhile.
        self._speeds = await asyncio.to_thread(self._predict)
        time_left, block = self._time_left(left), 0
        self._tell_progress(time_left)
        paused, started = False, self._ports.clock.now_ns()
        while True:
            if self._read_decisions():
                self._emit(p.Widened(self._run_id))
                left, block = self._left(), 0
                await self._find_models(left)
                time_left = self._time_left(left)
            if self._schedule.paused:
                if not paused:
                    self._emit(p.Paused())
                paused = True
                await asyncio.sleep(PAUSE_LOOK_S)
                continue
            paused = False
            step = self._schedule.next_step(self._state.done, from_block=block)
            if step is None:
                if self._second_chance() or await self._extend_search():
                    time_left, block = self._time_left(self._left()), 0
                    continue
                return not any(self._left().values()) and not self._failed_in_part()
            if self._exceeds_cap(started, time_left.of(step.cell)):
                self._ports.store.decide(self._run_id, TimeUp(self._ports.clock.wall_s(), step=step, by="tool"))
                return False
            if self._schedule.study.repeats.order == "interleaved" and not self._schedule.first:
                block = step.block
            await self._take_step(step, time_left)

    async def _take_step(self, step: Step, time_left: TimeLeft) -> None:
        """Measure one repeat, and all that follows from it."""
        began = self._ports.clock.now_ns()
        out = await self._run_one(step)
        if out.failure is not None:
            await self._after_failure(step)
        self._settle(step)
        tally = self._state.done[step.cell]
        more = max(0, self._schedule.wanted(step.cell, tally) - len(tally.blocks))
        took_s = (self._ports.clock.now_ns() - began) / 1e9
        time_left.repeat_took(step.cell, took_s, left=more, launch_s=out.launch_s)
        self._tell_progress(time_left)

    def _second_chance(self) -> bool:
        """Let what failed in this run be tried once more, now that all else is measured; true where there is something.
        Not what cannot be launched, nor what was tried again at once.
        """
        state, found = self._state, False
        for key, tally in state.done.items() if self._schedule.on_failure == "go-on" else ():
            again = tally.failed - state.retried.get(key, frozenset())
            if again and key in self._study.by_key and not self._lane.given_up(self._study.by_key[key].launch):
                state.retried[key] = state.retried.get(key, frozenset()) | again
                state.done[key], found = tally.without(again), True
        return found

    def _failed_in_part(self) -> bool:
        """True where repeats are missing that failed, and might not fail once more: their cell can be launched."""
        for key, tally in self._state.done.items():
            cell = self._study.by_key.get(key)
            missing = tally.failed and tally.measured < self._schedule.wanted(key, tally)
            if cell is not None and missing and (tally.measured or not self._lane.given_up(cell.launch)):
                return True
        return False

    async def _extend_search(self) -> bool:
        """Enter the next load of a search for the limit into the log; true where there is one.

        A search goes on once everything planned is measured, so that each step has all its repeats.
        """
        study = self._study
        if not study.capacity.factor or any(self._left().values()):
            return False
        now_s = self._ports.clock.wall_s()
        found = await asyncio.to_thread(
            next_decisions, study, self._schedule, lambda key: self._ports.store.repeats(self._run_id, key), now_s
        )
        ahead = Schedule(self._schedule.study, (*self._schedule.decisions, *found), self._run_id)
        tallies = ((cell.key, self._state.done.get(cell.key, NOTHING)) for cell in ahead.whole.cells)
        if not any(ahead.wanted(key, tally) > len(tally.blocks) for key, tally in tallies):
            return False  # what brings nothing to measure would be asked for again and again
        for decision in found:
            self._ports.store.decide(self._run_id, decision)
        return True

    async def _after_failure(self, step: Step) -> None:
        """What is to happen when a repeat has failed, as the person decided."""
        self._read_decisions()
        if self._schedule.on_failure == "again":
            self._lane.try_launches_again()
            await self._run_one(step)
        elif self._schedule.on_failure == "ask":
            why = f"{self._study.by_key[step.cell].title} failed"
            self._ports.store.decide(self._run_id, Pause(self._ports.clock.wall_s(), step=step, by="tool", reason=why))

    def _exceeds_cap(self, started_ns: int, needs_s: float) -> bool:
        """True where the next repeat is expected to end after the time the study may take."""
        cap = self._schedule.study.limits.total_s
        begun = self._state.measured or self._state.failed  # before that there are only guesses
        return bool(cap and begun) and (self._ports.clock.now_ns() - started_ns) / 1e9 + needs_s > cap

    def _settle(self, step: Step | None = None) -> None:
        """Enter into the log which cells need no more repeats, where the question decides that."""
        if self._study.repeats.until_answered is None:
            return
        found = settled_now(self._study, self._state.done)
        now_s = self._ports.clock.wall_s()
        for key, count in found.items():
            if key not in self._schedule.settled:
                levels = self._study.by_key[key].levels
                self._ports.store.decide(self._run_id, Settle(now_s, levels, step, "tool", count))

    def _time_left(self, left: Mapping[str, int]) -> TimeLeft:
        sizes = {key: None if m is None else float(m.size_bytes) for key, m in self._models.items()}
        return TimeLeft(self._study, left, model_bytes=sizes, speeds=self._speeds)

    def _tell_progress(self, time_left: TimeLeft) -> None:
        done = sum(tally.measured for tally in self._state.done.values())
        failed = sum(len(tally.failed) for tally in self._state.done.values())
        left_s = time_left.seconds if time_left.known else None
        self._emit(p.Progress(done, done + failed + time_left.repeats, left_s))

    async def _run_one(self, step: Step) -> Outcome:
        """Measure one repeat and keep what became of its cell."""
        cell, state = self._study.by_key[step.cell], self._state
        out = await self._lane.measure(self._study, step, cell, self._models.get(step.cell))
        if out.repeat is not None:
            state.measured += 1
            await self._record_repeat(step, cell, KeptRepeat("measured", out.repeat, facts=out.facts))
            return out
        state.failed += 1
        # Its requests were kept one by one as they came, so they are read back from there.
        state.repeats.pop(step.cell, None)
        mine = await asyncio.to_thread(self._ports.store.repeats, self._run_id, step.cell)
        kept = next(r for r in mine if r.repeat.repeat_id == out.repeat_id)
        await self._record_repeat(step, cell, kept, out.failure)
        return out

    async def _record_repeat(self, step: Step, cell: Cell, kept: KeptRepeat, failure: Failure | None = None) -> None:
        """Draw the cell's repeats together, keep that, and tell it; off the event loop, which has a screen to serve."""
        store, state = self._ports.store, self._state
        if step.cell not in state.repeats:
            before = await asyncio.to_thread(store.repeats, self._run_id, step.cell)
            state.repeats[step.cell] = [r for r in before if r.repeat.repeat_id != kept.repeat.repeat_id]
        state.repeats[step.cell].append(kept)
        if len(state.repeats) > CELLS_AT_HAND:
            state.repeats.pop(next(iter(state.repeats)))
        of_cell = await asyncio.to_thread(cell_kept, self._study, cell, self._facts, state.repeats[step.cell])
        assert isinstance(of_cell.summary, CellSummary)
        store.keep_summary(self._run_id, step.cell, of_cell.summary)
        values = () if failure else series([kept.repeat], self._study.repeats.until_measure)
        before_it = state.done.get(step.cell, NOTHING)
        tally = before_it.with_repeat(step.block, values, failed=failure is not None)
        state.done[step.cell] = tally
        wanted = self._schedule.wanted(step.cell, tally)
        self._emit(p.RepeatEnded(step.cell, step.block, of_cell, failure, wanted))
