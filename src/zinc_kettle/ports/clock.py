"""Time, handed in so that tests need not wait for it."""

from __future__ import annotations

from typing import Protocol


class Clock(Protocol):
    """Time, handed in so that tests need not wait for it."""

    def now_ns(self) -> int:
        """Monotonic nanoseconds."""
        ...

    def wall_s(self) -> float:
        """Seconds since 1970, for dates only."""
        ...
