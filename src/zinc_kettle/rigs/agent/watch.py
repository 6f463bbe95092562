"""Samples a process tree, the machine and its power, about twelve times per second; also sent to other machines.

As a script: `watch.py PID` prints one JSON line a sample until its standard input closes; a line read there is answered
with this machine's monotonic clock, so that the tool can tell how the two clocks differ.
Linux, below a root that tests replace by recorded trees; power also where NVML or a battery tells it.
"""

from __future__ import annotations

import json
import os
import re
import sys
import threading
import time
from typing import Any

PERIOD_S = 0.08
TREE_EVERY = 12
"""Samples between two looks for child processes, which read every process of the machine."""
MAX_FILE = 1 << 16


def read(path: str) -> str:
    """A small file's text; empty where it cannot be read."""
    try:
        with open(path, "rb") as file:
            return file.read(MAX_FILE).decode("ascii", "replace")
    except OSError:
        return ""


def listed(path: str) -> list[str]:
    """Names in a folder, sorted; empty where there is none."""
    try:
        return sorted(os.listdir(path))
    except OSError:
        return []


def whole(text: str) -> int | None:
    """A whole number, or None."""
    try:
        return int(text)
    except ValueError:
        return None


class Counters:
    """RAPL energy counters below /sys/class/powercap: microjoules that wrap around."""

    def __init__(self, root: str = "") -> None:
        base = root + "/sys/class/powercap"
        self._zones: list[tuple[str, int]] = []
        for name in listed(base):
            # Whole packages only: their parts are in them already.
            if re.match(r"intel-rapl:\d+$", name) and whole(read(base + "/" + name + "/energy_uj")) is not None:
                top = whole(read(base + "/" + name + "/max_energy_range_uj")) or (1 << 32)
                self._zones.append((base + "/" + name + "/energy_uj", top))
        self._last = [whole(read(path)) or 0 for path, _ in self._zones]
        self._sum = 0
        self.source = "energy counters of the processor package" if self._zones else ""

    def microjoules(self) -> int | None:
        """Energy since this object was made; None without counters."""
        if not self._zones:
            return None
        for i, (path, top) in enumerate(self._zones):
            now = whole(read(path))
            if now is None:
                continue
            step = now - self._last[i]
            self._sum += step if step >= 0 else step + top + 1
            self._last[i] = now
        return self._sum


class Watts:
    """Power readings added up over time: graphics devices, or the battery a laptop runs on."""

    def __init__(self, root: str = "") -> None:
        self._paths = _battery(root) or _graphics(root)
        self._nvml = None if self._paths else _nvml()
        self._at = time.monotonic()
        self._sum = 0.0
        kinds = {"battery": "the battery's own reading", "hwmon": "the graphics device's own reading"}
        self.source = kinds["battery" if self._paths and "power_supply" in self._paths[0] else "hwmon"]
        if not self._paths:
            self.source = "NVML" if self._nvml else ""

    def watts(self) -> float | None:
        """Power now; None where nothing tells it."""
        if self._nvml:
            pynvml, handles = self._nvml
            return float(sum(pynvml.nvmlDeviceGetPowerUsage(h) for h in handles)) / 1e3
        known = [n for n in (whole(read(p)) for p in self._paths) if n is not None]
        return sum(abs(n) for n in known) / 1e6 if known else None

    def microjoules(self) -> int | None:
        """Energy since this object was made, as if each reading had held since the one before."""
        now, power = time.monotonic(), self.watts()
        if power is None:
            return None
        self._sum += power * (now - self._at)
        self._at = now
        return int(self._sum * 1e6)

    def device_bytes(self) -> int | None:
        """Memory in use on all NVIDIA devices; None without NVML."""
        if not self._nvml:
            return None
        pynvml, handles = self._nvml
        return sum(int(pynvml.nvmlDeviceGetMemoryInfo(h).used) for h in handles)


def _battery(root: str) -> list[str]:
    base = root + "/sys/class/power_supply/"
    running = [n for n in listed(base) if read(base + n + "/status").strip() == "Discharging"]
    return [base + n + "/power_now" for n in running if whole(read(base + n + "/power_now")) is not None]


def _graphics(root: str) -> list[str]:
    base = root + "/sys/class/drm/"
    out: list[str] = []
    for card in listed(base):
        if re.match(r"card\d+$", card):
            sensors = base + card + "/device/hwmon/"
            out += [sensors + h + "/power1_average" for h in listed(sensors)]
    return [p for p in out if whole(read(p)) is not None]


def _nvml() -> tuple[Any, list[object]] | None:
    """NVML and its devices; None where the package, the driver or a device is missing."""
    try:
        import pynvml
    except ImportError:
        return None
    try:
        pynvml.nvmlInit()
        handles = [pynvml.nvmlDeviceGetHandleByIndex(i) for i in range(pynvml.nvmlDeviceGetCount())]
    except pynvml.NVMLError:
        return None
    return (pynvml, handles) if handles else None


class Power:
    """The best source of energy this machine has, or none."""

    def __init__(self, root: str = "") -> None:
        watts, counters = Watts(root), Counters(root)
        self._watts = watts
        self._source: Counters | Watts = counters if counters.source else watts
        self.source = self._source.source

    def microjoules(self) -> int | None:
        """Energy since this object was made; None without any source."""
        return self._source.microjoules()

    def device_bytes(self) -> int | None:
        """Memory in use on graphics devices; None where not told."""
        return self._watts.device_bytes()


def tree(pid: int, root: str = "") -> list[int]:
    """A process and all its descendants."""
    children: dict[int, list[int]] = {}
    for name in listed(root + "/proc"):
        if name.isdigit():
            after = read(root + "/proc/" + name + "/stat").rpartition(")")[2].split()
            if len(after) > 1:
                children.setdefault(int(after[1]), []).append(int(name))
    out: list[int] = []
    waiting = [pid]
    while waiting and len(out) < 4096:
        now = waiting.pop()
        out.append(now)
        waiting += children.get(now, [])
    return out


def process(pid: int, root: str = "") -> dict[str, int] | None:
    """Memory in bytes and processor time in nanoseconds of one process; None once it has ended."""
    stat = read(root + "/proc/%d/stat" % pid).rpartition(")")[2].split()
    if len(stat) < 13:
        return None
    fields = dict(re.findall(r"^(\w+):\s*(\d+) kB", read(root + "/proc/%d/status" % pid), re.M))
    tick = 1_000_000_000 // os.sysconf("SC_CLK_TCK")
    out = {"cpu": (int(stat[11]) + int(stat[12])) * tick}
    for ours, theirs in (("rss", "VmRSS"), ("anon", "RssAnon"), ("file", "RssFile"), ("high", "VmHWM")):
        out[ours] = int(fields.get(theirs, "0")) * 1024
    return out


def machine(root: str = "") -> tuple[float, float, float]:
    """Seconds of processor time since start: busy, stolen by a hypervisor, and all."""
    first = read(root + "/proc/stat").split("\n")[0].split()[1:9]
    user, nice, system, idle, wait, irq, soft, steal = ([int(n) for n in first] + [0] * 8)[:8]
    tick = os.sysconf("SC_CLK_TCK")
    busy = user + nice + system + irq + soft
    return busy / tick, steal / tick, (busy + idle + wait + steal) / tick


class Sampler:
    """Samples one tree."""

    def __init__(self, pid: int, root: str = "") -> None:
        self._pid, self._root = pid, root
        self._seen = 0
        self._pids: list[int] = []
        self.power = Power(root)

    def sample(self) -> dict[str, object]:
        """One sample; sums over the tree."""
        if self._seen % TREE_EVERY == 0:
            self._pids = tree(self._pid, self._root)
        self._seen += 1
        at = time.monotonic_ns()
        found = [p for p in (process(pid, self._root) for pid in self._pids) if p is not None]
        out: dict[str, object] = {"t": at, "machine": machine(self._root), "alive": bool(found)}
        for name in ("rss", "anon", "file", "cpu"):
            out[name] = sum(p[name] for p in found)
        out["high"] = max([p["high"] for p in found] or [0])
        out["uj"], out["device"] = self.power.microjoules(), self.power.device_bytes()
        out["own"] = time.process_time_ns()
        return out


def main() -> None:
    """Print samples until standard input closes."""
    sampler = Sampler(int(sys.argv[1]))
    lock, stop = threading.Lock(), threading.Event()

    def say(value: dict[str, object]) -> None:
        with lock:
            sys.stdout.write(json.dumps(value) + "\n")
            sys.stdout.flush()

    def answer() -> None:
        for _ in sys.stdin:
            say({"clock": time.monotonic_ns()})
        stop.set()

    threading.Thread(target=answer, daemon=True).start()
    say({"cores": os.cpu_count(), "power": sampler.power.source})
    due = time.monotonic()
    while not stop.is_set():
        say(sampler.sample())
        due = max(due + PERIOD_S, time.monotonic())
        stop.wait(max(0.0, due - time.monotonic()))


if __name__ == "__main__":
    main()
