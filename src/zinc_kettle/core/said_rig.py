"""A machine from its data sheet, as people say it: `64 GB, 60 GB/s, 16 cores, 2 cards 24 GB 936 GB/s, price 2400`."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

SAY = "64 GB, 60 GB/s, 16 cores, 2 cards 24 GB 936 GB/s, 450 W, idle 60 W, price 2400"
"""A machine as it is typed."""
_BYTES = {"MB": 1e6, "GB": 1e9, "TB": 1e12, "MIB": float(1 << 20), "GIB": float(1 << 30), "TIB": float(1 << 40)}
_RATES = {f"{name}/S": scale for name, scale in _BYTES.items()}
_FLOPS = {"GFLOP/S": 1e9, "TFLOP/S": 1e12, "GFLOPS": 1e9, "TFLOPS": 1e12}
_NUMBER = r"(\d+(?:\.\d+)?)\s*"
_MEMORY, _RATE = _NUMBER + r"([mgt]i?b)", _NUMBER + r"([mgt]i?b/s)"
_CARDS = re.compile(rf"(?:(\d+)\s*(?:x|×)?\s*)?cards?\s+(?:of\s+)?{_MEMORY}(?:\s+(?:at\s+)?{_RATE})?", re.IGNORECASE)
MOST_CARDS, MOST = 64, 1e18


@dataclass(frozen=True, slots=True)
class Sheet:
    """What a data sheet tells."""

    facts: Mapping[str, float]
    """By the names of `core.rig.FACT_KINDS`, in their base units."""
    cards: tuple[Mapping[str, Any], ...] = ()
    """As a rig's `graphics`."""


def _plain(name: str, scales: Mapping[str, float]) -> Callable[[re.Match[str]], tuple[str, float]]:
    return lambda found: (name, float(found[1]) * scales[found[2].upper()])


def _as(name: str) -> Callable[[re.Match[str]], tuple[str, float]]:
    return lambda found: (name, float(found[1]))


_PARTS: tuple[tuple[re.Pattern[str], Callable[[re.Match[str]], tuple[str, float]]], ...] = tuple(
    (re.compile(pattern, re.IGNORECASE), read)
    for pattern, read in (
        (_MEMORY, _plain("memory_bytes", _BYTES)),
        (_RATE, _plain("bandwidth", _RATES)),
        (_NUMBER + r"([gt]flop(?:s|/s))", _plain("arithmetic", _FLOPS)),
        (_NUMBER + r"cores?", _as("physical_cores")),
        (_NUMBER + r"W", _as("load_w")),
        (r"idle\s+" + _NUMBER + r"W", _as("idle_w")),
        (r"price\s+" + _NUMBER + r"\w*", _as("price")),
    )
)


def said_rig(text: str) -> Sheet:
    """What a data sheet tells of a machine.

    Raises:
        ValueError: A part is not understood, is said twice, or the memory is missing; the message says which.
    """
    facts: dict[str, float] = {}
    cards: list[Mapping[str, Any]] = []
    for part in filter(None, (piece.strip() for piece in text.split(","))):
        there = _CARDS.fullmatch(part)
        if there is not None:
            cards += _cards(there, len(cards))
            continue
        found = next(((m, read) for pattern, read in _PARTS if (m := pattern.fullmatch(part))), None)
        if found is None:
            raise ValueError(f"{part[:40]!r} is not understood")
        name, value = found[1](found[0])
        if name in facts:
            raise ValueError(f"{part[:40]!r} is said twice")
        if not 0 < value < MOST and name != "price":
            raise ValueError(f"{part[:40]!r} cannot be")
        facts[name] = value
    if "memory_bytes" not in facts:
        raise ValueError("how much main memory it has is missing")
    if len(cards) > MOST_CARDS:
        raise ValueError(f"more than {MOST_CARDS} cards")
    return Sheet(facts, tuple(cards))


def _cards(found: re.Match[str], before: int) -> list[Mapping[str, Any]]:
    number, memory, unit, rate, per = found.groups()
    size = float(memory) * _BYTES[unit.upper()]
    if not 0 < size < MOST:
        raise ValueError(f"{found[0][:40]!r} cannot be")
    card: dict[str, Any] = {"memory_bytes": int(size)}
    if rate is not None:
        card["bandwidth"] = float(rate) * _RATES[per.upper()]
    count = min(int(number or 1), MOST_CARDS + 1)
    return [{**card, "name": f"card {before + n + 1}"} for n in range(count)]


def sheet_problem(text: str) -> str:
    """What is wrong with a data sheet as it is typed; empty where nothing is, and where there is none."""
    if not text:
        return ""
    try:
        said_rig(text)
    except ValueError as error:
        return f"{error}; as in: {SAY}"
    return ""
