"""What each fast device of a rig did: memory, load and power, one by one."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from zinc_kettle.core.stats import mean, median

MOST_DEVICES = 64
"""A rig with more of them is told of by its sums."""
Reading = tuple[int | None, int | None, int | None]
"""Of one device: bytes in use, percent of the time busy, milliwatts; None for what it does not tell."""


@dataclass(frozen=True, slots=True)
class DeviceUse:
    """One device; None for what it does not tell."""

    highest_bytes: int | None = None
    """Most that was in use, by whatever programs."""
    busy_share: float | None = None
    """Share of the time in which it was busy, the mean over the samples."""
    power_w: float | None = None
    """Mean power."""


def use_of(samples: Sequence[Sequence[Reading]]) -> tuple[DeviceUse, ...]:
    """What devices did while they were sampled, in their own order.

    Args:
        samples: Of each moment the readings of all devices; moments with another number of devices than the first are
            left out.
    """
    if not samples or not 0 < len(samples[0]) <= MOST_DEVICES:
        return ()
    out = []
    for place in range(len(samples[0])):
        readings = [sample[place] for sample in samples if len(sample) == len(samples[0])]
        held, busy, power = ([v for v in column if v is not None] for column in zip(*readings, strict=True))
        out.append(
            DeviceUse(
                max(held) if held else None, mean(busy) / 100 if busy else None, mean(power) / 1000 if power else None
            )
        )
    return tuple(out)


def typical_use(repeats: Sequence[Sequence[DeviceUse]]) -> tuple[DeviceUse, ...]:
    """The median over repeats of what each device did; empty where repeats saw unlike numbers of devices, or more of
    them than any rig has."""
    told = [uses for uses in repeats if 0 < len(uses) <= MOST_DEVICES]
    if not told or len({len(uses) for uses in told}) > 1:
        return ()
    return tuple(
        DeviceUse(
            None if (held := _middle([u.highest_bytes for u in one])) is None else int(held),
            _middle([u.busy_share for u in one]),
            _middle([u.power_w for u in one]),
        )
        for one in zip(*told, strict=True)
    )


def _middle(values: Sequence[float | None]) -> float | None:
    known = [value for value in values if value is not None]
    return median(known) if known else None
