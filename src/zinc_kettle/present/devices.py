"""What each fast device of a rig did, in a line each."""

from __future__ import annotations

from collections.abc import Sequence

from zinc_kettle.core.devices import DeviceUse
from zinc_kettle.core.units import digits, percent, with_unit


def device_lines(devices: Sequence[DeviceUse]) -> list[str]:
    """`device 1: 14.7 GB in use, 98% busy, 293 W, up to 71 °C, 1.9 GHz`; what a device does not tell is left out."""
    return [f"device {number}: {_told(use) or 'tells nothing'}" for number, use in enumerate(devices, start=1)]


def _told(use: DeviceUse) -> str:
    told = [] if use.highest_bytes is None else [f"{with_unit(use.highest_bytes, 'bytes')} in use"]
    told += [] if use.busy_share is None else [f"{percent(use.busy_share)} busy"]
    told += [] if use.power_w is None else [with_unit(use.power_w, "W")]
    told += [] if use.hottest_c is None else [f"up to {use.hottest_c:.0f} °C"]
    told += [] if use.clock_hz is None else [f"{digits(use.clock_hz / 1e9)} GHz"]
    return ", ".join(told)
