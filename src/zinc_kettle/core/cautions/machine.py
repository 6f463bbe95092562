"""Cautions about the machine: who else used it, what measuring cost, and where the model really was."""

from __future__ import annotations

import itertools
from collections.abc import Sequence

from zinc_kettle.core.cautions.kinds import CautionKind, Setting
from zinc_kettle.core.measures import per_repeat
from zinc_kettle.core.measures.machine import observer_cores
from zinc_kettle.core.record.repeat import Repeat
from zinc_kettle.core.rig import BUSY_CORES
from zinc_kettle.core.stats import median
from zinc_kettle.core.units import digits, plural

STOLEN_SHARE = 0.02
"""Share of processor time taken by the hypervisor; single cores then lose several times as much."""
OBSERVER_CORES = 0.08
"""Our own driver and sampler; more would show in the engine's speed on two cores."""
QUEUE_S = 0.005
"""Under load the driver rests up to a millisecond or two on purpose, which no stamp of the kernel feels; what waits
longer waits for a processor, and so do the requests that are to follow."""
SPILLED_SHARE = 0.6
"""Of the low end of the band predicted for fast memory, where Fit sees no spill: that must be far off to be said."""
SPILLED_CORES = 0.5
"""Cores of the host in use while a device should do the work."""


HEATING_SHARE = 0.03
"""So much slower the last repeat has to be than the first."""
HEATING_C = 5.0
"""And so much hotter."""
MIN_FALLING = 3
"""Fewer repeats fall one after the other by chance too often: two in half of all cases, three in a sixth."""


def _heating(repeats: Sequence[Repeat], _: Setting) -> str | None:
    """Each repeat slower than the one before while a sensor tells that it gets hotter: either alone may be chance."""
    told = [(r, r.machine.hottest_c) for r in repeats if r.machine is not None]
    heats = [celsius for _, celsius in told if celsius is not None]
    speeds = per_repeat([r for r, _ in told], "decode")
    if len(heats) < MIN_FALLING or len(speeds) != len(heats) or len(heats) != len(repeats):
        return None
    falls = all(after < before for before, after in itertools.pairwise(speeds))
    slower = 1 - speeds[-1] / speeds[0]
    if not falls or slower < HEATING_SHARE or heats[-1] - heats[0] < HEATING_C:
        return None
    return (
        f"decode fell in each of {len(speeds)} repeats, by {slower:.0%} in all, while the hottest sensor went from "
        f"{heats[0]:.0f} to {heats[-1]:.0f} °C"
    )


def _stolen(repeats: Sequence[Repeat], _: Setting) -> str | None:
    shares = [r.machine.stolen_share for r in repeats if r.machine is not None]
    if not shares or max(shares) <= STOLEN_SHARE:
        return None
    hit = sum(1 for s in shares if s > STOLEN_SHARE)
    return f"up to {max(shares):.0%} of the processor, in {hit} of {plural(len(shares), 'repeat')}"


def _busy(repeats: Sequence[Repeat], _: Setting) -> str | None:
    others = [r.machine.other_cores for r in repeats if r.machine is not None]
    if not others or max(others) <= BUSY_CORES:
        return None
    hit = sum(1 for c in others if c > BUSY_CORES)
    most = digits(max(others), significant=2)
    return f"others used up to {most} cores, in {hit} of {plural(len(others), 'repeat')}"


def _observer(repeats: Sequence[Repeat], setting: Setting) -> str | None:
    if not setting.here:
        return None
    cores = [observer_cores(r) for r in repeats]
    if cores and median(cores) > OBSERVER_CORES:
        return f"{median(cores):.2f} cores; {OBSERVER_CORES} allowed"
    waits = per_repeat(repeats, "queue_p99")
    if not waits or median(waits) <= QUEUE_S:
        return None
    return f"chunks waited {digits(median(waits) * 1e3)} ms (p99) for the driver; {QUEUE_S * 1e3:g} allowed"


def _spilled(repeats: Sequence[Repeat], _: Setting) -> str | None:
    """Prediction and measurement together: below what was predicted for fast memory where Fit says that it spills;
    or far below it, with the host's processor busy while a device should do the work."""
    decode = per_repeat([r for r in repeats if r.alone], "decode")
    known = [r for r in repeats if "predicted_decode_low" in r.extras]
    if not decode or not known:
        return None
    hoped, extras = known[0].extras["predicted_decode_low"], known[0].extras
    share = 1.0 if extras.get("spill_predicted") else SPILLED_SHARE
    if median(decode) >= share * hoped:
        return None
    cores = per_repeat(known, "cpu")
    busy = bool(extras.get("has_devices")) and bool(cores) and median(cores) > SPILLED_CORES
    if not extras.get("spill_predicted") and not busy:
        return None
    why = "Fit says it spills here" if extras.get("spill_predicted") else f"the host used {median(cores):.1f} cores"
    return f"{digits(median(decode))} tok/s where {digits(hoped)} or more were predicted, and {why}"


def _over_threaded(_repeats: Sequence[Repeat], setting: Setting) -> str | None:
    if setting.threads is None or setting.physical_cores is None or setting.threads <= setting.physical_cores:
        return None
    return f"{setting.threads} threads on {plural(setting.physical_cores, 'physical core')}"


HEATING = CautionKind(
    "heating",
    "The rig got hotter and slower from repeat to repeat.",
    "Let it cool down and measure again, or go on until its speed is steady: that is the one it keeps.",
    f"each repeat slower than the one before, by {HEATING_SHARE:.0%} in all, and {HEATING_C:g} °C hotter",
    _heating,
)
STOLEN_TIME = CautionKind(
    "stolen-time",
    "The hypervisor gave this machine's processor time to others.",
    "Measure on a dedicated machine, or trust only ratios within one interleaved run.",
    f"over {STOLEN_SHARE:.0%} of the processor in any repeat",
    _stolen,
)
BUSY_MACHINE = CautionKind(
    "busy-machine",
    "Other programs were using the processor while this was measured.",
    "Close them and measure these cells again.",
    f"others used over {BUSY_CORES:g} cores in any repeat",
    _busy,
)
OBSERVER_HEAVY = CautionKind(
    "observer-heavy",
    "The measuring itself used a noticeable share of the processor.",
    "Measure without the screen, or with fewer streams.",
    f"driver and sampler over {OBSERVER_CORES:g} cores, or a wait for the driver of over {QUEUE_S * 1e3:g} ms (p99)",
    _observer,
)
SPILLED = CautionKind(
    "spilled",
    "The model does not lie where it should: decoding is far slower than the predicted memory allows.",
    "Check this rig on Fit: use a shorter context or a smaller quantization.",
    "below the low end predicted for fast memory where Fit sees a spill; else below "
    f"{SPILLED_SHARE:g} of it with over {SPILLED_CORES:g} cores of the host busy",
    _spilled,
)
OVER_THREADED = CautionKind(
    "over-threaded",
    "There are more threads than physical cores, which is rarely faster.",
    "Compare with as many threads as cores.",
    "any",
    _over_threaded,
)
