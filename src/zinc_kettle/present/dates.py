"""Dates and times of day, in the zone of the person's machine; of any number, also one that is no time."""

from __future__ import annotations

import time

from zinc_kettle.core.record.bounds import is_possible

UNKNOWN = "at an unknown time"


def day(at_s: float) -> str:
    """`2026-11-27`.

    Args:
        at_s: Seconds since 1970.
    """
    return _formatted("%Y-%m-%d", at_s)


def day_and_time(at_s: float) -> str:
    """`2026-11-27 14:05`; see `day`."""
    return _formatted("%Y-%m-%d %H:%M", at_s)


def time_of_day(at_s: float) -> str:
    """`14:05`; see `day`."""
    return _formatted("%H:%M", at_s)


def _formatted(pattern: str, at_s: float) -> str:
    return time.strftime(pattern, time.localtime(at_s)) if is_possible("at_s", at_s) else UNKNOWN
