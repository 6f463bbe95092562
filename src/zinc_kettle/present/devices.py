"""What each fast device of a rig did, in a line each."""

from __future__ import annotations

from collections.abc import Sequence

from zinc_kettle.core.devices import DeviceUse
from zinc_kettle.core.units import percent, with_unit


def device_lines(devices: Sequence[DeviceUse]) -> list[str]:
    """`device 1: 14.7 GB in use, 98% busy, 293 W`; what a device does not tell is left out."""
    out = []
    for number, use in enumerate(devices, start=1):
        told = [] if use.highest_bytes is None else [f"{with_unit(use.highest_bytes, 'bytes')} in use"]
        told += [] if use.busy_share is None else [f"{percent(use.busy_share)} busy"]
        told += [] if use.power_w is None else [with_unit(use.power_w, "W")]
        out.append(f"device {number}: {', '.join(told) or 'tells nothing'}")
    return out
