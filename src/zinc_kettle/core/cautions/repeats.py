"""Cautions about how repeats agree, and about what too few requests can carry."""

from __future__ import annotations

from collections.abc import Sequence

from zinc_kettle.core.cautions.answers import measured
from zinc_kettle.core.cautions.kinds import CautionKind, Setting
from zinc_kettle.core.measures import MEASURES, per_repeat
from zinc_kettle.core.measures.kinds import OverRequests
from zinc_kettle.core.record.repeat import Missing, Repeat
from zinc_kettle.core.stats import flukes, median, robust_spread, thin
from zinc_kettle.core.stats.drift import DRIFT_P, DRIFT_SHARE, trend
from zinc_kettle.core.stats.robust import FLUKE_FACTOR, FLUKE_SIGMAS, THIN_REQUESTS
from zinc_kettle.core.steady import steady_throughput
from zinc_kettle.core.units import plural

WATCHED = ("decode", "ttft")
"""The measures whose repeats are looked at: the others are made of the same requests."""
NOISY_SPREAD = 0.05
"""Differences people care about start at 5%; a spread above it hides them."""
LOAD_REQUESTS = 8
"""A cell with fewer requests in each repeat makes no claim about percentiles of requests."""


def _noisy(repeats: Sequence[Repeat], _: Setting) -> str | None:
    spreads = {name: robust_spread(per_repeat(repeats, name)) for name in WATCHED}
    loud = {name: s for name, s in spreads.items() if s is not None and s > NOISY_SPREAD}
    if not loud:
        return None
    told = ", ".join(f"{MEASURES[name].title} {s:.1%}" for name, s in loud.items())
    return f"robust spread of {told} over {plural(len(repeats), 'repeat')}; {NOISY_SPREAD:.0%} allowed"


def _fluke(repeats: Sequence[Repeat], _: Setting) -> str | None:
    for name in WATCHED:
        values = per_repeat(repeats, name)
        far = flukes(values)
        if far:
            times = values[far[0]] / median(values)
            return f"{MEASURES[name].title} of repeat {far[0] + 1} is {times:.2g} times the median"
    return None


def _drift(repeats: Sequence[Repeat], _: Setting) -> str | None:
    for name in WATCHED:
        found = trend(per_repeat(repeats, name))
        if found is not None and found.drifts:
            way = "rises" if found.share > 0 else "falls"
            title = MEASURES[name].title
            return f"{title} {way} by {abs(found.share):.0%} over {len(repeats)} repeats (p = {found.p:.2g})"
    return None


def _thin_percentile(repeats: Sequence[Repeat], _: Setting) -> str | None:
    if not repeats or max(len(r.measured) for r in repeats) < LOAD_REQUESTS:
        return None
    count = len(measured(repeats))
    asked = {m.source.p for m in MEASURES.values() if isinstance(m.source, OverRequests)}
    weak = sorted(p for p in asked if thin(count, p))
    needs = ", ".join(f"p{p * 100:.0f} needs {round(THIN_REQUESTS / (1 - p)):,}" for p in weak)
    return f"{count:,} requests in all; {needs}" if weak else None


def _no_steady_window(repeats: Sequence[Repeat], _: Setting) -> str | None:
    loads = [r for r in repeats if r.measured and not r.alone and not r.at_once]
    why = [f.reason for r in loads if isinstance(f := steady_throughput(r), Missing)]
    return f"in {len(why)} of {plural(len(loads), 'repeat')}: {why[0]}" if why else None


NOISY = CautionKind(
    "noisy",
    "Repeats vary by more than the differences that matter in practice.",
    "Close other programs, add repeats, or trust only large differences.",
    f"a robust spread over {NOISY_SPREAD:.0%}",
    _noisy,
)
FLUKE = CautionKind(
    "fluke",
    "One repeat is far from all others; something disturbed it. It is shown and still counted.",
    "Open the cell and look at that repeat; add repeats.",
    f"{FLUKE_SIGMAS:g} robust deviations and a factor of {FLUKE_FACTOR:g} from the median",
    _fluke,
)
DRIFT = CautionKind(
    "drift",
    "The figure moves steadily in one direction during the run, so the repeats do not measure the same thing.",
    "Let the machine warm up first, and keep the order interleaved.",
    f"a trend of over {DRIFT_SHARE:.0%} with p under {DRIFT_P:g}",
    _drift,
)
THIN_PERCENTILE = CautionKind(
    "thin-percentile",
    "Too few requests for the high percentiles: a few lucky or unlucky ones decide them.",
    "Raise requests, or read only percentiles that are not marked thin.",
    f"fewer than {THIN_REQUESTS} requests beyond a percentile",
    _thin_percentile,
    quiet=True,
)
NO_STEADY_WINDOW = CautionKind(
    "no-steady-window",
    "The load never lasted long enough for a steady throughput.",
    "Raise requests to at least four per stream.",
    "any repeat without a steady window",
    _no_steady_window,
)
