"""What a paced server does with one request; sent in the request itself under the field `paced`."""

from __future__ import annotations

from dataclasses import dataclass, fields
from typing import Any

FAULTS = (
    "none",
    "status",
    "reset",
    "close",
    "no-end",
    "stall",
    "bad-json",
    "bad-utf8",
    "huge-line",
    "error-event",
    "endless",
    "wrong-type",
    "reset-early",
    "huge-header",
    "empty",
    "drip",
    "tool-calls",
)


@dataclass(frozen=True)
class Script:
    """A schedule and the peculiarities of its telling."""

    first_ms: float = 5.0
    """From the request to the first token."""
    gap_ms: float = 2.0
    aligned: bool = False
    """Tokens of all streams at the same instants: the schedule counts from a common beat of `gap_ms`."""
    jitter_ms: float = 0.0
    """Each token is late by up to so much, by a pattern that repeats."""
    burst: int = 1
    """Tokens come in bursts of so many, each at the time of its last."""
    bad_usage: str = ""
    """A usage record no engine can mean: `negative` or `absurd`."""
    retry_after_s: int = 0
    """Sent with a failed status."""
    fails: int = 0
    """How many requests with the same messages fail before one is answered; 0 fails them all."""
    label: str = ""
    """Told again with the truth, to find a request among many."""
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
