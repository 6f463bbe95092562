"""Facts of this machine: its kind, never its name or its paths."""

from __future__ import annotations

import functools
import json
import os
import platform
import subprocess
import sys
import time
from importlib import metadata
from typing import Any

import psutil

from zinc_kettle.core.rig import BUSY_CORES
from zinc_kettle.core.text import neutralise
from zinc_kettle.errors import RigError
from zinc_kettle.rigs.agent import facts as agent_facts
from zinc_kettle.rigs.agent import probe as agent_probe
from zinc_kettle.rigs.agent.watch import Power

VIRTUAL_FLAG = "hypervisor"
LEAST_CORES = 0.03
"""Programs that use less are not worth naming."""
PROBE_LIMIT_S = 45.0
QUICK_LOOK_S = 0.3
"""Who uses the machine is looked at for so long before a probe that nobody asked for."""
"""The script bounds itself to 14 s; beyond that a starved machine only starts and ends it slowly."""


class SystemClock:
    """The real clock."""

    def now_ns(self) -> int:
        """Monotonic nanoseconds."""
        return time.monotonic_ns()

    def wall_s(self) -> float:
        """Seconds since 1970."""
        return time.time()


@functools.cache
def machine_facts() -> dict[str, Any]:
    """All facts of this machine, without a name or a path. Takes up to a second the first time: call it in a thread.

    What the rig script reads itself, and where it cannot (Windows, parts of macOS) what psutil and py-cpuinfo tell.
    """
    found = agent_facts.facts()
    import cpuinfo

    info = cpuinfo.get_cpu_info()
    cache = info.get("l3_cache_size") or info.get("l2_cache_size")
    further = {
        "processor": info.get("brand_raw") or platform.processor() or platform.machine(),
        "physical_cores": psutil.cpu_count(logical=False),
        "hardware_threads": psutil.cpu_count(logical=True),
        "last_level_cache_bytes": cache if isinstance(cache, int) else None,
        "memory_bytes": psutil.virtual_memory().total,
        "virtual": VIRTUAL_FLAG in (info.get("flags") or []),
        "engine": _engine(),
    }
    out = {**{k: v for k, v in further.items() if v is not None}, **found}
    # With one part of the package's devices there may be fewer cores in sight than the system counts.
    out["physical_cores"] = further["physical_cores"] or found.get("physical_cores")
    return out


def _engine() -> str | None:
    """Name and version of the engine's package, where it is installed; it is not imported for that."""
    try:
        return f"xllamacpp {metadata.version('xllamacpp')}"
    except metadata.PackageNotFoundError:
        return None


def busy(seconds: float = 0.5) -> dict[str, Any]:
    """Who uses this machine: cores in use over a short while, memory, and the busiest programs but our own."""
    own = {os.getpid(), os.getppid()}
    before = {p.pid: _cpu(p) for p in psutil.process_iter()}
    start = psutil.cpu_times()
    time.sleep(seconds)
    end = psutil.cpu_times()
    spent = {name: getattr(end, name) - getattr(start, name) for name in end._fields if not name.startswith("guest")}
    total = sum(spent.values()) or 1.0
    stolen = spent.get("steal", 0.0)
    top = []
    for process in psutil.process_iter(["name"]):
        used = (_cpu(process) - before.get(process.pid, 0.0)) / seconds if process.pid in before else 0.0
        if used > LEAST_CORES and process.pid not in own:
            top.append((neutralise(str(process.info["name"]), keep_newlines=False)[:40], round(used, 2)))
    memory = psutil.virtual_memory()
    idle = spent["idle"] + spent.get("iowait", 0.0)
    return {
        "cores": max(0.0, total - idle - stolen) / seconds,
        "memory_used_bytes": memory.total - memory.available,
        "memory_total_bytes": memory.total,
        "stolen_share": stolen / total,
        "top": sorted(top, key=lambda pair: -pair[1])[:3],
        "device_used_bytes": Power().device_bytes(),
    }


def _cpu(process: psutil.Process) -> float:
    try:
        times = process.cpu_times()
    except psutil.Error:
        return 0.0
    return float(times.user + times.system)


def probe(cores: int) -> dict[str, Any]:
    """Read bandwidth and arithmetic rate of this machine; takes a few seconds and all its cores.

    Raises:
        RigError: A probe failed or took too long.
    """
    start = time.monotonic()
    before = busy()
    reading = _script("reading", [str(cores)])
    counts = agent_probe.thread_counts(cores)
    gemm: dict[str, list[float]] = {}
    note = ""
    # Only one thread and all of them: between the two the rate is nearly straight, and the time is bounded.
    for count in sorted({counts[0], counts[-1]}):
        found = _script("gemm", ["gemm", str(count)])["gemm"]
        if isinstance(found, str):
            note = found
        else:
            gemm[str(count)] = found
    return {
        "reading": reading["reading"],
        "gemm": gemm,
        "gemm_note": note,
        "took_s": time.monotonic() - start,
        "busy_cores": before["cores"],
    }


def quick_probe(cores: int) -> dict[str, Any] | None:
    """The same in under three seconds, from fewer windows, with one thread and with all; None where others use the
    machine, for then it would tell too little.

    Raises:
        RigError: It failed or took too long.
    """
    start, used = time.monotonic(), busy(QUICK_LOOK_S)["cores"]
    if used > BUSY_CORES:
        return None
    found = _script("quick", ["quick", str(cores)])
    rate = found["gemm"]
    return {
        "reading": found["reading"],
        "gemm": {} if isinstance(rate, str) else {str(cores): rate},
        "gemm_note": rate if isinstance(rate, str) else "",
        "took_s": time.monotonic() - start,
        "busy_cores": used,
    }


def _script(what: str, arguments: list[str]) -> dict[str, Any]:
    # A process of its own: the arithmetic library reads its number of threads when it is loaded.
    line = [sys.executable, "-m", "zinc_kettle.rigs.agent.probe", *arguments]
    try:
        done = subprocess.run(line, capture_output=True, timeout=PROBE_LIMIT_S, check=False, stdin=subprocess.DEVNULL)
        found: dict[str, Any] = json.loads(done.stdout)
    except (OSError, ValueError, subprocess.TimeoutExpired) as error:
        raise RigError(
            f"probing ({what}) failed", why=str(error), remedy="try again when the machine is idle"
        ) from error
    return found
