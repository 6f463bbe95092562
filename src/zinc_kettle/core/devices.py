"""What each fast device of a rig did, and how hot and fast its processor was: one by one."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import astuple, dataclass
from typing import NamedTuple

from zinc_kettle.core.stats import mean, median

MOST_DEVICES = 64
"""A rig with more of them is told of by its sums."""
HOTTEST_C = 250
"""A sensor that tells more is broken, or tells something else."""


class Reading(NamedTuple):
    """Of one device at one moment; None for what it does not tell."""

    held: int | None = None
    """Bytes in use."""
    busy: int | None = None
    """Percent of the time busy."""
    power: int | None = None
    """Milliwatts."""
    heat: int | None = None
    """Thousandths of a degree Celsius."""
    clock: int | None = None
    """Kilohertz."""


def reading(told: Sequence[object]) -> Reading:
    """What a device told, however little: it may come from another machine, so that anything may stand there."""
    width = len(Reading._fields)
    values = [value if type(value) is int and value >= 0 else None for value in (*told, *[None] * width)[:width]]
    found = Reading(*values)
    return found if found.heat is None or found.heat <= HOTTEST_C * 1000 else found._replace(heat=None)


@dataclass(frozen=True, slots=True)
class DeviceUse:
    """One device; None for what it does not tell."""

    highest_bytes: int | None = None
    """Most that was in use, by whatever programs."""
    busy_share: float | None = None
    """Share of the time in which it was busy, the mean over the samples."""
    power_w: float | None = None
    """Mean power."""
    hottest_c: float | None = None
    """Highest temperature, in degrees Celsius."""
    clock_hz: float | None = None
    """Mean clock."""


FOLDED: tuple[Callable[[Sequence[int]], float], ...] = (
    max,
    lambda percents: mean(percents) / 100,
    lambda milliwatts: mean(milliwatts) / 1000,
    lambda heats: max(heats) / 1000,
    lambda clocks: mean(clocks) * 1000,
)
"""What becomes of the samples of each reading, in their order."""


def use_of(samples: Sequence[Sequence[Reading]]) -> tuple[DeviceUse, ...]:
    """What devices did while they were sampled, in their own order.

    Args:
        samples: Of each moment the readings of all devices; moments with another number of devices than the first are
            left out.
    """
    if not samples or not 0 < len(samples[0]) <= MOST_DEVICES:
        return ()
    rows = [sample for sample in samples if len(sample) == len(samples[0])]
    return tuple(_one(readings) for readings in zip(*rows, strict=True))


def use_of_one(samples: Sequence[Reading]) -> DeviceUse | None:
    """What a single device did while it was sampled; None where there is no sample."""
    return _one(samples) if samples else None


def _one(readings: Sequence[Reading]) -> DeviceUse:
    columns = ([v for v in column if v is not None] for column in zip(*readings, strict=True))
    found = [fold(column) if column else None for fold, column in zip(FOLDED, columns, strict=True)]
    return DeviceUse(None if found[0] is None else int(found[0]), *found[1:])


def typical_use(repeats: Sequence[Sequence[DeviceUse]]) -> tuple[DeviceUse, ...]:
    """The median over repeats of what each device did; empty where repeats saw unlike numbers of devices, or more of
    them than any rig has."""
    told = [uses for uses in repeats if 0 < len(uses) <= MOST_DEVICES]
    if not told or len({len(uses) for uses in told}) > 1:
        return ()
    out = []
    for one in zip(*told, strict=True):
        held, *others = (_middle(column) for column in zip(*map(astuple, one), strict=True))
        out.append(DeviceUse(None if held is None else int(held), *others))
    return tuple(out)


def _middle(values: Sequence[float | None]) -> float | None:
    known = [value for value in values if value is not None]
    return median(known) if known else None
