"""The engine's process on its machine: load time, memory, processor time, and what watching it cost."""

from __future__ import annotations

import itertools
from collections import defaultdict
from collections.abc import Callable

import numpy as np
import numpy.typing as npt

from zinc_kettle.core.measures.kinds import Group, Measure, OverLaunches, PerRepeat
from zinc_kettle.core.record.repeat import NO_PROCESS, Figure, Missing, Repeat
from zinc_kettle.core.record.telemetry import DEVICE_BEFORE, DEVICE_LAYERS, Launch
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.core.stats import median, quantile
from zinc_kettle.core.units import NS_PER_S

GROUP = Group("machine")
PHASE_SAMPLES = 3
"""Fewer samples of memory in a phase may miss its peak."""
UNTOLD_DEVICE = Missing("no device reported its memory")


def load_s(launch: Launch) -> float | None:
    """Seconds from handing an engine its settings until it listens."""
    return None if launch.load_ns is None else launch.load_ns / NS_PER_S


def memory_loaded(launch: Launch) -> float | None:
    """Bytes resident after the load, the launcher subtracted."""
    return None if launch.loaded_bytes is None else float(launch.loaded_bytes)


def memory_peak(repeat: Repeat) -> Figure:
    """Most bytes resident during the repeat, by samples and by the system's own record, the launcher subtracted."""
    launch, trace = repeat.launch, repeat.trace
    if launch is None or launch.loaded_bytes is None:
        return NO_PROCESS
    if trace is None or not len(trace.resident_bytes):
        return float(launch.loaded_bytes)
    return float(max(int(trace.resident_bytes.max()), trace.highest_bytes) - launch.baseline_bytes)


def memory_device(repeat: Repeat) -> Figure:
    """Most bytes in use on fast devices, less what was in use there before a run that started the engine itself."""
    device = None if repeat.trace is None else repeat.trace.device_bytes
    if device is None or not len(device):
        return UNTOLD_DEVICE
    return max(0.0, float(device.max()) - device_before(repeat))


def device_before(repeat: Repeat) -> float:
    """Bytes in use on fast devices before a run that started the engine itself; 0 where that is not known."""
    started = repeat.launch is not None and repeat.launch.load_ns is not None
    return repeat.extras.get(DEVICE_BEFORE, 0.0) if started else 0.0


def memory(repeat: Repeat) -> Figure:
    """Most bytes of main memory and most bytes on devices, added up: what the engine needs of both."""
    host, device = memory_peak(repeat), memory_device(repeat)
    if isinstance(host, Missing):
        return host
    if isinstance(device, Missing):
        return device if repeat.extras.get(DEVICE_LAYERS) else host
    return host + device


def memory_prefill(repeat: Repeat) -> Figure:
    """Most bytes resident while prompts were read, one stream, the launcher subtracted."""
    return _most_within(repeat, lambda t: (t.sent_ns, t.first_ns))


def memory_decode(repeat: Repeat) -> Figure:
    """Most bytes resident while answers were written, one stream, the launcher subtracted."""
    return _most_within(repeat, lambda t: (t.first_ns, t.last_ns))


def _most_within(repeat: Repeat, phase: Callable[[Timeline], tuple[int, int]]) -> Figure:
    launch, trace = repeat.launch, repeat.trace
    if launch is None or launch.loaded_bytes is None or trace is None:
        return NO_PROCESS
    if not repeat.alone:
        return Missing("prefill and decode overlap at concurrency above 1")
    inside = np.zeros(len(trace.at_ns), dtype=bool)
    for t in repeat.measured:
        start, end = phase(t)
        inside |= (trace.at_ns >= start) & (trace.at_ns <= end)
    if int(inside.sum()) < PHASE_SAMPLES:
        return Missing(f"this phase was too short for memory samples: {int(inside.sum())}, {PHASE_SAMPLES} needed")
    return float(int(trace.resident_bytes[inside].max()) - launch.baseline_bytes)


def _most(repeat: Repeat, column: npt.NDArray[np.int64] | None) -> Figure:
    if repeat.launch is None or repeat.launch.loaded_bytes is None:
        return NO_PROCESS
    if column is None or not len(column) or int(column.max()) < 0:
        return Missing("this system does not report anonymous and file-backed memory separately")
    return float(column.max())


def memory_anonymous(repeat: Repeat) -> Figure:
    """Most bytes of anonymous resident memory."""
    return _most(repeat, repeat.trace.anonymous_bytes if repeat.trace else None)


def memory_file(repeat: Repeat) -> Figure:
    """Most bytes of file-backed resident memory."""
    return _most(repeat, repeat.trace.file_bytes if repeat.trace else None)


def cpu(repeat: Repeat) -> Figure:
    """Cores the engine kept busy: its processor time over wall time."""
    trace = repeat.trace
    if trace is None or len(trace.at_ns) < 2 or trace.at_ns[-1] <= trace.at_ns[0]:
        return NO_PROCESS
    return float(trace.cpu_ns[-1] - trace.cpu_ns[0]) / int(trace.at_ns[-1] - trace.at_ns[0])


def observer_cores(repeat: Repeat) -> float:
    """Cores the driver and the sampler kept busy; 0 for an episode of no length."""
    sampler = repeat.trace.sampler_cpu_ns if repeat.trace is not None else 0
    return (repeat.driver_cpu_ns + sampler) / repeat.wall_ns if repeat.wall_ns > 0 else 0.0


def observer_share(repeat: Repeat) -> Figure:
    """Driver and sampler as a share of the machine's processor time."""
    if repeat.machine is None or repeat.wall_ns <= 0:
        return Missing("the machine's processor time was not read")
    return observer_cores(repeat) / repeat.machine.cores


def queue_p99(repeat: Repeat) -> Figure:
    """99th percentile of what chunks waited for our driver after the kernel had them, in seconds."""
    waits = [q for t in repeat.measured if (q := t.queue_ns) is not None and len(q)]
    if not waits:
        return Missing("the system gives no kernel stamps here")
    return float(quantile(np.concatenate(waits), 0.99)) / NS_PER_S


def turnaround(repeat: Repeat) -> Figure:
    """Median time from the end of an answer to the start of the next request of its stream, in seconds."""
    if repeat.open_loop or repeat.extras.get("think_s"):
        return Missing("streams are idle between requests on purpose")
    by_stream: dict[int, list[Timeline]] = defaultdict(list)
    for t in sorted((t for t in repeat.timelines if t.role == "measured"), key=lambda t: t.sent_ns):
        by_stream[t.stream].append(t)
    pairs = [pair for row in by_stream.values() for pair in itertools.pairwise(row)]
    waits = [b.sent_ns - a.end_ns for a, b in pairs if a.usable and b.attempt == 0 and b.error is None]
    if not waits:
        return Missing("each stream sent one request only")
    return max(0.0, median([float(wait) for wait in waits])) / NS_PER_S


_TWICE = (
    "If the engine repacks the weights of a mapped file, they count twice in resident memory: look at the "
    "own and file parts separately."
)
MEASURES = (
    Measure(
        "load_time",
        "load time",
        "s",
        "less",
        GROUP,
        "from giving the engine its settings until it listens",
        OverLaunches(load_s, "the engine was not started by this tool"),
        mistakes="A file that is still in the file cache loads many times faster; the sheet says how much of it was.",
        map_rank=5,
    ),
    Measure(
        "memory",
        "memory",
        "bytes",
        "less",
        GROUP,
        "highest main memory and highest memory on fast devices of the engine, added up",
        PerRepeat(memory),
        mistakes=_TWICE,
        map_rank=4,
    ),
    Measure(
        "memory_loaded",
        "memory, loaded",
        "bytes",
        "less",
        GROUP,
        "resident memory after loading, launcher subtracted",
        OverLaunches(memory_loaded, NO_PROCESS.reason),
        mistakes=_TWICE,
    ),
    Measure(
        "memory_peak",
        "memory, main",
        "bytes",
        "less",
        GROUP,
        "highest resident memory (main memory), launcher subtracted",
        PerRepeat(memory_peak),
        mistakes=_TWICE,
    ),
    Measure(
        "memory_device",
        "memory, device",
        "bytes",
        "less",
        GROUP,
        "highest memory in use on fast devices, less what was in use there before the run",
        PerRepeat(memory_device),
        map_rank=19,
    ),
    Measure(
        "memory_prefill",
        "memory, prefill",
        "bytes",
        "less",
        GROUP,
        "highest sampled resident memory while prompts were read, one stream",
        PerRepeat(memory_prefill),
    ),
    Measure(
        "memory_decode",
        "memory, decode",
        "bytes",
        "less",
        GROUP,
        "highest sampled resident memory while answers were written, one stream",
        PerRepeat(memory_decode),
    ),
    Measure(
        "memory_anonymous",
        "memory, own",
        "bytes",
        "less",
        GROUP,
        "highest anonymous part of the resident memory",
        PerRepeat(memory_anonymous),
    ),
    Measure(
        "memory_file",
        "memory, file",
        "bytes",
        "less",
        GROUP,
        "highest file-backed part of the resident memory; shared with the file cache",
        PerRepeat(memory_file),
    ),
    Measure(
        "cpu",
        "engine CPU",
        "cores",
        "neither",
        GROUP,
        "processor time of the engine divided by wall time",
        PerRepeat(cpu),
        map_rank=22,
    ),
    Measure(
        "observer_share",
        "observer",
        "share",
        "less",
        GROUP,
        "processor time of driver and sampler, as a share of the machine",
        PerRepeat(observer_share),
    ),
    Measure(
        "queue_p99",
        "driver queue p99",
        "s",
        "less",
        GROUP,
        "how long chunks waited for the driver; not part of any figure",
        PerRepeat(queue_p99),
    ),
    Measure(
        "turnaround",
        "turnaround",
        "s",
        "less",
        GROUP,
        "from the end of an answer to the start of the next request of its stream",
        PerRepeat(turnaround),
        mistakes="Caused by this tool, not by the engine: the load is lighter than asked by this share of a request.",
    ),
)
