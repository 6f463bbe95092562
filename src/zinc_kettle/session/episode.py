"""One repeat: warm-up, then the measured requests under telemetry."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from zinc_kettle.core.cautions import STOLEN_SHARE
from zinc_kettle.core.energy import IDLE
from zinc_kettle.core.fit.limit import limit_extras
from zinc_kettle.core.measures import Repeat
from zinc_kettle.core.plan import Cell, Study
from zinc_kettle.core.timeline import Timeline
from zinc_kettle.core.workload import message, salt
from zinc_kettle.errors import MeasureError
from zinc_kettle.ports import LoadSource, RunningEngine, Store, Telemetry
from zinc_kettle.session import progress as p
from zinc_kettle.session.calibrate import Workload, prepare, user_message
from zinc_kettle.wire.messages import Episode, EpisodeDone, RequestOrder, Setup, Tick

QUIET_PAUSE_S = 2.0
"""Between two looks whether the machine is left alone; stolen time comes in waves of seconds to minutes."""
WARM_UP_TOKENS = 16
"""Output of a warm-up request: enough to touch every kernel of decoding, and no longer than that."""


@dataclass
class EpisodeRunner:
    """Runs one repeat of one cell."""

    study: Study
    cell: Cell
    block: int
    engine: RunningEngine
    driver: LoadSource
    telemetry: Telemetry
    store: Store
    emit: Callable[[p.Event], None]
    repeat_id: str
    nonce: str
    """Fresh for each run of the tool and each block; part of every salt."""
    cold: bool
    """True when nothing has been sent since the load."""
    prompts: dict[tuple[object, ...], Workload]
    """Calibrated prompts, shared by all repeats of a run."""
    rig_facts: Mapping[str, Any] = field(default_factory=dict)
    """What is known of the rig it runs on."""
    timelines: list[Timeline] = field(default_factory=list)
    orders: int = 0

    async def run(self) -> Repeat:
        """Calibrate, warm up, measure.

        Raises:
            DriverError: The driver ended.
            MeasureError: No prompt of the wanted length could be made.
        """
        study, engine = self.study, self.engine
        self.emit(p.Warming(self.cell.index, self.block))
        await self.driver.aim(Setup(engine.base_url, engine.model_name, engine.key_variable))
        workload = await self._workload()
        waited_s = await self._warm_up(workload)
        concurrency = int(self.cell.settings["concurrency"] or 1)
        orders = self._orders_of(workload, self.cell.requests(study.repeats), "measured")
        extras = {**_extras(workload), "waited_s": waited_s, **await self._known(concurrency)}
        watch = self.telemetry.watch(engine)
        done: EpisodeDone | None = None
        try:
            done = await self._episode("measured", orders, concurrency, latest=watch.latest)
        finally:
            trace, machine = watch.end(driver_cpu_ns=done.cpu_ns if done else 0)
        return Repeat(
            repeat_id=self.repeat_id,
            block=self.block,
            concurrency=concurrency,
            timelines=tuple(self.timelines),
            launch=engine.launch,
            machine=machine,
            trace=trace,
            driver_cpu_ns=done.cpu_ns,
            wall_ns=done.end_ns - done.start_ns,
            extras=extras,
        )

    async def _known(self, concurrency: int) -> dict[str, float]:
        """What is kept with the repeat besides its requests: round trip, idle power, what its limit is made of."""
        out = limit_extras(
            self.engine.facts, self.rig_facts, streams=concurrency, cache=str(self.cell.settings["cache_precision"])
        )
        trip = await self.engine.round_trip_s()
        if trip is not None:
            out["round_trip_s"] = trip
        if IDLE in self.engine.facts:
            out[IDLE] = float(self.engine.facts[IDLE])
        return out

    async def _warm_up(self, workload: Workload) -> float:
        """Warm up; where the study asks for it, again and again until little processor time is stolen meanwhile.

        What decides is known before the repeat and has nothing to do with its figures, so that waiting favours no cell.

        Returns:
            Seconds waited.
        """
        count, limit_s = self.study.repeats.warm_up, self.study.limits.quiet_s
        waited_s = 0.0
        while count:
            watch = self.telemetry.watch(self.engine)
            try:
                await self._episode("warmup", self._orders_of(workload, count, "warmup"), 1, latest=watch.latest)
            finally:
                _, machine = watch.end(driver_cpu_ns=0)
            if machine.stolen_share <= STOLEN_SHARE or waited_s >= limit_s:
                break
            await asyncio.sleep(QUIET_PAUSE_S)
            waited_s += QUIET_PAUSE_S + machine.wall_s
        return waited_s

    async def _workload(self) -> Workload:
        """The prompts of this cell; counted once for each model and length."""
        names = ("rig", "model", "quantization", "prompt_tokens", "salt")
        key = tuple(self.cell.settings[name] for name in names)
        if key not in self.prompts:
            self.prompts[key] = await prepare(self.study, self.cell, self.engine, self._probe)
        return self.prompts[key]

    def _orders_of(self, workload: Workload, count: int, role: str) -> list[RequestOrder]:
        output = int(self.cell.settings["output_tokens"] or 1)
        if role == "warmup":
            output = min(output, WARM_UP_TOKENS)
        orders = []
        for i in range(count):
            prompt = workload.prompts[i % len(workload.prompts)]
            orders.append(self._order(prompt.body, role, output, cold=self.cold and i == 0))
        self.cold = False
        return orders

    def _order(self, body: str, role: str, output: int, *, cold: bool = False) -> RequestOrder:
        index = self.orders
        self.orders += 1
        salted = salt(self.study.seed, f"{self.nonce}-{self.cell.index}", index) if self._salted else None
        return RequestOrder(
            id=f"{self.repeat_id}-{index}",
            role=role,
            messages=user_message(message(body, salted)),
            max_tokens=output,
            temperature=self.study.temperature,
            seed=self.study.seed,
            cold=cold,
            extra=self.engine.extras(),
        )

    @property
    def _salted(self) -> bool:
        return bool(self.cell.settings["salt"])

    async def _episode(
        self,
        role: str,
        orders: Sequence[RequestOrder],
        concurrency: int,
        *,
        latest: Callable[[], tuple[int, float]] = lambda: (0, 0.0),
    ) -> EpisodeDone:
        limits = self.study.limits
        episode = Episode(
            id=f"{self.repeat_id}-{role}",
            concurrency=concurrency,
            requests=list(orders),
            timeout_s=limits.request_s,
            stall_s=limits.stall_s,
        )

        def on_tick(tick: Tick) -> None:
            resident, cores = latest()
            self.emit(
                p.Live(
                    self.cell.index, self.block, role == "warmup", tuple(tick.streams), tick.finished,
                    tick.total, resident, cores,
                )
            )  # fmt: skip

        return await self.driver.run(episode, on_tick=on_tick, on_timeline=self._received)

    def _received(self, timeline: Timeline) -> None:
        self.store.add_timeline(self.repeat_id, timeline)
        self.timelines.append(timeline)
        self.emit(p.Received(self.cell.index, timeline))

    async def _probe(self, text: str) -> int | None:
        """Count by usage: one request with one output token; it is the cold one where it is the first."""
        order = RequestOrder(
            id=f"{self.repeat_id}-probe",
            role="warmup",
            messages=user_message(text),
            max_tokens=1,
            cold=self.cold,
            extra=self.engine.extras(),
        )
        self.cold = False
        seen: list[Timeline] = []
        limits = self.study.limits
        episode = Episode(f"{self.repeat_id}-probe", 1, [order], timeout_s=limits.request_s, stall_s=limits.stall_s)
        await self.driver.run(episode, on_tick=lambda _tick: None, on_timeline=seen.append)
        if seen and seen[0].error:
            raise MeasureError("the engine did not answer", why=seen[0].error, remedy="check its address and its log")
        return seen[0].prompt_tokens if seen else None


def _extras(workload: Workload) -> dict[str, float]:
    extras: dict[str, float] = {}
    if workload.template_tokens is not None:
        extras["template_tokens"] = float(workload.template_tokens)
    counted = [prompt.tokens for prompt in workload.prompts if prompt.tokens is not None]
    if counted:
        extras["prompt_tokens_least"] = float(min(counted))
        extras["prompt_tokens_most"] = float(max(counted))
    return extras
