"""Power and energy of the rig, where something tells them; load of its devices."""

from __future__ import annotations

from zinc_kettle.core import energy
from zinc_kettle.core.measures.kinds import Group, Measure, PerRepeat
from zinc_kettle.core.record.repeat import Figure, Missing, Repeat

UNTOLD = Missing("nothing on this rig reports its power")
UNCOVERED = Missing("the power readings do not cover this window")
GROUP = Group("power", together="power and energy")


def _told(repeat: Repeat) -> bool:
    return (repeat.trace is not None and repeat.trace.energy_uj is not None) or energy.WALL in repeat.extras


def _or(value: float | None, repeat: Repeat, why: Missing) -> Figure:
    """A value, or why there is none."""
    if value is not None:
        return value
    return why if _told(repeat) else UNTOLD


def power(repeat: Repeat) -> Figure:
    """Mean watts of the rig while requests were answered."""
    return _or(energy.mean_watts(repeat), repeat, UNCOVERED)


def energy_token(repeat: Repeat) -> Figure:
    """Joules of the whole episode per output token."""
    return _or(energy.joules_per_token(repeat, net=False), repeat, UNCOVERED)


def energy_token_net(repeat: Repeat) -> Figure:
    """The same, less what the idle rig would have used."""
    return _or(energy.joules_per_token(repeat, net=True), repeat, Missing("the idle power was not measured"))


def _phase(value: float | None, repeat: Repeat) -> Figure:
    overlap = Missing("prefill and decode overlap at concurrency above 1")
    return _or(value, repeat, UNCOVERED if repeat.alone else overlap)


def energy_prefill(repeat: Repeat) -> Figure:
    """Joules from sending a request to its first output."""
    return _phase(energy.prefill_joules(repeat), repeat)


def energy_decode(repeat: Repeat) -> Figure:
    """Joules per token from first output to last."""
    return _phase(energy.decode_joules(repeat), repeat)


def device_load(repeat: Repeat) -> Figure:
    """Share of the time in which fast devices were busy, the mean over the samples."""
    percent = None if repeat.trace is None else repeat.trace.device_percent
    return (
        Missing("no device reported its load") if percent is None or not len(percent) else float(percent.mean()) / 100
    )


def hottest(repeat: Repeat) -> Figure:
    """The highest temperature that a sensor of the processor or of a device told."""
    found = None if repeat.machine is None else repeat.machine.hottest_c
    return Missing("no sensor of this rig tells a temperature") if found is None else found


MEASURES = (
    Measure(
        "power",
        "power",
        "W",
        "less",
        GROUP,
        "mean power while requests were answered, of all that its source sees",
        PerRepeat(power),
        mistakes="A processor's counter leaves out the rest of the machine: the sheet says what it misses.",
        map_rank=21,
    ),
    Measure(
        "energy_token",
        "energy",
        "J/token",
        "less",
        GROUP,
        "energy of the whole episode divided by its output tokens",
        PerRepeat(energy_token),
        map_rank=12,
    ),
    Measure(
        "energy_token_net",
        "energy, net",
        "J/token",
        "less",
        GROUP,
        "the same, minus what the idle rig would have used",
        PerRepeat(energy_token_net),
        mistakes="May be negative where the load is small.",
    ),
    Measure(
        "energy_prefill",
        "energy, prefill",
        "J",
        "less",
        GROUP,
        "energy from sending a request to its first output",
        PerRepeat(energy_prefill),
    ),
    Measure(
        "energy_decode",
        "energy, decode",
        "J/token",
        "less",
        GROUP,
        "energy from first output to last, divided by the tokens between",
        PerRepeat(energy_decode),
    ),
    Measure(
        "device_load",
        "device load",
        "share",
        "neither",
        GROUP,
        "share of the time in which fast devices were busy",
        PerRepeat(device_load),
        mistakes="A device that waits for memory all the time counts as busy.",
        map_rank=20,
    ),
    Measure(
        "hottest",
        "temperature",
        "°C",
        "neither",
        GROUP,
        "highest temperature that a sensor of the processor or of a device told",
        PerRepeat(hottest),
        mistakes="Processors and devices slow down at unlike temperatures: hot is not yet slow.",
        map_rank=25,
    ),
)
