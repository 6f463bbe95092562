"""What a caution is: one entry with its checks and its words, from which sheets, help, JSON and docs are derived."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from zinc_kettle.core.record.repeat import Repeat
from zinc_kettle.core.record.timeline import Timeline


@dataclass(frozen=True, slots=True)
class Setting:
    """What cautions need to know of a cell besides its repeats."""

    threads: int | None = None
    physical_cores: int | None = None
    template_tokens: int | None = None
    here: bool = True
    """True where the engine shares this machine with driver and sampler."""
    reuse_meant: bool = False
    """True where a conversation may reuse its own former turns, or a prompt its earlier text: no surprise then."""
    natural: bool = False
    """True where answers may end by themselves."""


CellCheck = Callable[[Sequence[Repeat], Setting], str | None]
"""The evidence for a caution about a cell, from its repeats in the order they ran; None where there is none."""
RequestCheck = Callable[[Timeline, Setting], str | None]
"""The same about one request."""


@dataclass(frozen=True, slots=True)
class CautionKind:
    """A caution as the tool raises and words it."""

    code: str
    sentence: str
    """What it means."""
    advice: str
    """What to do about it."""
    threshold: str
    """From when on it is raised, in words with the numbers."""
    of_cell: CellCheck | None = None
    of_request: RequestCheck | None = None
    quiet: bool = False
    """True where it is kept with the cell but needs no mark on the map."""
