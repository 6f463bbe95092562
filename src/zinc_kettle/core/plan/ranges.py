"""Levels in shorthand: `1, 2, 4`, `1..8 x2` (each twice the one before), `512..4096 +512` (each so much more)."""

from __future__ import annotations

import re

from zinc_kettle.core.plan.factors import Factor, Level

MOST_LEVELS = 1_000
SWITCHES = {"on": True, "true": True, "yes": True, "off": False, "false": False, "no": False}
_RANGE = re.compile(r"^(?P<low>[\d_]+)\s*\.\.\s*(?P<high>[\d_]+)\s*(?:(?P<how>[x+])\s*(?P<step>[\d_]+))?$")


def read_level(factor: Factor, said: str) -> Level | None:
    """A level of a factor as people write it; None where it is not of the factor's kind."""
    said = said.strip()
    if factor.type == "switch":
        return SWITCHES.get(said.lower())
    if factor.type != "number":
        return said or None
    digits = said.replace("_", "")
    return int(digits) if digits.isdecimal() else None


def read_levels(factor: Factor, said: str) -> tuple[Level, ...] | None:
    """Levels of a factor, separated by commas; ranges of numbers include their end. None where one is no level.

    Raises:
        ValueError: A range has too many levels, or never reaches its end.
    """
    out: list[Level] = []
    for part in said.split(","):
        found = _RANGE.match(part.strip()) if factor.type == "number" else None
        if found is not None:
            out += _range(int(found["low"]), int(found["high"]), found["how"] or "+", found["step"])
            continue
        level = read_level(factor, part)
        if level is None:
            return None
        out.append(level)
    return tuple(dict.fromkeys(out))


def _range(low: int, high: int, how: str, step: str | None) -> list[int]:
    by = int(step.replace("_", "")) if step else 1
    if high < low or (how == "x" and (by < 2 or low < 1)) or by < 1:
        raise ValueError(f"{low}..{high} {how}{by} never reaches its end")
    out, at = [], low
    while at <= high:
        out.append(at)
        if len(out) > MOST_LEVELS:
            raise ValueError(f"{low}..{high} has more than {MOST_LEVELS:,} levels")
        at = at * by if how == "x" else at + by
    return out if out[-1] == high else [*out, high]
