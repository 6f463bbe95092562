"""One repeat: warm-up, then the measured requests under telemetry."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from zinc_kettle.core.measures import Repeat
from zinc_kettle.core.plan import Cell, Run, Study
from zinc_kettle.core.timeline import Timeline
from zinc_kettle.core.workload import message, salt
from zinc_kettle.errors import MeasureError
from zinc_kettle.ports import LoadSource, RunningEngine, Store, Telemetry
from zinc_kettle.session import progress as p
from zinc_kettle.session.calibrate import Workload, prepare, user_message
from zinc_kettle.wire.messages import Episode, EpisodeDone, RequestOrder, Setup, Tick

WARM_UP_TOKENS = 16
"""Output of a warm-up request: enough to touch every kernel of decoding, and no longer than that."""


class EpisodeRunner:
    """Runs one repeat of one cell."""

    def __init__(
        self,
        study: Study,
        cell: Cell,
        run: Run,
        engine: RunningEngine,
        driver: LoadSource,
        telemetry: Telemetry,
        store: Store,
        emit: Callable[[p.Event], None],
        *,
        repeat_id: str,
        nonce: str,
        cold: bool,
        prompts: dict[tuple[object, ...], Workload],
    ) -> None:
        self._study = study
        self._cell = cell
        self._run = run
        self._engine = engine
        self._driver = driver
        self._telemetry = telemetry
        self._store = store
        self._emit = emit
        self._repeat_id = repeat_id
        self._nonce = nonce
        self._cold = cold
        self._prompts = prompts
        self._timelines: list[Timeline] = []
        self._orders = 0

    async def run(self) -> Repeat:
        """Calibrate, warm up, measure.

        Raises:
            DriverError: The driver ended.
            MeasureError: No prompt of the wanted length could be made.
        """
        study, engine = self._study, self._engine
        self._emit(p.Warming(self._cell.index, self._run.block))
        await self._driver.aim(Setup(engine.base_url, engine.model_name, engine.key_variable))
        workload = await self._workload()
        if study.repeats.warm_up:
            await self._episode("warmup", self._orders_of(workload, study.repeats.warm_up, "warmup"), 1)
        concurrency = int(self._cell.settings["concurrency"] or 1)
        orders = self._orders_of(workload, self._cell.requests(study.repeats), "measured")
        watch = self._telemetry.watch(engine.pid)
        done: EpisodeDone | None = None
        try:
            done = await self._episode("measured", orders, concurrency, latest=watch.latest)
        finally:
            trace, machine = watch.end(driver_cpu_ns=done.cpu_ns if done else 0)
        return Repeat(
            repeat_id=self._repeat_id,
            block=self._run.block,
            concurrency=concurrency,
            timelines=tuple(self._timelines),
            launch=engine.launch,
            machine=machine,
            trace=trace,
            driver_cpu_ns=done.cpu_ns,
            wall_ns=done.end_ns - done.start_ns,
            extras=_extras(workload),
        )

    async def _workload(self) -> Workload:
        """The prompts of this cell; counted once for each model and length."""
        names = ("model", "quantization", "prompt_tokens", "salt")
        key = tuple(self._cell.settings[name] for name in names)
        if key not in self._prompts:
            self._prompts[key] = await prepare(self._study, self._cell, self._engine, self._probe)
        return self._prompts[key]

    def _orders_of(self, workload: Workload, count: int, role: str) -> list[RequestOrder]:
        output = int(self._cell.settings["output_tokens"] or 1)
        if role == "warmup":
            output = min(output, WARM_UP_TOKENS)
        orders = []
        for i in range(count):
            prompt = workload.prompts[i % len(workload.prompts)]
            orders.append(self._order(prompt.body, role, output, cold=self._cold and i == 0))
        self._cold = False
        return orders

    def _order(self, body: str, role: str, output: int, *, cold: bool = False) -> RequestOrder:
        index = self._orders
        self._orders += 1
        salted = salt(self._study.seed, f"{self._nonce}-{self._cell.index}", index) if self._salted else None
        return RequestOrder(
            id=f"{self._repeat_id}-{index}",
            role=role,
            messages=user_message(message(body, salted)),
            max_tokens=output,
            temperature=self._study.temperature,
            seed=self._study.seed,
            cold=cold,
            extra=self._engine.extras(),
        )

    @property
    def _salted(self) -> bool:
        return bool(self._cell.settings["salt"])

    async def _episode(
        self,
        role: str,
        orders: Sequence[RequestOrder],
        concurrency: int,
        *,
        latest: Callable[[], tuple[int, float]] = lambda: (0, 0.0),
    ) -> EpisodeDone:
        limits = self._study.limits
        episode = Episode(
            id=f"{self._repeat_id}-{role}",
            concurrency=concurrency,
            requests=list(orders),
            timeout_s=limits.request_s,
            stall_s=limits.stall_s,
        )

        def on_tick(tick: Tick) -> None:
            resident, cores = latest()
            self._emit(
                p.Live(
                    self._cell.index, self._run.block, role == "warmup", tuple(tick.streams), tick.finished,
                    tick.total, resident, cores,
                )
            )  # fmt: skip

        return await self._driver.run(episode, on_tick=on_tick, on_timeline=self._received)

    def _received(self, timeline: Timeline) -> None:
        self._store.add_timeline(self._repeat_id, timeline)
        self._timelines.append(timeline)
        self._emit(p.Received(self._cell.index, timeline))

    async def _probe(self, text: str) -> int | None:
        """Count by usage: one request with one output token; it is the cold one where it is the first."""
        order = RequestOrder(
            id=f"{self._repeat_id}-probe",
            role="warmup",
            messages=user_message(text),
            max_tokens=1,
            cold=self._cold,
            extra=self._engine.extras(),
        )
        self._cold = False
        seen: list[Timeline] = []
        limits = self._study.limits
        episode = Episode(
            f"{self._repeat_id}-probe", 1, [order], timeout_s=limits.request_s, stall_s=limits.stall_s
        )
        await self._driver.run(episode, on_tick=lambda _tick: None, on_timeline=seen.append)
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

