"""Samples the engine's process tree in a light thread, and the whole machine's processor at both ends."""

from __future__ import annotations

import threading
import time
from array import array
from collections.abc import Sequence
from pathlib import Path

import numpy as np
import psutil

from zinc_kettle.core.devices import Reading, reading, use_of, use_of_one
from zinc_kettle.core.record.telemetry import Latest, Machine, Trace, hottest, watts_between
from zinc_kettle.rigs.agent.watch import Power, Processor, peak_anew

PERIOD_S = 0.08
"""12.5 samples per second: ten are promised, and a late one is made up for."""
TREE_PERIOD_S = 1.0
"""Finding children reads every process of the machine, so it is done seldom."""
UNTOLD = -1
IDLE_S = 1.0
"""Idle power is taken for so long before a rig's first engine is started."""
_STATUS_FIELDS = {b"VmRSS": 0, b"RssAnon": 1, b"RssFile": 2, b"VmHWM": 3}


def read_memory(pid: int) -> tuple[int, int, int, int]:
    """Resident, anonymous, file-backed and highest resident bytes of one process; −1 for what is not told.

    Raises:
        psutil.NoSuchProcess: It has ended.
    """
    try:
        status = Path(f"/proc/{pid}/status").read_bytes()
    except FileNotFoundError:
        if Path("/proc/self/status").exists():
            raise psutil.NoSuchProcess(pid) from None
        return psutil.Process(pid).memory_info().rss, -1, -1, -1
    except ProcessLookupError:
        raise psutil.NoSuchProcess(pid) from None
    found = [-1, -1, -1, -1]
    for line in status.splitlines():
        name, _, rest = line.partition(b":")
        if name in _STATUS_FIELDS:
            found[_STATUS_FIELDS[name]] = int(rest.split()[0]) * 1024
    return found[0], found[1], found[2], found[3]


class TreeWatch:
    """One watch. A process that ends is simply not seen any more."""

    def __init__(self, pid: int | None) -> None:
        self._pid = pid
        self._columns = tuple(array("q") for _ in range(8))
        self._power = Power()
        self._processor = Processor()
        self._devices: list[list[Reading]] = []
        self._chip: list[Reading] = []
        self._latest = Latest()
        self._highest = -1
        self._anew: dict[int, bool] = {}
        """Processes by their number, and whether the record of their highest memory began with this watch."""
        self._sampler_cpu_ns = 0
        self._start_ns = time.monotonic_ns()
        self._machine_start = psutil.cpu_times()
        self._own_start_ns = time.process_time_ns()
        self._stop = threading.Event()
        self._processes: list[psutil.Process] = []
        self._tree_at = 0.0
        self._thread: threading.Thread | None = None
        if pid is not None:
            self._thread = threading.Thread(target=self._sample_until_stopped, name="telemetry", daemon=True)
            self._thread.start()

    def latest(self) -> Latest:
        """What it takes, as last sampled."""
        return self._latest

    def end(self, *, driver_cpu_ns: int) -> tuple[Trace, Machine]:
        """Stop, and give what was seen."""
        self._stop.set()
        if self._thread is not None:
            self._thread.join(timeout=5)
        wall_ns = time.monotonic_ns() - self._start_ns
        highest = self._highest if all(self._anew.values()) else UNTOLD
        trace = trace_from(self._columns, self._sampler_cpu_ns, highest, self._power.source)
        cpu = trace.cpu_ns
        engine_ns = int(cpu[-1] - cpu[0]) if len(cpu) else 0
        own_ns = engine_ns + driver_cpu_ns + time.process_time_ns() - self._own_start_ns
        return trace, self._machine(wall_ns, own_ns)

    def _machine(self, wall_ns: int, own_ns: int) -> Machine:
        now, before = psutil.cpu_times()._asdict(), self._machine_start._asdict()
        spent = {name: max(0.0, now[name] - before[name]) for name in now}
        # Guest time is already part of user time.
        total = sum(v for name, v in spent.items() if not name.startswith("guest"))
        stolen = spent.get("steal", 0.0)
        busy = total - spent["idle"] - spent.get("iowait", 0.0) - stolen
        wall_s = max(wall_ns, 1) / 1e9
        return Machine(
            wall_s=wall_s,
            cores=psutil.cpu_count(logical=True) or 1,
            busy_cores=busy / wall_s,
            own_cores=own_ns / 1e9 / wall_s,
            stolen_share=stolen / total if total > 0 else 0.0,
            devices=use_of(self._devices),
            processor=use_of_one(self._chip),
        )

    def _sample_until_stopped(self) -> None:
        due = time.monotonic()
        while True:
            self._sample()
            self._sampler_cpu_ns = time.thread_time_ns()
            due = max(due + PERIOD_S, time.monotonic())
            if self._stop.wait(max(0.0, due - time.monotonic())):
                self._sample()
                return

    def _sample(self) -> None:
        now = time.monotonic()
        if now - self._tree_at >= TREE_PERIOD_S:
            self._tree_at = now
            self._processes = self._tree()
            self._anew |= {p.pid: peak_anew(p.pid) for p in self._processes if p.pid not in self._anew}
        at = time.monotonic_ns()
        memory = [0, 0, 0]
        cpu_s = 0.0
        for process in self._processes:
            try:
                rss, anonymous, file, high = read_memory(process.pid)
                times = process.cpu_times()
            except psutil.Error:
                continue
            for i, value in enumerate((rss, anonymous, file)):
                memory[i] = -1 if value < 0 else memory[i] + value
            cpu_s += times.user + times.system
            self._highest = max(self._highest, high)
        if cpu_s > 0.0:
            self._keep(at, memory, int(cpu_s * 1e9))

    def _tree(self) -> list[psutil.Process]:
        try:
            root = psutil.Process(self._pid)
            return [root, *root.children(recursive=True)]
        except psutil.Error:
            return []

    def _keep(self, at: int, memory: list[int], cpu_ns: int) -> None:
        times, cpu = self._columns[0], self._columns[4]
        told = (self._power.microjoules(), self._power.device_bytes(), self._power.device_percent())
        if len(times) >= 6:
            back, energy = max(0, len(times) - 12), self._columns[5]
            cores = (cpu_ns - cpu[back]) / max(1, at - times[back])
            watts = watts_between(times[back], energy[back], times[-1], energy[-1])
            now = [*(self._devices[-1:] or [[]])[0], *self._chip[-1:]]
            self._latest = Latest(memory[0] + (told[1] or 0), cores, watts, told[2], hottest(now))
        self._devices.append([reading(each) for each in self._power.each_device()])
        if told_of := self._processor.reading():
            self._chip.append(reading(told_of))
        further = (UNTOLD if value is None else value for value in told)
        for column, value in zip(self._columns, (at, *memory, cpu_ns, *further), strict=True):
            column.append(value)


def trace_from(columns: Sequence[Sequence[int]], sampler_cpu_ns: int, highest: int, source: str) -> Trace:
    """A trace from its eight columns as they were sampled; a column that was never told becomes None.

    Args:
        columns: Time, memory, processor and energy columns, equally long.
        sampler_cpu_ns: Processor time of the sampler itself.
        highest: Highest resident memory while it was sampled, in bytes, by the system's own record; −1 where not told.
        source: What the energy was read from.
    """
    at, resident, anonymous, file, cpu, *further = (np.array(c, dtype=np.int64) for c in columns)
    energy, device, percent = (c if len(c) and int(c.min()) != UNTOLD else None for c in further)
    return Trace(
        at,
        resident,
        anonymous,
        file,
        cpu,
        sampler_cpu_ns,
        highest,
        energy_uj=energy,
        device_bytes=device,
        energy_source=source,
        device_percent=percent,
    )


def idle_watts(power: Power, seconds: float = IDLE_S) -> float | None:
    """Mean power over a short while; None where nothing tells it. Blocks: call it in a thread."""
    first, start = power.microjoules(), time.monotonic()
    if first is None:
        return None
    while (left := start + seconds - time.monotonic()) > 0:
        time.sleep(min(PERIOD_S, left))
        last = power.microjoules()
    return None if last is None else (last - first) / 1e6 / (time.monotonic() - start)
