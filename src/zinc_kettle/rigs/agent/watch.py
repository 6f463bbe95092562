"""Samples a process tree, the machine and its power, about twelve times per second; also sent to other machines.

As a script: `watch.py PID` prints one JSON line a sample until its standard input closes; a line read there is answered
with this machine's monotonic clock, so that the tool can tell how the two clocks differ, and the line `anew` makes the
system's record of the highest memory begin anew.
Linux, below a root that tests replace by recorded trees; power also where NVML or a battery tells it.
"""

from __future__ import annotations

import contextlib
import json
import os
import re
import sys
import threading
import time
from collections.abc import Callable
from typing import Any

PERIOD_S = 0.08
SENSORS_S = 1.0
"""Sensors of a processor are slow, and there may be many of them: they are read once a second."""
PROCESSORS = ("coretemp", "k10temp", "zenpower", "cpu_thermal", "x86_pkg_temp", "cpu-thermal", "soc-thermal")
"""Names that sensors of processors go by."""
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
        """Energy since this object was made; None without counters, and while one of them is silent: the sum of the
        others would pass for all of it."""
        told = [whole(read(path)) for path, _ in self._zones]
        if not told or None in told:
            return None
        for i, (now, (_, top)) in enumerate(zip(told, self._zones)):
            assert now is not None
            step = now - self._last[i]
            self._sum += step if step >= 0 else step + top + 1
            self._last[i] = now
        return self._sum


class Watts:
    """Power readings added up over time: the battery a laptop runs on, or all graphics devices that tell theirs."""

    def __init__(self, root: str = "") -> None:
        battery = _battery(root)
        self.all_of_it = bool(battery)
        """True where the readings are those of the whole machine."""
        self._paths = battery or _graphics(root)
        self._nvml = _nvml()
        # Some devices have no reading of their own; they are left out from the start, and said to be.
        pynvml, handles = self._nvml or (None, [])
        self._powered = [handle for handle in handles if _device_watts(pynvml, handle) is not None]
        self._held = [base + "/device/mem_info_vram_used" for base in _cards(root)]
        self._busy = [base + "/device/gpu_busy_percent" for base in _cards(root)]
        self._each = [
            (
                held,
                busy,
                *(next(iter(_sensors(card, what)), "") for what in ("power1_average", "temp1_input", "freq1_input")),
            )
            for held, busy, card in zip(self._held, self._busy, _cards(root))
        ]
        self._at = time.monotonic()
        self._sum = 0.0
        told = ["the battery's own reading" if battery else "the graphics device's own reading"] if self._paths else []
        self.source = " and ".join(told + (["NVML"] if self._powered and not battery else []))

    def watts(self) -> float | None:
        """Power now; None where nothing tells it, and while a device that told it before is silent."""
        known: list[float | None] = [None if n is None else abs(n) / 1e6 for n in map(whole, map(read, self._paths))]
        if self._nvml and not self.all_of_it:
            known += [_device_watts(self._nvml[0], handle) for handle in self._powered]
        told = [watts for watts in known if watts is not None]
        return sum(told) if told and len(told) == len(known) else None

    def microjoules(self) -> int | None:
        """Energy since this object was made, as if each reading had held since the one before."""
        now, power = time.monotonic(), self.watts()
        if power is None:
            return None
        self._sum += power * (now - self._at)
        self._at = now
        return int(self._sum * 1e6)

    def device_bytes(self) -> int | None:
        """Memory in use on all devices that tell it, by NVML and by the kernel; None where none does."""
        told = [n for n in (whole(read(path)) for path in self._held) if n is not None]
        if self._nvml:
            pynvml, handles = self._nvml
            try:
                told += [int(pynvml.nvmlDeviceGetMemoryInfo(h).used) for h in handles]
            except pynvml.NVMLError:
                return None
        return sum(told) if told else None

    def each_device(self) -> list[list[int | None]]:
        """Of each device bytes in use, percent busy, milliwatts, thousandths of a degree and kilohertz, None for what
        it does not tell: those the kernel knows of, then those of NVML."""
        out: list[list[int | None]] = []
        for paths in self._each:
            held, busy, power, heat, clock = (whole(read(path)) if path else None for path in paths)
            told = [
                held,
                busy,
                None if power is None else power // 1000,
                heat,
                None if clock is None else clock // 1000,
            ]
            if any(n is not None for n in told):
                out.append(told)
        if self._nvml:
            out += [_nvml_reading(self._nvml[0], handle) for handle in self._nvml[1]]
        return out

    def device_percent(self) -> int | None:
        """How busy graphics devices are, in the mean over all that tell it; None where none does."""
        told = [n for n in (whole(read(path)) for path in self._busy) if n is not None]
        if self._nvml:
            pynvml, handles = self._nvml
            with contextlib.suppress(pynvml.NVMLError):  # devices cut into parts do not tell it
                told += [int(pynvml.nvmlDeviceGetUtilizationRates(h).gpu) for h in handles]
        return round(sum(told) / len(told)) if told else None


def _device_watts(pynvml: Any, handle: object) -> float | None:
    """Power of an NVIDIA device; None where it does not tell."""
    try:
        return float(pynvml.nvmlDeviceGetPowerUsage(handle)) / 1e3
    except pynvml.NVMLError:
        return None


def _cards(root: str) -> list[str]:
    base = root + "/sys/class/drm/"
    return [base + card for card in listed(base) if re.match(r"card\d+$", card)]


def _battery(root: str) -> list[str]:
    base = root + "/sys/class/power_supply/"
    running = [n for n in listed(base) if read(base + n + "/status").strip() == "Discharging"]
    return [base + n + "/power_now" for n in running if whole(read(base + n + "/power_now")) is not None]


def _graphics(root: str) -> list[str]:
    return [path for card in _cards(root) for path in _sensors(card, "power1_average")]


def _sensors(card: str, name: str) -> list[str]:
    """Readings of a card by that name that tell something now."""
    base = card + "/device/hwmon/"
    return [p for p in (base + h + "/" + name for h in listed(base)) if whole(read(p)) is not None]


def _nvml_reading(pynvml: Any, handle: object) -> list[int | None]:
    """Of an NVIDIA device bytes in use, percent busy, milliwatts, thousandths of a degree and kilohertz; None for what
    it does not tell."""
    ways: list[Callable[[], Any]] = [
        lambda: pynvml.nvmlDeviceGetMemoryInfo(handle).used,
        lambda: pynvml.nvmlDeviceGetUtilizationRates(handle).gpu,
        lambda: pynvml.nvmlDeviceGetPowerUsage(handle),
        lambda: 1000 * pynvml.nvmlDeviceGetTemperature(handle, 0),
        lambda: 1000 * pynvml.nvmlDeviceGetClockInfo(handle, 0),  # of its arithmetic, in MHz
    ]
    told: list[int | None] = []
    for way in ways:
        try:
            told.append(int(way()))
        except pynvml.NVMLError:
            told.append(None)
    return told


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


class Processor:
    """Temperature and clock of the main processor, where the kernel tells them."""

    def __init__(self, root: str = "", every_s: float = SENSORS_S) -> None:
        chips, zones = root + "/sys/class/hwmon/", root + "/sys/class/thermal/"
        ours = [chips + c + "/" for c in listed(chips) if read(chips + c + "/name").strip() in PROCESSORS]
        self._heats = [base + n for base in ours for n in listed(base) if re.match(r"temp\d+_input$", n)] or [
            zones + z + "/temp" for z in listed(zones) if read(zones + z + "/type").strip() in PROCESSORS
        ]
        policies = root + "/sys/devices/system/cpu/cpufreq/"
        self._clocks = [policies + p + "/scaling_cur_freq" for p in listed(policies) if p.startswith("policy")]
        self._every_s, self._due = every_s, 0.0
        self._last: list[int | None] = []

    def reading(self) -> list[int | None]:
        """As of a device: its highest temperature and its mean clock, the rest None; empty where nothing is told."""
        if (self._heats or self._clocks) and time.monotonic() >= self._due:
            self._due = time.monotonic() + self._every_s
            heats, clocks = (
                [n for n in map(whole, map(read, paths)) if n is not None] for paths in (self._heats, self._clocks)
            )
            told = max(heats) if heats else None, sum(clocks) // len(clocks) if clocks else None
            self._last = [None, None, None, *told] if any(told) else []
        return self._last


class Power:
    """All sources of energy this machine has, added up: a battery's alone, else processor packages and devices."""

    def __init__(self, root: str = "") -> None:
        self._watts, counters = Watts(root), Counters(root)
        both: list[Counters | Watts] = [self._watts] if self._watts.all_of_it else [counters, self._watts]
        self._sources = [source for source in both if source.source]
        named = " and ".join(source.source for source in self._sources)
        self.source = named + ("" if self._watts.all_of_it or not named else _left_out(root, counters, self._watts))

    def microjoules(self) -> int | None:
        """Energy since this object was made; None without any source."""
        told = [n for n in (source.microjoules() for source in self._sources) if n is not None]
        return sum(told) if told and len(told) == len(self._sources) else None

    def device_bytes(self) -> int | None:
        """Memory in use on graphics devices; None where not told."""
        return self._watts.device_bytes()

    def device_percent(self) -> int | None:
        """How busy graphics devices are; None where not told."""
        return self._watts.device_percent()

    def each_device(self) -> list[list[int | None]]:
        """Of each graphics device bytes in use, percent busy, milliwatts, thousandths of a degree and kilohertz; None
        for what it does not tell."""
        return self._watts.each_device()


def _left_out(root: str, counters: Counters, watts: Watts) -> str:
    """What the sources of a machine without a battery do not see."""
    cards = _cards(root)
    missing = [] if counters.source else ["the processor"]
    missing += ["a graphics device"] if cards and not watts.source else []
    return " (without %s)" % " and ".join(missing + ["the rest of the machine"])


def peak_anew(pid: int, root: str = "") -> bool:
    """Make the system's record of a process' highest memory begin anew; False where it cannot (proc(5), clear_refs)."""
    try:
        file = os.open(root + "/proc/%d/clear_refs" % pid, os.O_WRONLY)
    except OSError:
        return False
    try:
        os.write(file, b"5")
    except OSError:
        return False
    finally:
        os.close(file)
    return True


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
        self._anew: dict[int, bool] = {}
        self.asked = 0
        """How often the record of the highest memory was asked to begin anew."""
        self.power = Power(root)
        self.processor = Processor(root)

    def anew(self) -> None:
        """Begin the record of the highest memory anew, from the next sample on."""
        self.asked += 1
        self._anew = {}

    def sample(self) -> dict[str, object]:
        """One sample; sums over the tree."""
        if self._seen % TREE_EVERY == 0:
            self._pids = tree(self._pid, self._root)
        self._seen += 1
        asked = self.asked
        for pid in self._pids:
            if pid not in self._anew:
                self._anew[pid] = peak_anew(pid, self._root)
        at = time.monotonic_ns()
        found = [p for p in (process(pid, self._root) for pid in self._pids) if p is not None]
        out: dict[str, object] = {"t": at, "machine": machine(self._root), "alive": bool(found)}
        for name in ("rss", "anon", "file", "cpu"):
            out[name] = sum(p[name] for p in found)
        told = asked and all(self._anew.values())
        out["high"], out["asked"] = max([p["high"] for p in found] or [-1]) if told else -1, asked
        out["uj"], out["device"] = self.power.microjoules(), self.power.device_bytes()
        out["percent"], out["each"] = self.power.device_percent(), self.power.each_device()
        out["chip"] = self.processor.reading()
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
        for line in sys.stdin:
            if line.strip() == "anew":
                sampler.anew()
            else:
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
