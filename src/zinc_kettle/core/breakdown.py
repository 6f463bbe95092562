"""Where the time of a token goes: reading weights and cache, arithmetic, unpacking, attention, overhead, and a rest.

The parts are those of Fit (core.fit.predict), from the rig's probe and the model's bytes, fitted to the other cells of
the run: never to the cell itself, whose measured time they are held against. What they do not explain is the rest;
where it is below zero, parts went on at the same time. How well that holds against the engine: docs/fit.md.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal

from zinc_kettle.core.facts import MachineFacts, ModelFacts, machine_of
from zinc_kettle.core.fit.limit import at_depth, step_weight_bytes
from zinc_kettle.core.fit.predict import (
    ATTENTION_FLOPS,
    OPERAND_FLOPS,
    SIMULATED,
    STEP_S,
    Calibration,
    DevicePoint,
    MachineRates,
    Point,
    band,
    calibrate,
    calibrate_devices,
    device_band,
    device_read_s,
)
from zinc_kettle.core.fit.step_work import Touched, attention_cost
from zinc_kettle.core.plan.factors import Level
from zinc_kettle.core.plan.study import shape_of
from zinc_kettle.core.record.repeat import Missing
from zinc_kettle.core.record.value import Value
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.core.rig import Probe
from zinc_kettle.core.storage_types import CACHE_TYPES

PartName = Literal["weights", "cache", "arithmetic", "unpacking", "attention", "overhead"]
Limit = Literal["bandwidth", "arithmetic", "overhead", "mixed", "untold"]
"""`untold`: on devices, where arithmetic is not computed and reading is not most of it."""
WORK: tuple[PartName, ...] = ("arithmetic", "unpacking", "attention")
MOST_OF_IT = 0.5
"""Of the time, what a cell must spend on one thing to be bound by it; the low end of what is known of it."""
MOST_POINTS = 200
"""More cells would fit the parts no better."""
SAME_BANDWIDTH = 0.05
"""Bandwidths that differ by less are alike: more threads then read no faster."""


@dataclass(frozen=True, slots=True)
class TimeShare:
    """A part of a step."""

    name: PartName
    seconds: float


@dataclass(frozen=True, slots=True)
class TimeSplit:
    """Where the time of a step goes: a token of one stream, or of several streams that decode at once."""

    step_s: float
    """Measured."""
    streams: int
    parts: tuple[TimeShare, ...]
    band: float
    """How far all parts together may be off, as a ratio: 0.1 is ±10%."""
    calibrated_by: int
    """Other cells of the run that the parts were fitted to."""
    threads: int
    best_threads: int
    """Threads with which the probe read fastest."""
    best_gain: float
    """How much faster that was than with the cell's threads, as a share."""
    free_cores: int
    """Physical cores the cell leaves idle; 0 where that is not known."""
    on_devices: bool = False

    @property
    def rest_s(self) -> float:
        """What the parts do not explain; below zero where they overlap."""
        return self.step_s - sum(part.seconds for part in self.parts)

    def seconds(self, *names: PartName) -> float:
        """Of some parts together."""
        return sum(part.seconds for part in self.parts if part.name in names)

    def share(self, *names: PartName) -> tuple[float, float, float]:
        """Of some parts in the measured time: as computed, at least, at most."""
        share = self.seconds(*names) / self.step_s
        return share, share / (1 + self.band), share * (1 + self.band)

    @property
    def limit(self) -> Limit:
        """What most of the time surely goes into."""
        if self.share("weights", "cache")[1] >= MOST_OF_IT:
            return "bandwidth"
        if self.on_devices:
            return "untold"
        if self.share(*WORK)[1] >= MOST_OF_IT:
            return "arithmetic"
        known = self.seconds("weights", "cache", *WORK) * (1 + self.band)
        return "overhead" if 1 - known / self.step_s >= MOST_OF_IT else "mixed"


def time_split(results: StudyResults, cell: CellResults) -> TimeSplit | Missing:
    """Where the time of a cell goes, or why that cannot be told."""
    return results.once(("time split", cell.cell.key), lambda: _split(results, cell))


def _split(results: StudyResults, cell: CellResults) -> TimeSplit | Missing:
    step, model, machine = _step(results, cell), cell.kept.engine.get("model"), _facts(results, cell)
    if isinstance(step, Missing):
        return step
    if model is None or "touched" not in model:
        return Missing("the model's shape is not known")
    if not cell.cell.engine.fits:
        return Missing("this engine's kernels are not known here")
    streams, step_s = step
    placement = cell.kept.engine.get("placement", {})
    layers = placement.get("layers_on_devices", 0)
    if layers and layers < model.get("layers", 0):
        return Missing("its layers lie in several memories")
    work = _touched(cell, model, streams)
    if layers:
        bandwidth = placement.get("bandwidth")
        if not bandwidth:
            return Missing("the bandwidth of its device is not known")
        held = SIMULATED if results.simulated(cell) else Calibration()
        fitted = calibrate_devices(_others_on_devices(results, cell), held)
        weights, cache = (device_read_s(read, bandwidth, fitted) for read in (work.bytes, _cache(cell, model, streams)))
        parts = (TimeShare("weights", weights), TimeShare("cache", cache), TimeShare("overhead", STEP_S))
        wide = device_band(fitted)
        return TimeSplit(step_s, streams, parts, wide, fitted.device_points, 0, 0, 0.0, 0, on_devices=True)
    at = _machine(cell, machine)
    if at is None:
        return Missing("the bandwidth of its memory is not known: probe the rig (p on Rigs), or type it in")
    return _in_main_memory(results, cell, step_s, streams, at)


def _in_main_memory(
    results: StudyResults, cell: CellResults, step_s: float, streams: int, at: MachineRates
) -> TimeSplit | Missing:
    model, facts = cell.kept.engine["model"], _facts(results, cell)
    work, cache = _touched(cell, model, streams), _cache(cell, model, streams)
    fitted = calibrate(_others(results, cell), SIMULATED if results.simulated(cell) else None)
    dense = 2 * work.weights / at.flops
    unpacked = max(0.0, OPERAND_FLOPS * work.operands / at.flops - dense)
    parts = (
        TimeShare("weights", fitted.reading * work.bytes / at.bandwidth_bytes_per_s),
        TimeShare("cache", fitted.reading * cache / at.bandwidth_bytes_per_s),
        TimeShare("arithmetic", fitted.operands * dense),
        TimeShare("unpacking", fitted.operands * unpacked),
        TimeShare("attention", fitted.attention * ATTENTION_FLOPS * work.attention / at.flops),
        TimeShare("overhead", fitted.step * STEP_S),
    )
    best, gain = _best_threads(facts, at)
    cores = facts.get("physical_cores") or 0
    return TimeSplit(
        step_s, streams, parts, band(work, fitted), fitted.points, at.threads, best, gain, max(0, cores - at.threads)
    )


def _step(results: StudyResults, cell: CellResults) -> tuple[int, float] | Missing:
    """Streams that decode at once, and the measured seconds of a step of theirs, in which each writes a token."""
    streams = int(cell.cell.settings["concurrency"] or 1)
    if shape_of(results.study, cell.cell) != "closed":
        return Missing("how many requests decode at once is only known of a closed load")
    rate = cell.value("decode")
    return rate if isinstance(rate, Missing) else (streams, 1 / rate.value)


def _facts(results: StudyResults, cell: CellResults) -> MachineFacts:
    rig = cell.cell.settings["rig"]
    return machine_of(results.run.facts, None if rig is None else str(rig))


def _machine(cell: CellResults, facts: MachineFacts) -> MachineRates | None:
    probe = facts.get("probe")
    threads = int(cell.cell.level("threads") or facts.get("physical_cores") or 1)
    return Probe.from_plain(probe).machine(threads) if probe else None


def _best_threads(facts: MachineFacts, at: MachineRates) -> tuple[int, float]:
    """With how many threads the probe read fastest, the fewest of those alike, and how much faster than the cell's."""
    found = Probe.from_plain(facts.get("probe", {}))
    speeds = {n: m.bandwidth_bytes_per_s for n in found.reading if (m := found.machine(n)) is not None}
    top = max(speeds.values(), default=at.bandwidth_bytes_per_s)
    best = min((n for n, speed in speeds.items() if speed >= top / (1 + SAME_BANDWIDTH)), default=at.threads)
    return best, max(0.0, top / at.bandwidth_bytes_per_s - 1)


def _touched(cell: CellResults, model: ModelFacts, streams: int) -> Touched:
    """Weights of a step of so many streams, without the cache; each stream multiplies on its own."""
    t = model["touched"]
    # Earlier versions did not keep the products of attention: one for each value of the cache is the least there are.
    products = model.get("attention_per_token", model["kv_bytes_per_token_f16"] / 2)
    within = model.get("attention_windowed_per_token", model.get("kv_windowed_per_token_f16", 0.0) / 2)
    cost = attention_cost(
        str(cell.cell.level("cache-precision") or "f16"), fused=cell.cell.level("flash-attention") is not False
    )
    attention = at_depth(products, within, _depth(cell), window=model.get("window")) * cost
    return Touched(
        step_weight_bytes(model, streams), t["operands"] * streams, t["weights"] * streams, attention * streams
    )


def _cache(cell: CellResults, model: ModelFacts, streams: int) -> float:
    """Bytes of KV cache that a step of so many streams reads, in the middle of their answers."""
    windowed = model.get("kv_windowed_per_token_f16", 0.0)
    found = at_depth(model["kv_bytes_per_token_f16"], windowed, _depth(cell), window=model.get("window"))
    return found * CACHE_TYPES[str(cell.cell.level("cache-precision") or "f16")].bits_per_weight / 16 * streams


def _depth(cell: CellResults) -> float:
    """Tokens in context in the middle of an answer."""
    prompt, output = cell.value("prompt_tokens"), cell.value("output_tokens")
    half = output.value / 2 if isinstance(output, Value) else 0.0
    return half + (prompt.value if isinstance(prompt, Value) else 0.0)


def _others(results: StudyResults, cell: CellResults) -> list[Point]:
    """The other cells of the run on the same rig, one stream each, in main memory; of very many some."""
    rig = cell.cell.settings["rig"]
    known = results.once(("points", rig), lambda: _points(results, rig))
    return [point for key, point in known if key != cell.cell.key]


def _others_on_devices(results: StudyResults, cell: CellResults) -> list[DevicePoint]:
    """The other cells of the run on devices of the same rig, one stream each; of very many some."""
    rig = cell.cell.settings["rig"]
    known = results.once(("device points", rig), lambda: _device_points(results, rig))
    return [point for key, point in known if key != cell.cell.key]


def _device_points(results: StudyResults, rig: Level | None) -> list[tuple[str, DevicePoint]]:
    measured = [c for c in results.cells if c.done and c.cell.settings["rig"] == rig]
    some = measured[:: max(1, len(measured) // MOST_POINTS)]
    return [(c.cell.key, point) for c in some if (point := device_point_of(results, c)) is not None]


def device_point_of(results: StudyResults, cell: CellResults) -> DevicePoint | None:
    """What a measured cell of one stream, all of it on devices, tells of these; None for nothing."""
    engine = cell.kept.engine
    model, placement, step = engine.get("model"), engine.get("placement", {}), _step(results, cell)
    if model is None or "touched" not in model or not cell.cell.engine.fits or isinstance(step, Missing):
        return None
    layers, bandwidth = placement.get("layers_on_devices", 0), placement.get("bandwidth")
    if step[0] != 1 or not layers or layers < model.get("layers", 0) or not bandwidth:
        return None
    return DevicePoint(_touched(cell, model, 1).bytes + _cache(cell, model, 1), bandwidth, step[1])


def _points(results: StudyResults, rig: Level | None) -> list[tuple[str, Point]]:
    measured = [c for c in results.cells if c.done and c.cell.settings["rig"] == rig]
    some = measured[:: max(1, len(measured) // MOST_POINTS)]
    return [(c.cell.key, point) for c in some if (point := point_of(results, c)) is not None]


def point_of(results: StudyResults, cell: CellResults, machine: MachineRates | None = None) -> Point | None:
    """What a measured cell of one stream tells of the main memory and processor of its machine; None for nothing.

    Args:
        results: Its run.
        cell: The cell.
        machine: The machine at the cell's threads; None takes the probe of the run.
    """
    engine = cell.kept.engine
    model, step = engine.get("model"), _step(results, cell)
    if model is None or "touched" not in model or not cell.cell.engine.fits or isinstance(step, Missing):
        return None
    at = machine or _machine(cell, _facts(results, cell))
    if step[0] != 1 or at is None or engine.get("placement", {}).get("layers_on_devices"):
        return None
    work = _touched(cell, model, 1)
    whole = replace(work, bytes=work.bytes + _cache(cell, model, 1))
    prefill = cell.value("prefill_engine")
    return Point(whole, step[1], at, prefill.value if isinstance(prefill, Value) else None)
