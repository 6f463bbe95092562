"""One repeat: warm-up, then the measured requests under telemetry."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

from zinc_kettle.core.cautions.machine import STOLEN_SHARE
from zinc_kettle.core.energy import IDLE
from zinc_kettle.core.facts import MachineFacts
from zinc_kettle.core.fit.limit import limit_extras
from zinc_kettle.core.measures.prefill import PROMPT_CHARACTERS
from zinc_kettle.core.measures.traffic import TPOT_LIMIT, TTFT_LIMIT
from zinc_kettle.core.plan.factors import FACTORS
from zinc_kettle.core.plan.recipe import request_fields
from zinc_kettle.core.plan.study import Cell, Study, shape_of
from zinc_kettle.core.record.repeat import Repeat
from zinc_kettle.core.record.telemetry import Latest
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.core.rig import BUSY_CORES
from zinc_kettle.core.workload import salt
from zinc_kettle.errors import MeasureError
from zinc_kettle.ports.driver import LoadSource
from zinc_kettle.ports.engines import RunningEngine
from zinc_kettle.ports.store import Store
from zinc_kettle.ports.telemetry import Telemetry
from zinc_kettle.session import progress as p
from zinc_kettle.session.calibrate import Workload, prepare, user_message
from zinc_kettle.session.orders import Orders
from zinc_kettle.wire.messages import Episode, EpisodeDone, ReportedAt, RequestOrder, Retry, Setup, Tick

QUIET_PAUSE_S = 2.0
"""Between two looks whether the machine is left alone; stolen time comes in waves of seconds to minutes."""


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
    rig_facts: MachineFacts = field(default_factory=MachineFacts)
    """What is known of the rig it runs on."""
    drivers: int = 1
    """Driver processes that share the load."""
    timelines: list[Timeline] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.orders = Orders(self.study, self.cell, self.repeat_id, self._salt, self._fields, self.block)

    @property
    def _fields(self) -> dict[str, Any]:
        """Fields of its engine's recipe, as the cell's settings have them."""
        exact = self.study.prompts.answers == "exact"
        return request_fields(self.engine.recipe, self.cell.settings, exact=exact)

    @property
    def _queues(self) -> bool:
        """True where requests wait for a slot at the engine: then nothing is gained by sending one a moment earlier."""
        slots = self.cell.level("slots")
        return slots is not None and self.orders.streams > int(slots)

    def _salt(self, index: int) -> str | None:
        if not self.cell.settings["salt"]:
            return None
        return salt(self.study.seed, f"{self.nonce}-{self.cell.key}", index)

    def _take_cold(self) -> bool:
        cold, self.cold = self.cold, False
        return cold

    async def run(self) -> Repeat:
        """Calibrate, warm up, measure.

        Raises:
            DriverError: The driver ended.
            MeasureError: No prompt of the wanted length could be made.
        """
        study, engine = self.study, self.engine
        self.emit(p.Warming(self.cell.key, self.block))
        await self.driver.aim(setup_for(engine, connect_ahead=not self._queues))
        workload = await self._workload()
        waited_s = await self._warm_up(workload)
        concurrency = self.orders.streams
        orders = self.orders.measured(workload, cold=self._take_cold())
        extras = {
            **_extras(workload),
            **_shape_extras(study, self.cell),
            "waited_s": waited_s,
            **await self._known(concurrency),
        }
        watch = self.telemetry.watch(engine)
        done: EpisodeDone | None = None
        try:
            done = await self._episode(
                "measured", orders, concurrency, latest=watch.latest, shape=self.orders.wire_shape, drivers=self.drivers
            )
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
            self.engine.facts,
            self.rig_facts,
            streams=concurrency,
            cache=str(self.cell.level("cache-precision") or "f16"),
        )
        trip = await self.engine.round_trip_s()
        if trip is not None:
            out["round_trip_s"] = trip
        if "idle_w" in self.engine.facts:
            out[IDLE] = self.engine.facts["idle_w"]
        return out

    async def _warm_up(self, workload: Workload) -> float:
        """Warm up; where the study asks for it, again and again until others leave the processor alone meanwhile, and
        no hypervisor takes it away.

        What decides is known before the repeat and has nothing to do with its figures, so that waiting favours no cell.

        Returns:
            Seconds waited.
        """
        count, limit_s = self.study.repeats.warm_up, self.study.limits.quiet_s
        waited_s = 0.0
        while count:
            watch, done = self.telemetry.watch(self.engine), None
            try:
                warm = self.orders.warm_up(workload, count, cold=self._take_cold())
                done = await self._episode("warmup", warm, 1, latest=watch.latest)
            finally:
                _, machine = watch.end(driver_cpu_ns=0 if done is None else done.cpu_ns)
            quiet = machine.stolen_share <= STOLEN_SHARE and machine.other_cores <= BUSY_CORES
            if quiet or waited_s >= limit_s:
                break
            self.emit(p.Disturbed(self.cell.key, self.block, machine.other_cores, machine.stolen_share))
            await asyncio.sleep(QUIET_PAUSE_S)
            waited_s += QUIET_PAUSE_S + machine.wall_s
        return waited_s

    async def _workload(self) -> Workload:
        """The prompts of this cell; counted once for each model and length."""
        key = tuple(self.cell.settings[name] for name in FACTORS if name != "rate")
        if key not in self.prompts:
            self.prompts[key] = await prepare(self.study, self.cell, self.engine, self._probe)
        return self.prompts[key]

    async def _episode(
        self,
        role: str,
        orders: Sequence[RequestOrder],
        concurrency: int,
        *,
        latest: Callable[[], Latest] = Latest,
        shape: str = "closed",
        drivers: int = 1,
    ) -> EpisodeDone:
        limits, retry = self.study.limits, self.study.retry
        episode = Episode(
            id=f"{self.repeat_id}-{role}",
            concurrency=concurrency,
            requests=list(orders),
            shape=shape,
            drivers=drivers,
            retry=Retry(retry.times, list(retry.on), retry.wait_s, retry.backoff, retry.most_s),
            timeout_s=limits.request_s,
            stall_s=limits.stall_s,
        )

        def on_tick(tick: Tick) -> None:
            self.emit(p.Live(self.cell.key, self.block, role == "warmup", tick, latest()))

        return await self.driver.run(episode, on_tick=on_tick, on_timeline=self._received)

    def _received(self, timeline: Timeline) -> None:
        self.store.add_timeline(self.repeat_id, timeline)
        self.timelines.append(timeline)
        self.emit(p.Received(self.cell.key, timeline))

    async def _probe(self, text: str) -> int | None:
        """Count by usage: one request with one output token; it is the cold one where it is the first."""
        order = RequestOrder(
            id=f"{self.repeat_id}-probe",
            role="warmup",
            messages=user_message(text),
            max_tokens=1,
            cold=self._take_cold(),
            extra=self._fields,
        )
        seen: list[Timeline] = []
        limits = self.study.limits
        episode = Episode(f"{self.repeat_id}-probe", 1, [order], timeout_s=limits.request_s, stall_s=limits.stall_s)
        await self.driver.run(episode, on_tick=lambda _tick: None, on_timeline=seen.append)
        if seen and seen[0].error:
            raise MeasureError("the engine did not answer", why=seen[0].error, remedy="check its address and its log")
        return seen[0].prompt_tokens if seen else None


def setup_for(engine: RunningEngine, *, connect_ahead: bool = True) -> Setup:
    """Where the driver sends requests to an engine, and how it reads the answers."""
    return Setup(
        engine.base_url,
        engine.model_name,
        engine.key_variable,
        engine.key_file,
        engine.ca_file,
        reports={name: ReportedAt(found.at, found.times) for name, found in engine.recipe.reports.items()},
        connect_ahead=connect_ahead and engine.recipe.connect_ahead,
    )


def _shape_extras(study: Study, cell: Cell) -> dict[str, float]:
    """What figures must know of how the load was given."""
    shape, promise = shape_of(study, cell), study.promise
    limits = {TTFT_LIMIT: promise.ttft_s, TPOT_LIMIT: promise.tpot_s}
    out = {name: limit for name, limit in limits.items() if limit is not None}
    if shape == "open":
        return {**out, "open_loop": 1.0, "rate_per_minute": float(cell.settings["rate"] or 0)}
    if study.load.think_s:
        out["think_s"] = study.load.think_s
    return out if shape == "closed" else {**out, shape: 1.0}


def _extras(workload: Workload) -> dict[str, float]:
    extras: dict[str, float] = {}
    if workload.template_tokens is not None:
        extras["template_tokens"] = float(workload.template_tokens)
    sizes = [
        sum(len(text) for _, text in prompt.before) + len(prompt.earlier) + len(prompt.body)
        for prompt in workload.prompts
    ]
    extras[PROMPT_CHARACTERS] = sum(sizes) / len(sizes)
    counted = [prompt.tokens for prompt in workload.prompts if prompt.tokens is not None]
    if counted:
        extras["prompt_tokens_least"] = float(min(counted))
        extras["prompt_tokens_most"] = float(max(counted))
    return extras
