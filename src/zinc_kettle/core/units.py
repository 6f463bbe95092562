"""Numbers as people read them: unit, sensible digits, decimal and binary prefixes never mixed."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

NS_PER_S = 1_000_000_000
NS_PER_MS = 1_000_000

MIN_SIGNIFICANT = 2
"""Digits kept whatever the spread: `4` for anything from 3 to 49 tells less than `4.1` does."""

UNIT_LABELS = {"tokens/s": "tok/s", "chars/s": "chars/s", "s": "s", "bytes": "B", "cores": "cores", "share": "%"}

TYPED_UNITS = {
    "s": {"s": 1.0, "ms": 1e-3},
    "bytes": {"B": 1.0, "bytes": 1.0, "MB": 1e6, "GB": 1e9, "GiB": float(1 << 30)},
    "tokens/s": {"tokens/s": 1.0, "tok/s": 1.0},
    "share": {"share": 1.0, "%": 0.01},
}
"""Units a measure's unit may be typed in, and what to multiply by."""
Memory = Literal["GB", "GiB"]
PREFIXES: dict[Memory, tuple[tuple[float, str], ...]] = {
    "GB": ((1e9, "GB"), (1e6, "MB"), (1e3, "kB")),
    "GiB": ((float(1 << 30), "GiB"), (float(1 << 20), "MiB"), (float(1 << 10), "KiB")),
}


@dataclass(slots=True)
class Spoken:
    """How this process says numbers: for people only, what is kept and handed on has no prefixes."""

    memory: Memory = "GB"


SPOKEN = Spoken()
"""As the person has set it: by whoever starts the process, and again when they change it."""


def digits(value: float, *, spread: float | None = None, significant: int = 3) -> str:
    """Format `value` with as many decimals as its spread allows.

    Args:
        value: The number.
        spread: Half width of its interval, same unit; the last digit shown is of the spread's first digit.
        significant: Digits used when no spread is known.

    Returns:
        The number as text, without a unit; `–` for a number that is not finite.
    """
    if not math.isfinite(value):
        return "–"
    if value == 0:
        return "0"
    magnitude = math.floor(math.log10(abs(value)))
    decimals = max(0, significant - 1 - magnitude)
    if spread is not None and spread > 0 and math.isfinite(spread):
        allowed = max(-math.floor(math.log10(spread)), MIN_SIGNIFICANT - 1 - magnitude)
        decimals = min(decimals, max(0, allowed))
    return f"{value:,.{min(decimals, 6)}f}"


def percent(share: float) -> str:
    """A share with two digits that count: 0.0234 is 2.3%, 1.4 is 140%."""
    return f"{digits(100 * share, significant=2)}%"


def with_unit(value: float, unit: str, *, spread: float | None = None) -> str:
    """Format a measure with the prefix people expect: ms under a second, MB or GB for bytes, % for a share."""
    scaled, label, factor = scale(value, unit)
    return f"{digits(scaled, spread=None if spread is None else spread * factor)} {label}".strip()


def scale(value: float, unit: str) -> tuple[float, str, float]:
    """Pick the display scale of a value.

    Returns:
        The scaled value, its label, and the factor used (so that spreads scale alike).
    """
    if unit == "s":
        factor, label = (1e3, "ms") if abs(value) < 1 else (1.0, "s")
    elif unit == "bytes":
        (giant, large), (mega, small), _ = PREFIXES[SPOKEN.memory]
        factor, label = (1 / giant, large) if abs(value) >= giant else (1 / mega, small)
    elif unit == "share":
        factor, label = 100.0, "%"
    else:
        factor, label = 1.0, UNIT_LABELS.get(unit, unit)
    return value * factor, label, factor


def plain(value: float) -> str:
    """A round number along an axis: `0.5`, `20`, `1,500`."""
    return f"{value:,.6g}" if abs(value) < 1e6 else f"{value:.3g}"


def duration(seconds: float) -> str:
    """Say a length of time the way a person would: `40 s`, `6 min 40 s`, `2 h 05 min`."""
    if not math.isfinite(seconds) or seconds < 0:
        return "unknown"
    whole = round(seconds)
    if whole < 60:
        return f"{whole} s"
    minutes, rest = divmod(whole, 60)
    if minutes < 60:
        return f"{minutes} min {rest:02d} s" if rest else f"{minutes} min"
    hours, minutes = divmod(minutes, 60)
    return f"{hours} h {minutes:02d} min"


def byte_size(count: float) -> str:
    """Say a number of bytes: in decimal units (GB = 10^9), or in binary ones (GiB = 2^30) where that is set."""
    for factor, label in PREFIXES[SPOKEN.memory]:
        if abs(count) >= factor:
            return f"{digits(count / factor)} {label}"
    return f"{round(count)} B"


def plural(count: int, noun: str) -> str:
    """Return `1 cell`, `3 cells`."""
    return f"{count:,} {noun}" + ("" if count == 1 else "s")
