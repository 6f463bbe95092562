"""Facts of this machine: its kind, never its name or its paths."""

from __future__ import annotations

import functools
import platform
import sys
import time
from typing import Any

import psutil

VIRTUAL_FLAG = "hypervisor"


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
    """Processor, cores, memory, system. Takes up to a second the first time: call it in a worker thread."""
    import cpuinfo

    info = cpuinfo.get_cpu_info()
    cache = info.get("l3_cache_size") or info.get("l2_cache_size")
    return {
        "processor": str(info.get("brand_raw") or platform.processor() or platform.machine()),
        "architecture": platform.machine(),
        "physical_cores": psutil.cpu_count(logical=False),
        "hardware_threads": psutil.cpu_count(logical=True),
        "last_level_cache_bytes": cache if isinstance(cache, int) else None,
        "memory_bytes": psutil.virtual_memory().total,
        "system": platform.system(),
        "kernel": platform.release().split("-")[0],
        "virtual": VIRTUAL_FLAG in (info.get("flags") or []),
        "python": ".".join(map(str, sys.version_info[:3])),
    }
