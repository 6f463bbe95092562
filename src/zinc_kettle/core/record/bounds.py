"""What a number that was read may be, by the unit its name ends in: beyond that nobody measured it."""

from __future__ import annotations

LATEST_S = 1e11
"""Seconds since 1970, and any duration: the year 5138, which every calendar function can still name."""
MOST_NS = 1 << 62
"""Stamps and durations; sums of two still fit into 64 bits."""
BOUNDS: dict[str, tuple[float, float]] = {
    "_s": (0, LATEST_S),
    "_ns": (-1, MOST_NS),
    "_ms": (-1e12, 1e12),
    "_bytes": (-1, 1 << 60),
    "_tokens": (-1, 1 << 31),
    "_w": (-1e7, 1e7),
    "_percent": (-1e6, 1e6),
    "_cores": (-1, 1e6),
}
"""Lowest and highest, by the end of the name; −1 stands for 'not told' where a unit has it."""
ANY = (-1e19, 1e19)
"""Of a number whose name says no unit."""


def is_possible(name: str, number: float) -> bool:
    """True for a number that a field of this name may have."""
    unit = f"_{name.rpartition('_')[2]}"
    low, high = BOUNDS.get(unit, ANY) if "_" in name else ANY
    return low <= number <= high  # false for what is no number, too
