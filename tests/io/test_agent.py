"""What rigs tell of themselves: recorded trees and replies of systems that are not at hand, and this one."""

from __future__ import annotations

import ast
import json
import subprocess
import sys
import time
import types
from pathlib import Path
from typing import Any

import pytest

from zinc_kettle.core.devices import DeviceUse, Reading, reading, use_of
from zinc_kettle.core.record.telemetry import Machine, hottest
from zinc_kettle.rigs import local
from zinc_kettle.rigs.agent import busy, facts, probe, watch
from zinc_kettle.rigs.telemetry import TreeWatch

AGENT = Path(facts.__file__).parent


def tree(root: Path, files: dict[str, str]) -> str:
    """A recorded tree of /proc and /sys."""
    for name, text in files.items():
        path = root / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text)
    return str(root)


CPU = "sys/devices/system/cpu"


def laptop(root: Path) -> str:
    """Two performance cores with two threads each, four efficiency cores; a container; an AMD card; a battery."""
    files = {
        f"{CPU}/online": "0-7",
        "sys/devices/cpu_core/cpus": "0-3",
        "sys/devices/cpu_atom/cpus": "4-7",
        "proc/cpuinfo": "processor : 0\nmodel name\t: Made-up 8  Mobile\nflags\t\t: fpu hypervisor\n",
        "proc/meminfo": "MemTotal:       16000000 kB\nMemAvailable:    9000000 kB\nSwapTotal:       2000000 kB\n",
        "run/.containerenv": "",
        "sys/fs/cgroup/cpu.max": "250000 100000",
        "sys/fs/cgroup/memory.max": "4000000000",
        "proc/self/cgroup": "0::/\n",
        f"{CPU}/cpu0/cpufreq/scaling_governor": "powersave",
        "sys/class/drm/card0/device/vendor": "0x1002",
        "sys/class/drm/card0/device/device": "0x73bf",
        "sys/class/drm/card0/device/mem_info_vram_total": "17163091968",
        "sys/class/drm/card0/device/hwmon/hwmon3/power1_cap": "203000000",
        "sys/class/drm/card0/device/hwmon/hwmon3/power1_average": "41000000",
        "sys/class/drm/card0-DP-1/status": "connected",
        "sys/class/drm/card1/device/vendor": "0x8086",
        "sys/class/drm/card1/device/device": "0x9a49",
        "sys/class/power_supply/BAT0/status": "Discharging",
        "sys/class/power_supply/BAT0/power_now": "12500000",
    }
    for cpu in range(8):
        files[f"{CPU}/cpu{cpu}/topology/core_id"] = str(cpu // 2 if cpu < 4 else cpu)
        files[f"{CPU}/cpu{cpu}/topology/physical_package_id"] = "0"
    for index, (level, kind, size) in enumerate(
        (("1", "Data", "48K"), ("1", "Instruction", "32K"), ("2", "Unified", "1280K"), ("3", "Unified", "12M"))
    ):
        base = f"{CPU}/cpu0/cache/index{index}/"
        files |= {base + "level": level, base + "type": kind, base + "size": size}
    return tree(root, files)


def test_a_recorded_laptop(tmp_path: Path) -> None:
    """Cores of both kinds, caches, limits of the container, both graphics devices, nothing that names the machine."""
    found = facts.linux(laptop(tmp_path))
    assert found["processor"] == "Made-up 8 Mobile" and found["hardware_threads"] == 8 and found["physical_cores"] == 6
    assert (found["performance_cores"], found["efficiency_cores"]) == (2, 4)
    assert found["cache_l1_bytes"] == 48 << 10 and found["last_level_cache_bytes"] == 12 << 20
    assert found["virtual"] is True and found["container"] is True and found["governor"] == "powersave"
    assert found["cpu_limit_cores"] == 2.5 and found["memory_limit_bytes"] == 4_000_000_000
    assert found["memory_bytes"] == 16_000_000 * 1024
    cards = facts.graphics(str(tmp_path))
    assert [c["name"] for c in cards] == ["AMD graphics 0x73bf", "Intel graphics 0x9a49"]
    assert cards[0]["memory_bytes"] == 17_163_091_968 and cards[0]["power_limit_w"] == 203.0
    assert cards[1]["memory_bytes"] is None


def test_cores_of_unlike_capacity_and_old_control_groups(tmp_path: Path) -> None:
    """As small boards tell it; a limit that is none is none; an empty tree tells nothing and fails nothing."""
    files = {
        f"{CPU}/online": "0-3",
        "sys/fs/cgroup/cpu/cpu.cfs_quota_us": "-1",
        "sys/fs/cgroup/cpu/cpu.cfs_period_us": "100000",
        "sys/fs/cgroup/memory/memory.limit_in_bytes": "9223372036854771712",
    }
    files |= {f"{CPU}/cpu{i}/cpu_capacity": "1024" if i < 1 else "446" for i in range(4)}
    found = facts.linux(tree(tmp_path, files))
    assert (found["performance_cores"], found["efficiency_cores"]) == (1, 3)
    assert "cpu_limit_cores" not in found and "memory_limit_bytes" not in found
    empty = facts.linux(str(tmp_path / "none"))
    assert empty["processor"] is None and empty["memory_bytes"] is None


def test_recorded_replies_of_another_system() -> None:
    """Performance and efficiency cores, unified memory, last cache; what is not told is left out."""
    replies = {
        "machdep.cpu.brand_string": "Made-up M",
        "hw.physicalcpu": "8",
        "hw.logicalcpu": "8",
        "hw.perflevel0.physicalcpu": "4",
        "hw.perflevel1.physicalcpu": "4",
        "hw.memsize": "17179869184",
        "hw.l2cachesize": "4194304",
        "kern.hv_vmm_present": "0",
    }
    found = facts.macos(lambda name: replies.get(name, ""))
    assert found["processor"] == "Made-up M" and found["memory_bytes"] == 1 << 34
    assert (found["performance_cores"], found["efficiency_cores"], found["virtual"]) == (4, 4, False)
    assert found["last_level_cache_bytes"] == 4 << 20 and "cache_l3_bytes" not in found
    one_kind = facts.macos(lambda name: {"hw.perflevel0.physicalcpu": "4"}.get(name, ""))
    assert "performance_cores" not in one_kind


class Nvml(types.ModuleType):
    """As much of NVML's package as we use, with two devices."""

    class NVMLError(Exception):
        """Its error."""

    def __init__(self, *, broken: bool = False) -> None:
        super().__init__("pynvml")
        self.broken = broken
        self.power = 30_000
        self.silent: set[int] = set()
        """Devices that do not tell their power."""

    def _power_of(self, handle: int) -> int:
        if handle in self.silent:
            raise self.NVMLError("not supported")
        return self.power

    def nvmlInit(self) -> None:
        if self.broken:
            raise self.NVMLError("driver not loaded")

    def __getattr__(self, name: str) -> Any:
        answers: dict[str, Any] = {
            "nvmlShutdown": lambda: None,
            "nvmlDeviceGetCount": lambda: 2,
            "nvmlDeviceGetHandleByIndex": lambda i: i,
            "nvmlSystemGetDriverVersion": lambda: b"1.2.3",
            "nvmlDeviceGetName": lambda h: f"card {h}".encode(),
            "nvmlDeviceGetEnforcedPowerLimit": lambda h: 250_000,
            "nvmlDeviceGetMemoryInfo": lambda h: types.SimpleNamespace(total=12 << 30, used=(h + 1) << 30),
            "nvmlDeviceGetUtilizationRates": lambda h: types.SimpleNamespace(gpu=10 * h + 40),
            "nvmlDeviceGetPowerUsage": self._power_of,
            "nvmlDeviceGetTemperature": lambda h, sensor: 61 + h + sensor,
            "nvmlDeviceGetClockInfo": lambda h, of: 1410 + of + 0 * self._power_of(h),
        }
        if name not in answers:
            raise AttributeError(name)
        return answers[name]


def test_devices_that_nvml_tells(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    """Name, memory, driver, power limit; power and memory in use while watching; a missing driver is said."""
    monkeypatch.setitem(sys.modules, "pynvml", Nvml())
    found = facts.nvml()
    assert isinstance(found, list)
    assert [(d["name"], d["driver"], d["power_limit_w"]) for d in found] == [
        ("card 0", "1.2.3", 250.0),
        ("card 1", "1.2.3", 250.0),
    ]
    power = watch.Power(str(tmp_path))
    assert power.source.startswith("NVML (without the processor") and power.device_bytes() == 3 << 30
    assert watch.Watts(str(tmp_path)).watts() == 60.0
    monkeypatch.setitem(sys.modules, "pynvml", Nvml(broken=True))
    assert facts.nvml() == "NVML says: driver not loaded"
    assert watch.Power(str(tmp_path)).microjoules() is None


def test_memory_that_the_kernel_tells_of_a_device(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    """Beside what NVML tells of others; nothing where neither tells."""
    monkeypatch.setitem(sys.modules, "pynvml", Nvml(broken=True))
    assert watch.Power(str(tmp_path)).device_bytes() is None
    tree(tmp_path, {"sys/class/drm/card0/device/mem_info_vram_used": "1000", "sys/class/drm/card1/x": ""})
    assert watch.Power(str(tmp_path)).device_bytes() == 1000
    monkeypatch.setitem(sys.modules, "pynvml", Nvml())
    assert watch.Power(str(tmp_path)).device_bytes() == (3 << 30) + 1000


def test_each_device_tells_of_itself(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    """Those the kernel knows of, then those of NVML; what one does not tell is left open, and one that tells nothing
    is none."""
    nvml = Nvml()
    nvml.silent = {1}
    monkeypatch.setitem(sys.modules, "pynvml", nvml)
    card = "sys/class/drm/card0/device"
    tree(
        tmp_path,
        {
            f"{card}/mem_info_vram_used": "1000",
            f"{card}/hwmon/hwmon2/power1_average": "5500000",
            f"{card}/hwmon/hwmon2/temp1_input": "66000",
            f"{card}/hwmon/hwmon2/freq1_input": "1900000000",
            "sys/class/drm/card1/x": "",
        },
    )
    found = watch.Power(str(tmp_path)).each_device()
    assert found == [
        [1000, None, 5500, 66_000, 1_900_000],
        [1 << 30, 40, 30_000, 61_000, 1_410_000],
        [2 << 30, 50, None, 62_000, None],
    ]
    one, *others = (reading(told) for told in found)
    first, _, last = use_of([[one, *others], [reading([500, 20, 4500, 70_000, 1_700_000]), *others], [one, others[0]]])
    assert first == DeviceUse(1000, 0.2, 5.0, 70.0, 1.8e9) and last == DeviceUse(2 << 30, 0.5, None, 62.0, None)
    told = ((1, 2, 3, 4, 5, 6), ("x", -1), (True, 1.5, None), (1, 2, 3, 300_000))
    assert [reading(each) for each in told] == [(1, 2, 3, 4, 5), Reading(), Reading(), Reading(1, 2, 3)]


def test_how_hot_and_fast_a_processor_is(tmp_path: Path) -> None:
    """The highest of its sensors and the mean over its cores, without sensors of other parts; else its thermal zone."""
    chip, zone = "sys/class/hwmon/hwmon1", "sys/class/thermal/thermal_zone2"
    others = {"sys/class/hwmon/hwmon0/name": "nvme", "sys/class/hwmon/hwmon0/temp1_input": "90000"}
    zones = {f"{zone}/type": "x86_pkg_temp", f"{zone}/temp": "58000"}
    policies = "sys/devices/system/cpu/cpufreq"
    clocks = {f"{policies}/policy0/scaling_cur_freq": "3000000", f"{policies}/policy1/scaling_cur_freq": "2000000"}
    tree(tmp_path, others)
    assert watch.Processor(str(tmp_path)).reading() == []
    tree(tmp_path, zones)
    assert watch.Processor(str(tmp_path)).reading() == [None, None, None, 58_000, None]
    sensors = {f"{chip}/name": "coretemp", f"{chip}/temp1_input": "61000", f"{chip}/temp2_input": "64000"}
    tree(tmp_path, {**sensors, **clocks})
    seldom, always = watch.Processor(str(tmp_path)), watch.Processor(str(tmp_path), every_s=0)
    assert seldom.reading() == always.reading() == [None, None, None, 64_000, 2_500_000]
    tree(tmp_path, {f"{chip}/temp2_input": "80000"})
    assert (seldom.reading()[3], always.reading()[3]) == (64_000, 80_000)
    machine = Machine(1.0, 2, 1.0, 1.0, 0.0, (DeviceUse(hottest_c=70.0),), use_of([[reading(always.reading())]])[0])
    assert machine.hottest_c == 80.0 and hottest([reading(always.reading()), Reading()]) == 80.0
    assert Machine(1.0, 2, 1.0, 1.0, 0.0).hottest_c is None and hottest([Reading()]) is None


def test_a_device_that_falls_silent_makes_no_power_of_the_others(
    monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    """Nothing is told while one that told its power does not; one that never did is left out from the start."""
    nvml = Nvml()
    monkeypatch.setitem(sys.modules, "pynvml", nvml)
    both = watch.Watts(str(tmp_path))
    nvml.silent = {1}
    assert both.watts() is None and both.microjoules() is None and both.device_bytes() == 3 << 30
    nvml.silent = set()
    assert both.watts() == 60.0
    nvml.silent = {1}
    one = watch.Watts(str(tmp_path))
    assert one.watts() == 30.0
    nvml.silent = {0, 1}
    assert watch.Watts(str(tmp_path)).source == "" and watch.Watts(str(tmp_path)).watts() is None


def test_a_package_that_falls_silent_makes_no_energy_of_the_others(tmp_path: Path) -> None:
    """Nothing is told meanwhile; when it tells again, its counter has gone on."""
    zones = [f"sys/class/powercap/intel-rapl:{i}/energy_uj" for i in (0, 1)]
    root = tree(tmp_path, dict.fromkeys(zones, "100"))
    counters = watch.Counters(root)
    (tmp_path / zones[1]).rename(tmp_path / "away")
    tree(tmp_path, {zones[0]: "150"})
    assert counters.microjoules() is None
    (tmp_path / "away").rename(tmp_path / zones[1])
    tree(tmp_path, {zones[1]: "180"})
    assert counters.microjoules() == 50 + 80


def test_energy_counters_wrap(tmp_path: Path) -> None:
    """Whole packages are added, their parts are not, and a counter that starts anew goes on counting."""
    zone = "sys/class/powercap/intel-rapl:0"
    files = {
        f"{zone}/energy_uj": "900",
        f"{zone}/max_energy_range_uj": "999",
        f"{zone}:0/energy_uj": "5",
        "sys/class/powercap/intel-rapl:1/energy_uj": "10",
    }
    root = tree(tmp_path, files)
    counters = watch.Counters(root)
    assert counters.microjoules() == 0
    tree(tmp_path, {f"{zone}/energy_uj": "950", "sys/class/powercap/intel-rapl:1/energy_uj": "30"})
    assert counters.microjoules() == 70
    tree(tmp_path, {f"{zone}/energy_uj": "49"})
    assert counters.microjoules() == 70 + 49 + 1000 - 950
    assert "energy counters" in watch.Power(root).source


def test_energy_of_all_sources_is_added(tmp_path: Path) -> None:
    """Processor and device together; what nothing tells is named; a battery tells of everything and stands alone."""
    package, card = "sys/class/powercap/intel-rapl:0", "sys/class/drm/card0/device/hwmon/hwmon1/power1_average"
    root = tree(tmp_path, {f"{package}/energy_uj": "100", f"{package}/max_energy_range_uj": "999999"})
    assert watch.Power(root).source.endswith("(without the rest of the machine)")
    tree(tmp_path, {"sys/class/drm/card0/status": "on"})
    assert "without a graphics device and" in watch.Power(root).source
    tree(tmp_path, {card: "41000000"})
    power = watch.Power(root)
    first = power.microjoules() or 0
    tree(tmp_path, {f"{package}/energy_uj": "50100"})
    time.sleep(0.05)
    used = (power.microjoules() or 0) - first
    assert used > 50_000 + 0.05 * 41e6 and "energy counters of the processor package and the graphics" in power.source
    tree(tmp_path, {"sys/class/power_supply/BAT0/status": "Discharging", "sys/class/power_supply/BAT0/power_now": "9"})
    assert watch.Power(root).source == "the battery's own reading"


def test_the_highest_memory_is_that_of_the_watch() -> None:
    """A process that needs 100 MB for a moment has needed them in the first watch and not in the second."""
    code = "import sys\nfor line in sys.stdin:\n len(b'x' * (int(line) << 20))\n print('ok', flush=True)"
    child = subprocess.Popen([sys.executable, "-c", code], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
    assert child.stdin and child.stdout
    highest = []
    try:
        for size in (100, 1):
            seen, sampler = TreeWatch(child.pid), watch.Sampler(child.pid)
            sampler.anew()
            sampler.sample()
            time.sleep(0.2)
            child.stdin.write(f"{size}\n")
            child.stdin.flush()
            child.stdout.readline()
            highest.append((int(str(sampler.sample()["high"])), seen.end(driver_cpu_ns=0)[0].highest_bytes))
    finally:
        child.kill()
        child.wait(10)
    assert all(big - 80_000_000 > small > 0 for big, small in zip(*highest, strict=True)), highest


def test_a_battery_tells_power_only_while_it_is_drained(tmp_path: Path) -> None:
    """12.5 W; plugged in, the card's own reading is left."""
    root = laptop(tmp_path)
    assert watch.Watts(root).watts() == 12.5 and "battery" in watch.Watts(root).source
    tree(tmp_path, {"sys/class/power_supply/BAT0/status": "Charging"})
    assert watch.Watts(root).watts() == 41.0 and "graphics" in watch.Watts(root).source


STAT = "{} (a b) c) S {} 0 0 0 0 0 0 0 0 0 {} {} 0 0 0 0 0"


def test_a_recorded_process_tree(tmp_path: Path) -> None:
    """Children of children count, others do not; a name may hold blanks and brackets."""
    files = {"proc/stat": "cpu  100 0 50 800 10 5 5 30 0 0\n"}
    for pid, parent in ((10, 1), (11, 10), (12, 11), (20, 1)):
        files[f"proc/{pid}/stat"] = STAT.format(pid, parent, 30, 20)
        files[f"proc/{pid}/status"] = "VmHWM:\t900 kB\nVmRSS:\t800 kB\nRssAnon:\t500 kB\nRssFile:\t300 kB\n"
    root = tree(tmp_path, files)
    assert watch.tree(10, root) == [10, 11, 12]
    sample = watch.Sampler(10, root).sample()
    assert sample["rss"] == 3 * 800 * 1024 and sample["anon"] == 3 * 500 * 1024 and sample["high"] == -1
    assert sample["cpu"] == 3 * 50 * 10_000_000 and sample["alive"] is True and sample["uj"] is None
    assert watch.machine(root) == pytest.approx((1.6, 0.3, 10.0))
    assert watch.Sampler(99, root).sample()["alive"] is False


def test_who_is_busy() -> None:
    """From two readings: cores in use, stolen time apart, the busiest first, ourselves left out."""
    before, after = {"1": ("film", 100), "2": ("idle", 5)}, {"1": ("film", 150), "2": ("idle", 5), "3": ("new", 7)}
    found = busy.compare(before, after, [0] * 8, [50, 0, 10, 100, 0, 0, 0, 40], 1.0, 100)
    assert found["cores"] == pytest.approx(0.6) and found["stolen_share"] == pytest.approx(0.2)
    assert found["top"] == [("film", 0.5)]


def test_scripts_need_nothing_but_python() -> None:
    """They are sent as text: plain letters, the standard library, others only where they may be missing."""
    for path in AGENT.glob("*.py"):
        source = path.read_text()
        assert source.isascii(), path
        for node in ast.parse(source).body:
            if isinstance(node, ast.Import | ast.ImportFrom):
                names = [a.name for a in node.names] if isinstance(node, ast.Import) else [node.module or ""]
                assert {n.partition(".")[0] for n in names} <= sys.stdlib_module_names, path


def test_this_machine() -> None:
    """Facts, who is busy, and a probe whose windows agree with what reading is: fast, and never free."""
    found = local.machine_facts()
    assert found["hardware_threads"] >= 1 and found["memory_bytes"] > 1e9 and found["engine"].startswith("xllamacpp")
    now = local.busy(0.1)
    assert now["cores"] >= 0 and 0 < now["memory_used_bytes"] < now["memory_total_bytes"]
    windows = probe.bandwidth(1, window_s=0.02, rounds=3)
    assert len(windows) == 3 and all(1e8 < w < 1e13 for w in windows)
    line = [sys.executable, str(AGENT / "probe.py"), "gemm", "1"]
    told = json.loads(subprocess.run(line, check=True, capture_output=True, timeout=600).stdout)["gemm"]
    assert all(1e7 < rate < 1e14 for rate in told)
    assert probe.thread_counts(6) == [1, 2, 4, 6] and probe.thread_counts(1) == [1]
