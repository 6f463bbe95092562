"""Facts of the machine this runs on, as one JSON line. Standard library only; sent to other machines as text.

Linux: /proc and /sys, below a root that tests replace by recorded trees. macOS: sysctl. Elsewhere: what Python tells.
Nothing that names the machine or its owner is read: no host name, no path, no address.
"""

from __future__ import annotations

import json
import os
import platform
import re
import subprocess
import sys
from collections.abc import Callable
from typing import Any

MAX_FILE = 1 << 16
CGROUP_NONE = 1 << 60
"""Limits as large as this mean none."""
VENDORS = {"0x1002": "AMD", "0x8086": "Intel", "0x10de": "NVIDIA"}


def read(path: str) -> str:
    """A small file's text, stripped; empty where it cannot be read."""
    try:
        with open(path, "rb") as file:
            return file.read(MAX_FILE).decode("utf-8", "replace").strip("\0 \n\t")
    except OSError:
        return ""


def number(text: str) -> int | None:
    """A whole number, or None."""
    try:
        return int(text)
    except ValueError:
        return None


def listed(path: str) -> list[str]:
    """Names in a folder, sorted; empty where there is none."""
    try:
        return sorted(os.listdir(path))
    except OSError:
        return []


def cpu_list(text: str) -> list[int]:
    """`0-3,8` as numbers."""
    out: list[int] = []
    for part in text.split(","):
        low, _, high = part.partition("-")
        if low.strip().isdigit():
            out += range(int(low), int(high or low) + 1)
    return out[:4096]


def linux(root: str) -> dict[str, object]:
    """All facts of a Linux system below `root`."""
    cpus = root + "/sys/devices/system/cpu"
    info = read(root + "/proc/cpuinfo")
    threads = cpu_list(read(cpus + "/online")) or [0]
    found: dict[str, object] = {
        "processor": _processor(info),
        "hardware_threads": len(threads),
        "physical_cores": _cores(cpus, threads),
        "memory_bytes": _memory(root),
        "virtual": bool(re.search(r"^flags\s*:.*\bhypervisor\b", info, re.M)),
        "governor": read(cpus + "/cpu%d/cpufreq/scaling_governor" % threads[0]) or None,
        "swap_bytes": _meminfo(root, "SwapTotal"),
    }
    found.update(_kinds(root, cpus, threads))
    found.update(_caches(cpus, threads))
    found.update(_container(root))
    return found


def _processor(info: str) -> str | None:
    for name in ("model name", "Model", "Hardware", "cpu"):
        match = re.search(r"^%s\s*:\s*(.+)$" % name, info, re.M)
        if match:
            return " ".join(match.group(1).split())[:120]
    return None


def _cores(cpus: str, threads: list[int]) -> int | None:
    seen = set()
    for cpu in threads:
        topology = cpus + "/cpu%d/topology/" % cpu
        core = read(topology + "core_id")
        if core:
            seen.add((read(topology + "physical_package_id"), core))
    return len(seen) or None


def _kinds(root: str, cpus: str, threads: list[int]) -> dict[str, object]:
    """Performance and efficiency cores: told by the kernel, or by the capacities of cores that differ."""
    core = cpu_list(read(root + "/sys/devices/cpu_core/cpus"))
    atom = cpu_list(read(root + "/sys/devices/cpu_atom/cpus"))
    if core and atom:
        return {"performance_cores": _cores(cpus, core), "efficiency_cores": _cores(cpus, atom)}
    capacity = {c: number(read(cpus + "/cpu%d/cpu_capacity" % c)) for c in threads}
    known = [v for v in capacity.values() if v is not None]
    if known and min(known) < max(known):
        fast = [c for c, v in capacity.items() if v == max(known)]
        return {"performance_cores": len(fast), "efficiency_cores": len(known) - len(fast)}
    return {}


def _caches(cpus: str, threads: list[int]) -> dict[str, object]:
    """Size of each level in bytes: one core's first two levels, all of the last."""
    out: dict[str, object] = {}
    shared: dict[str, int] = {}
    folder = cpus + "/cpu%d/cache" % threads[0]
    for index in listed(folder):
        base = folder + "/" + index + "/"
        kind, level, size = read(base + "type"), read(base + "level"), read(base + "size")
        match = re.match(r"(\d+)([KMG]?)$", size)
        if match and kind in ("Data", "Unified"):
            scale = {"": 1, "K": 1 << 10, "M": 1 << 20, "G": 1 << 30}[match.group(2)]
            out["cache_l%s_bytes" % level] = shared[level] = int(match.group(1)) * scale
    if shared:
        out["last_level_cache_bytes"] = shared[max(shared)]
    return out


def _meminfo(root: str, name: str) -> int | None:
    match = re.search(r"^%s:\s*(\d+) kB" % name, read(root + "/proc/meminfo"), re.M)
    return int(match.group(1)) * 1024 if match else None


def _memory(root: str) -> int | None:
    return _meminfo(root, "MemTotal")


def _container(root: str) -> dict[str, object]:
    """Whether we are in a container, and what it may use; of both versions of control groups."""
    markers = [root + "/.dockerenv", root + "/run/.containerenv"]
    inside = any(os.path.exists(m) for m in markers) or "container=" in read(root + "/proc/1/environ")
    out: dict[str, object] = {"container": inside}
    groups = root + "/sys/fs/cgroup"
    own = "/" + "".join(re.findall(r"^0::/?(.*)$", read(root + "/proc/self/cgroup"), re.M)[:1])
    quota, _, period = read(groups + own + "/cpu.max").partition(" ")
    if not quota:
        quota, _, period = read(groups + "/cpu.max").partition(" ")
    if not quota:
        quota, period = read(groups + "/cpu/cpu.cfs_quota_us"), read(groups + "/cpu/cpu.cfs_period_us")
    allowed, per = number(quota), number(period)
    if allowed and per and allowed > 0:
        out["cpu_limit_cores"] = round(allowed / per, 3)
    limits = [groups + own + "/memory.max", groups + "/memory.max", groups + "/memory/memory.limit_in_bytes"]
    known = [n for n in map(number, map(read, limits)) if n is not None and n < CGROUP_NONE]
    if known:
        out["memory_limit_bytes"] = min(known)
    return out


def graphics(root: str) -> list[dict[str, object]]:
    """Graphics devices below /sys/class/drm, with memory, driver and power limit where the driver tells."""
    out: list[dict[str, object]] = []
    base = root + "/sys/class/drm"
    for name in listed(base):
        device = base + "/" + name + "/device/"
        vendor = read(device + "vendor")
        if not re.match(r"card\d+$", name) or not vendor:
            continue
        memory = number(read(device + "mem_info_vram_total"))
        cap = [number(read(device + "hwmon/" + h + "/power1_cap")) for h in listed(device + "hwmon")]
        driver = os.path.basename(os.path.realpath(device + "driver")) if os.path.exists(device + "driver") else ""
        kind = "%s graphics %s" % (VENDORS.get(vendor, vendor), read(device + "device"))
        out.append(
            {
                "name": read(device + "product_name") or kind,
                "memory_bytes": memory,
                "driver": (driver + " " + read(root + "/sys/module/%s/version" % driver)).strip() or None,
                "power_limit_w": next((c / 1e6 for c in cap if c), None),
                "card": name,
            }
        )
    return out


def nvml() -> list[dict[str, object]] | str:
    """NVIDIA devices through NVML's Python package; a sentence where that is not to be had."""
    try:
        import pynvml
    except ImportError:
        return "NVML's Python package is not installed there"
    try:
        pynvml.nvmlInit()
    except pynvml.NVMLError as error:
        return "NVML says: %s" % error
    try:
        driver = pynvml.nvmlSystemGetDriverVersion()
        return [_nvidia(pynvml, i, driver) for i in range(pynvml.nvmlDeviceGetCount())]
    finally:
        pynvml.nvmlShutdown()


def _nvidia(pynvml: Any, index: int, driver: object) -> dict[str, object]:
    handle = pynvml.nvmlDeviceGetHandleByIndex(index)
    name = pynvml.nvmlDeviceGetName(handle)
    try:
        limit = pynvml.nvmlDeviceGetEnforcedPowerLimit(handle) / 1000
    except pynvml.NVMLError:
        limit = None
    return {
        "name": name.decode() if isinstance(name, bytes) else str(name),
        "memory_bytes": int(pynvml.nvmlDeviceGetMemoryInfo(handle).total),
        "driver": driver.decode() if isinstance(driver, bytes) else str(driver),
        "power_limit_w": limit,
        "nvml": index,
    }


SYSCTL = {
    "processor": "machdep.cpu.brand_string",
    "physical_cores": "hw.physicalcpu",
    "hardware_threads": "hw.logicalcpu",
    "performance_cores": "hw.perflevel0.physicalcpu",
    "efficiency_cores": "hw.perflevel1.physicalcpu",
    "memory_bytes": "hw.memsize",
    "cache_l1_bytes": "hw.l1dcachesize",
    "cache_l2_bytes": "hw.l2cachesize",
    "cache_l3_bytes": "hw.l3cachesize",
    "virtual": "kern.hv_vmm_present",
}


def sysctl(name: str) -> str:
    """One value of macOS's sysctl; empty where there is none."""
    try:
        done = subprocess.run(["/usr/sbin/sysctl", "-n", name], capture_output=True, timeout=5, check=False)
    except (OSError, subprocess.TimeoutExpired):
        return ""
    return done.stdout.decode("utf-8", "replace").strip()


def macos(ask: Callable[[str], str] = sysctl) -> dict[str, object]:
    """All facts of a macOS system; unified memory, so that its graphics share main memory."""
    out: dict[str, object] = {}
    for name, key in SYSCTL.items():
        text = ask(key)
        value = number(text)
        if text:
            out[name] = value if value is not None else text
    out["virtual"] = out.get("virtual") == 1
    if "efficiency_cores" not in out:
        out.pop("performance_cores", None)
    last = [out[k] for k in ("cache_l3_bytes", "cache_l2_bytes") if out.get(k)]
    if last:
        out["last_level_cache_bytes"] = last[0]
    return out


def facts(root: str = "") -> dict[str, object]:
    """All facts of this machine."""
    out: dict[str, object] = {
        "architecture": platform.machine(),
        "system": platform.system(),
        "kernel": platform.release().split("-")[0],
        "python": ".".join(map(str, sys.version_info[:3])),
        "hardware_threads": os.cpu_count(),
    }
    if sys.platform.startswith("linux"):
        out.update({k: v for k, v in linux(root).items() if v is not None})
    elif sys.platform == "darwin":
        out.update(macos())
    devices = nvml()
    if isinstance(devices, str):
        out["graphics_note"] = devices
        devices = []
    shown = graphics(root)
    # The kernel lists NVIDIA's devices too, without their memory; NVML tells more.
    out["graphics"] = devices + [d for d in shown if not devices or "NVIDIA" not in str(d["name"])]
    return out


if __name__ == "__main__":
    sys.stdout.write(json.dumps(facts()) + "\n")
