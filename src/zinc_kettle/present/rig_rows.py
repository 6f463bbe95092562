"""A rig as rows of text: facts with where each came from, probe results, and who uses it now."""

from __future__ import annotations

from typing import Any

from zinc_kettle.core.cautions.machine import STOLEN_SHARE
from zinc_kettle.core.rig import BUSY_CORES, FACT_KINDS, Fact, FactKind, Rig
from zinc_kettle.core.stats import median
from zinc_kettle.core.units import byte_size, digits

HIDDEN = frozenset({"last_level_cache_bytes"})
"""Facts that repeat another one."""


def fact_text(kind: FactKind, value: object) -> str:
    """A fact's value with its unit."""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if not isinstance(value, (int, float)):
        return str(value)
    if kind.unit == "bytes":
        return byte_size(value)
    if kind.unit == "KiB":
        return f"{value / (1 << 20):,.4g} MiB" if value >= 1 << 20 else f"{value / 1024:,.0f} KiB"
    if kind.unit == "B/s":
        return f"{digits(value / 1e9)} GB/s"
    if kind.unit == "FLOP/s":
        return f"{digits(value / 1e9)} GFLOP/s"
    return f"{value:,g} {kind.unit if kind.unit != 'price' else ''}".strip()


def origin_text(fact: Fact) -> str:
    """Where a fact came from."""
    return f"typed in: {fact.source}" if fact.origin == "typed" else fact.origin


def fact_rows(rig: Rig) -> list[list[str]]:
    """Title, value and origin of each fact, in a fixed order; devices after them."""
    rows = [
        [kind.title, fact_text(kind, rig.facts[name].value), origin_text(rig.facts[name])]
        for name, kind in FACT_KINDS.items()
        if name in rig.facts and name not in HIDDEN
    ]
    origin = "simulated" if rig.simulated else "data sheet" if rig.on_paper else "gathered"
    for device in rig.graphics:
        memory = byte_size(device["memory_bytes"]) if device.get("memory_bytes") else "memory not reported"
        driver = f", driver {device['driver']}" if device.get("driver") else ""
        limit = f", limit {device['power_limit_w']:g} W" if device.get("power_limit_w") else ""
        rate = f", {device['bandwidth'] / 1e9:g} GB/s" if device.get("bandwidth") else ""
        rows.append(["device", f"{device.get('name', 'device')}: {memory}{rate}{driver}{limit}", origin])
    if not rig.graphics:
        rows.append(["device", f"none found{f'; {rig.graphics_note}' if rig.graphics_note else ''}", origin])
    return rows


def probe_rows(rig: Rig) -> list[list[str]]:
    """What was probed, thread count, median, and the range of its windows."""
    if rig.probe is None:
        return []
    rows = []
    for count, values in sorted(rig.probe.reading.items()):
        rows.append(_probe_row("memory reading", count, list(values), 1e9, "GB/s"))
    for count, values in sorted(rig.probe.gemm.items()):
        rows.append(_probe_row("arithmetic (GEMM, single precision)", count, list(values), 1e9, "GFLOP/s"))
    if not rig.probe.gemm:
        rows.append(["arithmetic (GEMM, single precision)", "–", "–", rig.probe.gemm_note])
    return rows


def _probe_row(title: str, count: int, values: list[float], scale: float, unit: str) -> list[str]:
    low, high = min(values) / scale, max(values) / scale
    return [
        title,
        str(count),
        f"{digits(median(values) / scale)} {unit}",
        f"{digits(low)}–{digits(high)} {unit}, {len(values)} windows",
    ]


def is_busy(rig: Rig) -> bool | None:
    """True when others use more of its processor than a quiet rig shows; None where it cannot be seen."""
    return None if rig.busy is None else rig.busy.cores > BUSY_CORES


def busy_line(rig: Rig) -> str:
    """Who uses the rig now, in a sentence."""
    if rig.busy is None:
        return "From here it cannot be seen whether the rig is busy."
    busy = rig.busy
    who = ", ".join(f"{name} {cores:g}" for name, cores in busy.top)
    state = (
        f"Busy: {digits(busy.cores, significant=2)} cores in use"
        if is_busy(rig)
        else (f"Quiet: {digits(busy.cores, significant=2)} cores in use")
    )
    stolen = f"; the hypervisor takes {busy.stolen_share:.0%}" if busy.stolen_share > STOLEN_SHARE else ""
    free = f"{byte_size(busy.free_bytes)} of {byte_size(busy.memory_total_bytes)} of memory free"
    device = f", {byte_size(busy.device_used_bytes)} in use on devices" if busy.device_used_bytes else ""
    return f"{state}{f' ({who})' if who else ''}{stolen}; {free}{device}."


def rig_record(rig: Rig) -> dict[str, Any]:
    """A rig as one JSON object."""
    return {
        "rig": rig.name,
        "reach": rig.reach,
        "simulated": rig.simulated,
        "trouble": rig.trouble or None,
        "facts": {n: {"value": f.value, "origin": f.origin, "from": f.source or None} for n, f in rig.facts.items()},
        "devices": [dict(g) for g in rig.graphics],
        "probe": rig.probe.plain() if rig.probe else None,
        "busy": None
        if rig.busy is None
        else {
            "cores": rig.busy.cores,
            "stolen_share": rig.busy.stolen_share,
            "free_bytes": rig.busy.free_bytes,
            "top": [list(pair) for pair in rig.busy.top],
        },
    }
