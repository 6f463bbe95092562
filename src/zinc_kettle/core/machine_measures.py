"""Measures of the engine's process and of the machine: memory, power, cost, share of the limit."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from zinc_kettle.core import energy
from zinc_kettle.core.fit.limit import share_of_limit
from zinc_kettle.core.repeat import NO_PROCESS, Figure, Missing, Repeat
from zinc_kettle.core.steady import steady_throughput
from zinc_kettle.core.units import NS_PER_S

CACHE_TIMES = 4
"""A model smaller than so many times the last-level cache is read from the cache in part."""


def memory_figures(repeat: Repeat) -> dict[str, Figure]:
    """Memory of the engine's process tree, the launcher subtracted where it says so; bytes."""
    launch, trace = repeat.launch, repeat.trace
    names = ("memory_loaded", "memory_peak", "memory_anonymous", "memory_file")
    if launch is None or launch.loaded_bytes is None:
        return dict.fromkeys(names, NO_PROCESS)
    peak = launch.loaded_bytes
    if trace is not None and len(trace.resident_bytes):
        peak = max(peak, int(trace.resident_bytes.max()) - launch.baseline_bytes)
    if trace is not None and trace.high_water_bytes > 0:
        peak = max(peak, trace.high_water_bytes - launch.baseline_bytes)
    return {
        "memory_loaded": float(launch.loaded_bytes),
        "memory_peak": float(peak),
        "memory_anonymous": _peak_of(trace.anonymous_bytes if trace else None),
        "memory_file": _peak_of(trace.file_bytes if trace else None),
    }


def power_figures(repeat: Repeat) -> dict[str, Figure]:
    """Power and energy of the rig, where something tells them."""
    trace = repeat.trace
    untold = Missing("nothing on this rig tells its power")
    figures: dict[str, float | None] = {
        "power": energy.mean_watts(repeat),
        "energy_token": energy.joules_per_token(repeat, net=False),
        "energy_token_net": energy.joules_per_token(repeat, net=True),
        "energy_prefill": energy.prefill_joules(repeat),
        "energy_decode": energy.decode_joules(repeat),
    }
    out: dict[str, Figure] = {}
    for name, value in figures.items():
        out[name] = value if value is not None else _why_no_energy(repeat, name, untold)
    device = None if trace is None else trace.device_bytes
    told = device is not None and len(device) > 0
    out["memory_device"] = float(device.max()) if told and device is not None else Missing("no device told its memory")
    out["round_trip"] = repeat.extras.get("round_trip_s", Missing("no tiny request was timed"))
    return out


def limit_share(repeat: Repeat, decode: Figure) -> Figure:
    """Decode over what memory bandwidth allows; needs the model's shape and a probe of the rig."""
    extras = repeat.extras
    if "bandwidth" not in extras:
        return Missing("no bandwidth is known of the memory it lies in: probe the rig (p on its page), or type it in")
    if "step_weight_bytes" not in extras:
        return Missing("the model's shape is not known")
    if extras["step_weight_bytes"] < CACHE_TIMES * extras.get("cache_bytes", 0.0):
        return Missing(f"not applicable: the model is under {CACHE_TIMES} times the last-level cache")
    # Alone, the decode speed of the stream; with several, their sum while all are busy.
    rate = decode if repeat.alone else steady_throughput(repeat)
    if isinstance(rate, Missing):
        return rate
    depths = [(t.prompt_tokens or 0) + t.total_tokens / 2 for t in repeat.measured]
    kv = extras.get("kv_bytes_token", 0.0) * (sum(depths) / len(depths)) * repeat.concurrency
    return share_of_limit(
        tokens_per_s=rate, streams=repeat.concurrency, step_bytes=extras["step_weight_bytes"] + kv,
        bandwidth_bytes_per_s=extras["bandwidth"],
    )  # fmt: skip


def _why_no_energy(repeat: Repeat, name: str, untold: Missing) -> Missing:
    if (repeat.trace is None or repeat.trace.energy_uj is None) and energy.WALL not in repeat.extras:
        return untold
    if name == "energy_token_net":
        return Missing("the idle power was not taken")
    if not repeat.alone:
        return Missing("prefill and decode overlap at concurrency above 1")
    return Missing("the power readings do not cover this window")


def _peak_of(column: npt.NDArray[np.int64] | None) -> Figure:
    if column is None or not len(column) or int(column.max()) < 0:
        return Missing("this system does not tell anonymous and file-backed memory apart")
    return float(column.max())


def cost_figures(repeat: Repeat) -> dict[str, Figure]:
    """Processor time of the engine, and what watching it cost."""
    wall_s = repeat.wall_ns / NS_PER_S
    trace, machine = repeat.trace, repeat.machine
    cpu: Figure = NO_PROCESS
    if trace is not None and len(trace.at_ns) >= 2:
        span = int(trace.at_ns[-1] - trace.at_ns[0])
        cpu = float(trace.cpu_ns[-1] - trace.cpu_ns[0]) / span if span > 0 else NO_PROCESS
    observer: Figure = Missing("the machine's processor time was not read")
    if machine is not None and wall_s > 0:
        observer = observer_cores(repeat) / machine.cores
    return {"cpu": cpu, "observer_share": observer}


def observer_cores(repeat: Repeat) -> float:
    """Cores the driver and the sampler kept busy; 0 for an episode of no length."""
    sampler = repeat.trace.sampler_cpu_ns if repeat.trace is not None else 0
    return (repeat.driver_cpu_ns + sampler) / repeat.wall_ns if repeat.wall_ns > 0 else 0.0
