"""A made-up engine on a made-up rig: loads, batches continuously, keeps a KV cache, spills, gets hot, fails."""

from __future__ import annotations

import asyncio
import time
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Any, get_args

from zinc_kettle.core.fit.placement import Placement, place
from zinc_kettle.core.fit.sizing import LaunchSettings, wish_of
from zinc_kettle.core.fit.step_work import kv_bytes_at
from zinc_kettle.core.model_shape import ModelShape
from zinc_kettle.core.plan.factors import Level
from zinc_kettle.core.plan.recipe import SettingRole
from zinc_kettle.core.units import byte_size
from zinc_kettle.sim.fleet import SimRig, sim_shape
from zinc_kettle.sim.physics import STEP_S, Body, Noise, Step, cold_factor, device_shares, parts

TEMPLATE_TOKENS = 7
CACHED_SPEEDUP = 8.0
LOAD_S = 0.3
LONGEST_LOAD_S = 20.0
"""A rehearsal is to be watched, not waited for: longer loads are cut to this, and the metrics say so."""
FAULTS = ("status", "reset", "close", "stall", "slow", "die", "load")


class LoadFailedError(Exception):
    """The model does not load; its text is the engine's last words."""


@dataclass
class Job:
    """One request in the engine."""

    prompt: list[str]
    wanted: int
    tokens: asyncio.Queue[tuple[int, float, float]] = field(default_factory=asyncio.Queue)
    """Tokens so far, prefill ms and decode ms by the engine's own clock, put when a token is out."""
    done_prefill: int = 0
    cached: int = 0
    produced: int = 0
    prompt_ms: float = 0.0
    predicted_ms: float = 0.0
    dropped: bool = False

    @property
    def depth(self) -> int:
        """Tokens it has in the cache."""
        return self.done_prefill + self.produced


class SimEngine:
    """The machine and what runs on it."""

    def __init__(self, rig: SimRig, *, seed: int = 1, clock: Callable[[], float] = time.monotonic) -> None:
        self.rig = rig
        self.body = Body(rig)
        self.shape: ModelShape | None = None
        self.model = ""
        self.placed: Placement | None = None
        self.wish = LaunchSettings()
        self.threads = rig.cores
        self.prompt_cache = False
        self.waiting: deque[Job] = deque()
        self.active: list[Job] = []
        self.faults: deque[dict[str, Any]] = deque()
        self.power_w = rig.idle_watts
        self.device_load = 0.0
        self.device_busy: dict[str, float] = {}
        """Share of the step in which each device works, by its name."""
        self.steps = 0
        self._seed = seed
        self._noise = Noise(f"{seed}-{rig.name}", rig.noise)
        self._seen_files: set[str] = set()
        self._last_prompts: deque[list[str]] = deque(maxlen=8)
        self._clock = clock
        self._at = clock()
        self._wake = asyncio.Event()
        self._loop: asyncio.Task[None] | None = None

    # loading
    async def load(self, settings: dict[str, Any]) -> float:
        """Load a model as a study's launch settings ask; returns the seconds it took.

        Raises:
            LoadFailedError: No such model, or not enough memory.
        """
        await self.unload()
        if self.faults and self.faults[0]["kind"] == "load":
            self.faults.popleft()
            raise LoadFailedError("error: loading was set to fail, for rehearsal")
        shape, placed, wish = self._placed(settings)
        model, quantization = str(settings.get("model")), settings.get("quantization") or "F16"
        key = f"{model}-{quantization}"
        speed = self.rig.disk * (CACHED_SPEEDUP if key in self._seen_files else 1.0)
        seconds = min(LONGEST_LOAD_S, LOAD_S + shape.weights_bytes / speed) * self._noise.next()
        await asyncio.sleep(seconds)
        self._seen_files.add(key)
        self._adopt(settings, shape, placed, wish)
        self._loop = asyncio.create_task(self._run())
        return seconds

    def hold(self, settings: dict[str, Any]) -> None:
        """Hold a model at once, for whoever drives its steps in a time of their own.

        Raises:
            LoadFailedError: No such model, or not enough memory.
        """
        self._adopt(settings, *self._placed(settings))

    def _placed(self, settings: dict[str, Any]) -> tuple[ModelShape, Placement, LaunchSettings]:
        model, quantization = str(settings.get("model")), settings.get("quantization") or "F16"
        try:
            shape = sim_shape(model, quantization)
        except KeyError:
            raise LoadFailedError(f"error: there is no simulated model {model} at {quantization}") from None
        roles: dict[SettingRole, Level] = {
            r: settings[n] for r in get_args(SettingRole) if (n := r.replace("-", "_")) in settings
        }
        wish = replace(wish_of(roles), load_mode="copied")
        placed = place(shape, wish, self.rig.placement_devices())
        if not placed.works:
            raise LoadFailedError(
                f"error: insufficient memory, {byte_size(-placed.headroom_bytes)} more are needed on {self.rig.name}"
            )
        return shape, placed, wish

    def _adopt(self, settings: dict[str, Any], shape: ModelShape, placed: Placement, wish: LaunchSettings) -> None:
        self.shape, self.model, self.placed, self.wish = shape, str(settings.get("model")), placed, wish
        self.threads = int(settings.get("threads") or self.rig.cores)
        self.prompt_cache = bool(settings.get("prompt_cache"))
        self.steps = 0
        self._last_prompts.clear()

    async def unload(self) -> None:
        """Forget the model; open requests end without their end marker."""
        if self._loop is not None:
            self._loop.cancel()
            await asyncio.gather(self._loop, return_exceptions=True)
            self._loop = None
        for job in [*self.active, *self.waiting]:
            job.dropped = True
            job.tokens.put_nowait((-1, 0.0, 0.0))
        self.active, self.waiting = [], deque()
        self.shape, self.placed, self.model = None, None, ""

    # requests
    def submit(self, prompt: list[str], wanted: int) -> Job:
        """Queue a request; its prompt is a list of words, each one token."""
        job = Job(prompt, wanted)
        if self.prompt_cache:
            job.cached = max((_common(prompt, old) for old in self._last_prompts), default=0)
            # The last token is always computed: its output is what is wanted.
            job.cached = min(job.cached, len(prompt) - 1)
            job.done_prefill = job.cached
            self._last_prompts.append(prompt)
        self.waiting.append(job)
        self._wake.set()
        return job

    def memory(self) -> tuple[int, int]:
        """Bytes in main memory and on devices: weights, cache, buffers."""
        if self.placed is None:
            return 0, 0
        main = sum(s.total_bytes for s in self.placed.shares if s.device.main)
        return main, sum(s.total_bytes for s in self.placed.shares if not s.device.main)

    def each_device(self) -> list[tuple[int, float, float, float]]:
        """Of each device the bytes in use, the share of the time busy, its power and its temperature."""
        held = {s.device.name: s.total_bytes for s in self.placed.shares} if self.placed is not None else {}
        celsius = round(self.body.celsius, 2)
        busy = ((d, self.device_busy.get(d.name, 0.0)) for d in self.rig.devices)
        return [(held.get(d.name, 0), share, d.watts * share, celsius) for d, share in busy]

    def kv_used_bytes(self) -> float:
        """KV cache that holds tokens now; it grows with every token of every stream."""
        if self.shape is None:
            return 0.0
        return sum(kv_bytes_at(self.shape, job.depth, self.wish.cache) for job in self.active)

    def settle(self) -> None:
        """Let power and heat catch up with the clock."""
        now = self._clock()
        self.body.pass_time(now - self._at, self.power_w)
        self._at = now

    async def _run(self) -> None:
        due = time.monotonic()
        while True:
            if not self.admit():
                self.settle()
                self.power_w, self.device_load, self.device_busy = self.rig.idle_watts, 0.0, {}
                self._wake.clear()
                await self._wake.wait()
                due = time.monotonic()
                continue
            seconds, first, chunk = self.step()
            due = max(due, time.monotonic() - seconds) + seconds
            await asyncio.sleep(max(0.0, due - time.monotonic()))
            self.advance(seconds, first, chunk)

    def admit(self) -> bool:
        """Let go of what has ended, and take in what waits, as far as there are slots; true where there is work."""
        self.active = [j for j in self.active if not j.dropped and j.produced < j.wanted]
        while self.waiting and len(self.active) < self.wish.slots:
            self.active.append(self.waiting.popleft())
        return bool(self.active)

    def step(self) -> tuple[float, Job | None, int]:
        """Seconds of the next step, the request that prefills in it, and how many tokens of it."""
        assert self.shape is not None
        assert self.placed is not None
        self.settle()
        first = next((j for j in self.active if j.done_prefill < len(j.prompt)), None)
        chunk = min(self.wish.micro_batch, len(first.prompt) - first.done_prefill) if first else 0
        depths = [j.depth for j in self.active if j.done_prefill >= len(j.prompt)]
        step = Step(chunk, first.done_prefill if first else 0, depths)
        work = parts(self.rig, self.shape, self.placed, self.wish.cache, self.threads, step, self.body.clock)
        self.power_w = self.body.watts(self.threads, work, self.placed)
        self.device_busy = device_shares(work, self.placed)
        self.device_load = sum(self.device_busy.values())
        seconds = (sum(p.seconds for p in work) + STEP_S) * cold_factor(self.steps) * self._noise.next()
        self.steps += 1
        return seconds, first, chunk

    def advance(self, seconds: float, first: Job | None, chunk: int) -> None:
        """Do what a step does to the requests."""
        for job in self.active:
            if job is first:
                job.done_prefill += chunk
                job.prompt_ms += seconds * 1e3
                if job.done_prefill < len(job.prompt):
                    continue
            elif job.done_prefill < len(job.prompt):
                continue
            else:
                job.predicted_ms += seconds * 1e3
            job.produced += 1
            job.tokens.put_nowait((job.produced, job.prompt_ms, job.predicted_ms))


def _common(a: list[str], b: list[str]) -> int:
    """Length of the common beginning."""
    for i, (x, y) in enumerate(zip(a, b, strict=False)):
        if x != y:
            return i
    return min(len(a), len(b))
