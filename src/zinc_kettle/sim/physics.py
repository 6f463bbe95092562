"""How long a step takes on a made-up rig, and what power and heat it costs. Pure: time comes in as numbers.

A roofline: each memory's part of a step takes the longer of reading (weights once per step, KV cache of every stream)
and multiplying (two operations per weight and token). Heat follows power with one time constant; above what cooling can
carry the clock falls, and with it the arithmetic rate, and in part the bandwidth.
"""

from __future__ import annotations

import math
import random
from collections.abc import Sequence
from dataclasses import dataclass

from zinc_kettle.core.fit.placement import Placement
from zinc_kettle.core.fit.step_work import expert_share, kv_bytes_at
from zinc_kettle.core.model_shape import ModelShape
from zinc_kettle.sim.fleet import SimDevice, SimRig

STEP_S = 0.0006
"""What a step costs beside its weights."""
EFFICIENCY = 0.6
"""Of the rate of plain arithmetic, what a product of real shapes reaches."""
OVER_THREADED = 0.08
"""What each thread beyond the physical cores costs, as a share."""
COLD_STEPS = 6
"""Steps after a load that are slow: pages come in, kernels are chosen."""
COLD_FACTOR = 1.8
LOWEST_CLOCK = 0.55
ROOM_C, LIMIT_C = 24.0, 88.0
"""Temperature around the rig, and that of a chip whose cooling carries all it can, in degrees Celsius."""
MIN_SIGMA = 1e-9


@dataclass(frozen=True, slots=True)
class Step:
    """What one step of the engine does."""

    prefill_tokens: int = 0
    prefill_depth: int = 0
    """Tokens in the cache before those."""
    depths: Sequence[int] = ()
    """Tokens in the cache of each stream that decodes one more."""


@dataclass(frozen=True, slots=True)
class StepShare:
    """One memory's share of a step."""

    read_bytes: float
    operations: float
    seconds: float


def bandwidth(rig: SimRig, threads: int, clock: float = 1.0) -> float:
    """Bytes per second that so many threads read from main memory; more threads than cores get in each other's way."""
    used = min(threads, rig.cores)
    excess = max(0, threads - rig.cores)
    full = min(rig.bandwidth, used * rig.core_bandwidth)
    return full * (0.6 + 0.4 * clock) / (1 + OVER_THREADED * excess)


def flops(rig: SimRig, threads: int, clock: float = 1.0) -> float:
    """Operations per second of so many threads."""
    excess = max(0, threads - rig.cores)
    return min(threads, rig.cores) * rig.core_flops * EFFICIENCY * clock / (1 + OVER_THREADED * excess)


def parts(
    rig: SimRig, shape: ModelShape, placed: Placement, cache: str, threads: int, step: Step, clock: float = 1.0
) -> list[StepShare]:
    """Reads, operations and seconds of each memory, in the order of the placement.

    Args:
        rig: The simulated rig.
        shape: Sizes of the model.
        placed: Which layers lie where.
        cache: Precision of the KV cache, such as f16.
        threads: Threads of the engine.
        step: Tokens computed and their depth.
        clock: Share of full speed that heat allows.
    """
    tokens = len(step.depths) + step.prefill_tokens
    if not tokens:
        return []
    share = expert_share(shape, max(1, tokens))
    context = sum(kv_bytes_at(shape, depth, cache) for depth in step.depths)
    context += kv_bytes_at(shape, step.prefill_depth + step.prefill_tokens, cache) if step.prefill_tokens else 0.0
    layers = max(1, sum(s.layers for s in placed.shares))
    active = shape.experts_active / shape.experts if shape.experts else 1.0
    out = []
    for held in placed.shares:
        # The input embedding lies in main memory and is only looked up, unless the output matrix is read from there.
        only = held.device.main and (placed.output_on_device or not shape.tied)
        lookup = shape.bytes_of("embedding") if only else 0
        dense = max(0, held.weights_bytes - held.experts_bytes - lookup)
        weights = dense + held.experts_bytes * share
        read = weights + context * held.layers / layers
        useful = (dense + held.experts_bytes * active) / max(1, shape.weights_bytes)
        work = 2.0 * useful * shape.weights * tokens + _attention(shape, step) * held.layers / layers
        device = next((d for d in rig.devices if d.name == held.device.name), None)
        seconds = _seconds(rig, device, read, work, threads, clock) if read or held.layers else 0.0
        out.append(StepShare(read if seconds else 0.0, work if seconds else 0.0, seconds))
    return out


def _attention(shape: ModelShape, step: Step) -> float:
    """Operations of attention: four a head dimension, for each pair of a new token and one in the cache."""
    pairs = sum(step.depths) + step.prefill_tokens * (step.prefill_depth + step.prefill_tokens / 2)
    return 4.0 * pairs * shape.heads * shape.key_dim * shape.layers


def _seconds(rig: SimRig, device: SimDevice | None, read: float, work: float, threads: int, clock: float) -> float:
    if device is not None:
        return max(read / device.bandwidth, work / (device.flops * EFFICIENCY))
    return max(read / bandwidth(rig, threads, clock), work / flops(rig, threads, clock))


@dataclass
class Body:
    """Power, heat and energy of a made-up rig; told of every stretch of time in order."""

    rig: SimRig
    joules: float = 0.0
    heat_watts: float = 0.0
    """Power the cooling feels: a lagging mean of the power drawn."""

    def __post_init__(self) -> None:
        self.heat_watts = self.heat_watts or self.rig.idle_watts

    def pass_time(self, seconds: float, watts: float) -> None:
        """Draw `watts` for `seconds`."""
        self.joules += watts * seconds
        keep = math.exp(-seconds / self.rig.heat_s)
        self.heat_watts = watts + (self.heat_watts - watts) * keep

    @property
    def clock(self) -> float:
        """Share of full speed the heat allows: 1 up to what the cooling can carry, then falling in proportion."""
        over = self.heat_watts / self.rig.sustained_watts
        return 1.0 if over <= 1.0 else max(LOWEST_CLOCK, 1.0 / over)

    @property
    def celsius(self) -> float:
        """How hot it is: at `LIMIT_C` the cooling carries just what it can."""
        return ROOM_C + (LIMIT_C - ROOM_C) * self.heat_watts / self.rig.sustained_watts

    def watts(self, threads: int, work: Sequence[StepShare], placed: Placement) -> float:
        """Power while a step runs: idle, busy cores in proportion to their share of the time, devices likewise."""
        total = sum(p.seconds for p in work) or 1.0
        out = self.rig.idle_watts
        for part, held in zip(work, placed.shares, strict=True):
            device = next((d for d in self.rig.devices if d.name == held.device.name), None)
            full = device.watts if device else min(threads, self.rig.cores) * self.rig.core_watts
            out += full * part.seconds / total * (1.0 if device else self.clock)
        return out


def device_shares(work: Sequence[StepShare], placed: Placement) -> dict[str, float]:
    """Share of a step in which each device works, by its name; the rest is the main processor's."""
    total = sum(p.seconds for p in work) or 1.0
    both = zip(work, placed.shares, strict=True)
    return {held.device.name: p.seconds / total for p, held in both if not held.device.main}


class Noise:
    """Lognormal noise of a given spread around 1, the same for the same seed."""

    def __init__(self, seed: str, sigma: float) -> None:
        self._rng = random.Random(seed)
        self._sigma = max(sigma, MIN_SIGMA)

    def next(self) -> float:
        """The next factor."""
        return self._rng.lognormvariate(-(self._sigma**2) / 2, self._sigma)


def cold_factor(steps: int) -> float:
    """How much longer a step takes so many steps after the load."""
    return 1.0 + (COLD_FACTOR - 1.0) * max(0.0, 1.0 - steps / COLD_STEPS)
