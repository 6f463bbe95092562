"""What a paced server does with one request; sent in the request itself under the field `paced`."""

from __future__ import annotations

from dataclasses import dataclass, fields
from typing import Any

FAULTS = (
    "none", "status", "reset", "close", "no-end", "stall", "bad-json", "bad-utf8", "huge-line", "error-event",
    "endless", "wrong-type",
)  # fmt: skip


@dataclass(frozen=True)
class Script:
    """A schedule and the peculiarities of its telling."""

    first_ms: float = 5.0
    """From the request to the first token."""
    gap_ms: float = 2.0
    per_chunk: int = 1
    """Tokens merged into one chunk."""
    role_first: bool = True
    reasoning: bool = False
    usage: bool = True
    timings: bool = False
    empty_every: int = 0
    """Every so many chunks, one that carries no text."""
    comments: bool = False
    crlf: bool = False
    multi_line: bool = False
    """Each event's JSON over two data lines."""
    split: bool = False
    """Writes are cut in the middle of a character."""
    cached: int = 0
    stop_after: int = 0
    """End early, after so many tokens."""
    fault: str = "none"
    fault_after: int = 3
    """Tokens before the fault."""
    status: int = 503
    word: str = " zinć"

    @classmethod
    def of(cls, value: Any) -> Script:
        """Read a script from JSON; unknown fields are an error.

        Raises:
            ValueError: An unknown field or fault.
        """
        given = value if isinstance(value, dict) else {}
        known = {f.name for f in fields(cls)}
        if not set(given) <= known:
            raise ValueError(f"unknown fields in a script: {sorted(set(given) - known)}")
        script = cls(**given)
        if script.fault not in FAULTS:
            raise ValueError(f"unknown fault {script.fault!r}")
        return script
