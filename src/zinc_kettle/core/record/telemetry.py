"""What was seen of memory and processor while an episode ran."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from zinc_kettle.core.devices import DeviceUse, Reading

Column = npt.NDArray[np.int64]
DEVICE_BEFORE = "device_before_bytes"
"""Name under which a repeat keeps what was in use on the rig's devices before the run, in bytes."""
DEVICE_LAYERS = "layers_on_devices"
"""Name under which a repeat keeps how many of the model's layers the engine put on devices."""


@dataclass(frozen=True, slots=True)
class Trace:
    """Samples of the engine's process tree. All columns have one entry a sample.

    Raises:
        ValueError: The columns differ in length.
    """

    at_ns: Column
    """Monotonic time of the sample."""
    resident_bytes: Column
    anonymous_bytes: Column
    """−1 where the system does not tell."""
    file_bytes: Column
    """−1 where the system does not tell."""
    cpu_ns: Column
    """Processor time of the tree since it started."""
    sampler_cpu_ns: int = 0
    """What the sampling itself cost."""
    highest_bytes: int = -1
    """Highest resident size while it was sampled, by the system's own record; −1 where that is not told."""
    energy_uj: Column | None = None
    """Energy of the machine since the trace began, in microjoules; None where nothing tells it."""
    device_bytes: Column | None = None
    """Memory in use on fast devices; None where not told."""
    energy_source: str = ""
    """What told the energy."""
    device_percent: Column | None = None
    """How busy fast devices are, in the mean over them; None where not told."""

    def __post_init__(self) -> None:
        columns = (self.resident_bytes, self.anonymous_bytes, self.file_bytes, self.cpu_ns)
        further = tuple(c for c in (self.energy_uj, self.device_bytes, self.device_percent) if c is not None)
        if any(len(column) != len(self.at_ns) for column in (*columns, *further)):
            raise ValueError("columns of a trace differ in length")

    def window(self, start_ns: int, end_ns: int) -> Trace:
        """The samples from start to end, both included."""
        keep = (self.at_ns >= start_ns) & (self.at_ns <= end_ns)
        return Trace(
            self.at_ns[keep],
            self.resident_bytes[keep],
            self.anonymous_bytes[keep],
            self.file_bytes[keep],
            self.cpu_ns[keep],
            energy_uj=None if self.energy_uj is None else self.energy_uj[keep],
            device_bytes=None if self.device_bytes is None else self.device_bytes[keep],
            energy_source=self.energy_source,
            device_percent=None if self.device_percent is None else self.device_percent[keep],
        )

    def joules(self, start_ns: int, end_ns: int) -> float | None:
        """Energy between two moments, by straight lines between samples; None where it is not told or not covered.

        A window may reach beyond the samples by no more than a tenth of its length at each end; there the power is
        taken to be what it was inside.
        """
        if self.energy_uj is None or len(self.at_ns) < 2 or end_ns <= start_ns:
            return None
        slack = (end_ns - start_ns) / 10
        if self.at_ns[0] - start_ns > slack or end_ns - self.at_ns[-1] > slack:
            return None
        seen = [max(start_ns, int(self.at_ns[0])), min(end_ns, int(self.at_ns[-1]))]
        first, last = np.interp(seen, self.at_ns, self.energy_uj)
        return float(last - first) / 1e6 * (end_ns - start_ns) / (seen[1] - seen[0])


class Latest(NamedTuple):
    """What an engine takes right now; for eyes, never for figures."""

    memory_bytes: int = 0
    """Of main memory and of devices."""
    cores: float = 0.0
    watts: float | None = None
    """Of the machine; None where nothing tells it."""
    device_percent: int | None = None
    """How busy fast devices are, in the mean over them; None where not told."""
    hottest_c: float | None = None
    """The hottest sensor of processor and devices, in degrees Celsius; None without one."""


def hottest(readings: Sequence[Reading]) -> float | None:
    """The highest temperature of a moment, in degrees Celsius; None where no sensor tells one."""
    return max((r.heat / 1000 for r in readings if r.heat is not None), default=None)


def watts_between(then_ns: int, then_uj: int, now_ns: int, now_uj: int) -> float | None:
    """Mean power between two readings of an energy counter; None where one of them told nothing."""
    if min(then_uj, now_uj) < 0 or now_ns <= then_ns or now_uj < then_uj:
        return None
    return (now_uj - then_uj) / (now_ns - then_ns) * 1e3


@dataclass(frozen=True, slots=True)
class Machine:
    """What the whole machine did during an episode; shares of one core-second each."""

    wall_s: float
    cores: int
    busy_cores: float
    """Processor time of everything on the machine, in cores."""
    own_cores: float
    """Of that: the engine, the driver and this tool."""
    stolen_share: float
    """Share of the machine's processor time the hypervisor gave to others."""
    devices: tuple[DeviceUse, ...] = ()
    """What each of its fast devices did; empty where none tells anything."""
    processor: DeviceUse | None = None
    """Temperature and clock of its processor; None where no sensor tells them."""

    @property
    def hottest_c(self) -> float | None:
        """The highest temperature that a sensor of processor or devices told, in degrees Celsius; None without one."""
        told = [use.hottest_c for use in (self.processor, *self.devices) if use is not None]
        return max((c for c in told if c is not None), default=None)

    @property
    def other_cores(self) -> float:
        """Cores kept busy by others than ourselves."""
        return max(0.0, self.busy_cores - self.own_cores)


@dataclass(frozen=True, slots=True)
class Launch:
    """One start of an engine."""

    launch_id: str
    load_ns: int | None
    """From handing the engine its settings until it listens; None for an engine that already ran."""
    file_cached_share: float | None
    """Share of the model file that was in memory before the load."""
    baseline_bytes: int = 0
    """Resident memory of the launcher before it loaded anything; subtracted from the engine's."""
    loaded_bytes: int | None = None
    """Resident after the load, baseline subtracted."""
    loaded_anonymous_bytes: int | None = None
    loaded_file_bytes: int | None = None
