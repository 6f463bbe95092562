"""Predicted speed, with a band: what is read over bandwidth, what is multiplied over the arithmetic rate, and a rest.

A step takes  α · bytes / bandwidth + β · OPERAND_FLOPS · operands / rate + δ · ATTENTION_FLOPS · attention / rate
+ γ · STEP_S  seconds. α, β, δ and γ are 1 before anything has been measured on the rig, and fitted to what has been
(least squares of relative errors, held towards 1 by PRIOR_WEIGHT, so that one measurement moves them little and many
rule them). Held against the engine: docs/fit.md.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from zinc_kettle.core.fit.placement import Placement
from zinc_kettle.core.fit.step_work import Touched, expert_share, kv_bytes_at, touched
from zinc_kettle.core.model_shape import ModelShape

OPERAND_FLOPS = 6.9
"""Operations of a dense single-precision product that cost as much as unpacking one weight and multiplying it in."""
ATTENTION_FLOPS = 100.0
"""Operations of a dense product that cost as much as one product of attention: caches are read in short rows, and each
head on its own."""
STEP_S = 0.0007
"""What a step costs beside its weights: sampling, serving, starting threads. Fitted with the 250 M model."""
PREFILL_SHARE = 0.5
"""Of the rate of a dense product, what prefill reaches before anything was measured: 0.35 to 0.65 were seen."""
DEVICE_SHARE = 0.7
"""Of a device's data-sheet bandwidth, what decoding reaches before anything was measured there."""
PRIOR_WEIGHT = 0.2
UNCALIBRATED_BAND = 0.40
LEAST_BAND = 0.10
OUTSIDE_BAND = 0.25
"""Relative half widths: nothing measured; the least ever claimed; bits per weight outside of what was measured."""


@dataclass(frozen=True, slots=True)
class MachineRates:
    """What a rig's main processor can do at one number of threads."""

    bandwidth_bytes_per_s: float
    flops: float
    threads: int
    origin: str
    """Where the two come from, in plain words."""


@dataclass(frozen=True, slots=True)
class Point:
    """One thing measured: a step's touched bytes and operands, and how long it took."""

    touched: Touched
    step_s: float
    machine: MachineRates
    """The machine at the threads it was measured with."""
    prefill_tokens_per_s: float | None = None


@dataclass(frozen=True, slots=True)
class DevicePoint:
    """One thing measured of a model that lies on fast devices: what a step reads, from what, and how long it took."""

    bytes: float
    bandwidth_bytes_per_s: float
    step_s: float


@dataclass(frozen=True, slots=True)
class Calibration:
    """Multipliers of the four terms and of reading on devices, and how well they meet what was measured."""

    reading: float = 1.0
    operands: float = 1.0
    step: float = 1.0
    attention: float = 1.0
    prefill: float = 1.0
    points: int = 0
    error: float = UNCALIBRATED_BAND
    """Largest relative error over the points."""
    bits: tuple[float, float] = field(default=(0.0, 0.0))
    """Bits per weight of what was measured, lowest and highest."""
    device: float = 1.0
    """Of reading on devices at DEVICE_SHARE of their bandwidth."""
    device_points: int = 0
    device_error: float = UNCALIBRATED_BAND


SIMULATED = Calibration(operands=0.0, attention=0.0, device=DEVICE_SHARE)
"""Made-up rigs read while they multiply, for free, and their devices as fast as their data sheet says."""


@dataclass(frozen=True, slots=True)
class Prediction:
    """A speed and its band."""

    value: float
    low: float
    high: float
    origin: str

    @classmethod
    def around(cls, value: float, band: float, origin: str) -> Prediction:
        """A band that is as wide on both sides as a ratio."""
        return cls(value, value / (1 + band), value * (1 + band), origin)


def terms(work: Touched, machine: MachineRates) -> tuple[float, float, float, float]:
    """Seconds of the four terms before any calibration: reading, operands, attention, step."""
    return (
        work.bytes / machine.bandwidth_bytes_per_s,
        OPERAND_FLOPS * work.operands / machine.flops,
        ATTENTION_FLOPS * work.attention / machine.flops,
        STEP_S,
    )


def _multipliers(calibration: Calibration) -> tuple[float, float, float, float]:
    return calibration.reading, calibration.operands, calibration.attention, calibration.step


def calibrate(points: Sequence[Point], prior: Calibration | None = None) -> Calibration:
    """Fit the multipliers to what was measured, held towards those of the prior; without points, the prior itself."""
    held = prior or Calibration()
    if not points:
        return held
    rows = [[t / p.step_s for t in terms(p.touched, p.machine)] for p in points]
    weight = np.sqrt(PRIOR_WEIGHT)
    matrix = np.vstack([np.array(rows), weight * np.eye(4)])
    wanted = np.concatenate([np.ones(len(points)), weight * np.array(_multipliers(held))])
    found = np.linalg.lstsq(matrix, wanted, rcond=None)[0]
    # A negative cost is nonsense that correlated terms can produce: it is left out and the others fitted again.
    keep = found > 0
    if not keep.all():
        again = np.linalg.lstsq(matrix[:, keep], wanted, rcond=None)[0]
        found = np.zeros(4)
        found[keep] = np.maximum(again, 0.0)
    errors = np.abs(np.log(np.maximum(np.array(rows) @ found, 1e-9)))
    bits = [8 * p.touched.bytes / p.touched.weights for p in points]
    return replace(
        held,
        reading=float(found[0]),
        operands=float(found[1]),
        step=float(found[3]),
        attention=float(found[2]),
        prefill=_prefill(points),
        points=len(points),
        error=float(np.expm1(errors.max())),
        bits=(min(bits), max(bits)),
    )


def calibrate_devices(points: Sequence[DevicePoint], prior: Calibration) -> Calibration:
    """The same with reading on devices fitted to what was measured there, held towards the prior in the same way; never
    faster than their bandwidth."""
    if not points:
        return prior
    reading = np.array([p.bytes / (p.bandwidth_bytes_per_s * DEVICE_SHARE * p.step_s) for p in points])
    beside = np.array([STEP_S / p.step_s for p in points])
    wanted = float(reading @ (1 - beside)) + PRIOR_WEIGHT * prior.device
    found = max(DEVICE_SHARE, wanted / (float(reading @ reading) + PRIOR_WEIGHT))
    errors = np.abs(np.log(np.maximum(found * reading + beside, 1e-9)))
    return replace(prior, device=found, device_points=len(points), device_error=float(np.expm1(errors.max())))


def device_read_s(read: float, bandwidth_bytes_per_s: float, calibration: Calibration) -> float:
    """Seconds a fast device takes to read so many bytes in a step."""
    return calibration.device * read / (bandwidth_bytes_per_s * DEVICE_SHARE)


def device_band(calibration: Calibration) -> float:
    """How far a predicted time of a step on devices may be off, as a ratio."""
    if not calibration.device_points:
        return UNCALIBRATED_BAND
    few = UNCALIBRATED_BAND / (1 + calibration.device_points)
    return max(LEAST_BAND, 1.5 * calibration.device_error, few)


def _prefill(points: Sequence[Point]) -> float:
    ratios = [p.prefill_tokens_per_s / _prefill_prior(p.touched, p.machine) for p in points if p.prefill_tokens_per_s]
    return float(np.exp(np.mean(np.log(ratios)))) if ratios else 1.0


def _prefill_prior(work: Touched, machine: MachineRates) -> float:
    return PREFILL_SHARE * machine.flops / (2 * work.weights)


def decode_speed(
    shape: ModelShape, machine: MachineRates, calibration: Calibration, *, depth: float = 0.0, cache: str = "f16"
) -> Prediction:
    """Predicted decode speed of one stream in tokens per second, all in main memory.

    Args:
        shape: Sizes of the model.
        machine: Bandwidth and arithmetic rate at a number of threads.
        calibration: What was fitted to measurements on it before.
        depth: Tokens in context.
        cache: Precision of the KV cache, such as f16.
    """
    work = touched(shape, depth=depth, cache=cache)
    seconds = sum(m * t for m, t in zip(_multipliers(calibration), terms(work, machine), strict=True))
    return Prediction.around(1 / seconds, band(work, calibration), _origin(machine, calibration))


def prefill_speed(shape: ModelShape, machine: MachineRates, calibration: Calibration) -> Prediction:
    """Predicted prefill speed in tokens per second, all in main memory; without what attention adds at length."""
    work = touched(shape)
    wide = max(band(work, calibration), 0.3)
    return Prediction.around(calibration.prefill * _prefill_prior(work, machine), wide, _origin(machine, calibration))


def placed_prefill(shape: ModelShape, placement: Placement) -> float | None:
    """A guess of prefill in tokens per second with layers on devices, each memory one after the other: from what
    devices multiply for each byte they read. Only good enough for how long something takes; never shown as a speed.

    Returns:
        None where the bandwidth of a memory in use is not known.
    """
    layers, seconds = sum(s.layers for s in placement.shares), 0.0
    for share in placement.shares:
        speed = share.device.bandwidth_bytes_per_s
        if share.layers and speed is None:
            return None
        if share.layers and speed:
            flops = speed * (ASSUMED_FLOPS_PER_BYTE * PREFILL_SHARE if share.device.main else DEVICE_FLOPS_PER_BYTE)
            seconds += 2 * touched(shape).weights * share.layers / layers / flops
    return 1 / seconds if seconds else None


def placed_speed(
    shape: ModelShape,
    placement: Placement,
    machine: MachineRates | None,
    calibration: Calibration,
    *,
    depth: float = 0.0,
    cache: str = "f16",
) -> Prediction | None:
    """Predicted decode speed with layers on several memories: each reads its part, one after the other.

    Args:
        shape: Sizes of the model.
        placement: Which layers lie in which memory.
        machine: Of the main memory; None where it was not probed.
        calibration: What was fitted to measurements on it before.
        depth: Tokens in context.
        cache: Precision of the KV cache, such as f16.

    Returns:
        None where the bandwidth of a memory in use is not known.
    """
    if not placement.works:
        return None
    fast = [s for s in placement.shares if not s.device.main and s.layers]
    if not fast:
        return decode_speed(shape, machine, calibration, depth=depth, cache=cache) if machine else None
    seconds = STEP_S
    for share, work in zip(placement.shares, _parts(shape, placement, depth, cache), strict=True):
        if not work.bytes:
            continue
        speed = share.device.bandwidth_bytes_per_s
        if speed is None:
            return None
        if share.device.main and machine:
            seconds += sum(m * t for m, t in zip(_multipliers(calibration)[:3], terms(work, machine)[:3], strict=True))
        else:
            seconds += device_read_s(work.bytes, speed, calibration)
    whole = not any(s.layers for s in placement.shares if s.device.main)
    origin = "from the bandwidth of each memory"
    if not whole or not calibration.device_points:
        return Prediction.around(1 / seconds, UNCALIBRATED_BAND, origin)
    return Prediction.around(
        1 / seconds, device_band(calibration), f"{origin}, fitted to {calibration.device_points} measured cells"
    )


def _parts(shape: ModelShape, placement: Placement, depth: float, cache: str) -> list[Touched]:
    """What one token touches in each memory: its weights, of its experts only those that work, and its KV cache."""
    whole, kv = touched(shape, depth=depth, cache=cache), kv_bytes_at(shape, depth, cache)
    active = expert_share(shape)
    looked_up = shape.bytes_of("embedding") if placement.output_on_device or not shape.tied else 0
    reads = [
        s.weights_bytes - (looked_up if s.device.main else 0) - (1.0 - active) * s.experts_bytes
        for s in placement.shares
    ]
    cached = sum(s.kv_bytes for s in placement.shares) or 1
    out = []
    for share, read in zip(placement.shares, reads, strict=True):
        part = read / (sum(reads) or 1)
        held = share.kv_bytes / cached
        out.append(Touched(read + kv * held, part * whole.operands, part * whole.weights, whole.attention * held))
    return out


def band(work: Touched, calibration: Calibration) -> float:
    """How far a predicted time of a step may be off, as a ratio."""
    if not calibration.points:
        return UNCALIBRATED_BAND
    bits = 8 * work.bytes / work.weights
    low, high = calibration.bits
    inside = low * 0.98 <= bits <= high * 1.02
    few = UNCALIBRATED_BAND / (1 + calibration.points)
    return max(LEAST_BAND if inside else OUTSIDE_BAND, 1.5 * calibration.error, few)


def _origin(machine: MachineRates, calibration: Calibration) -> str:
    if not calibration.points:
        return machine.origin
    return f"{machine.origin}, fitted to {calibration.points} measured cells"


def machine_at(
    readings: Mapping[int, float], rates: Mapping[int, float], threads: int, origin: str
) -> MachineRates | None:
    """A machine at a number of threads from probes at some: between two counts by interpolation, beyond them the last.

    Args:
        readings: Bytes per second by number of threads.
        rates: Operations per second by number of threads.
        threads: The number asked about.
        origin: Where the readings come from, in words.

    Returns:
        None where nothing was probed.
    """
    if not readings:
        return None
    counts = sorted(readings)
    bandwidth = float(np.interp(threads, counts, [readings[n] for n in counts]))
    if rates:
        known = sorted(rates)
        flops = float(np.interp(threads, known, [rates[n] for n in known]))
    else:
        flops = bandwidth * ASSUMED_FLOPS_PER_BYTE
    return MachineRates(bandwidth, flops, threads, origin)


DEVICE_FLOPS_PER_BYTE = 25.0
"""Operations a fast device reaches in prefill for each byte a second of its bandwidth: 15 to 60 by its kind."""
ASSUMED_FLOPS_PER_BYTE = 7.0
"""Where no arithmetic rate is known: what the machine at hand shows at one thread."""
