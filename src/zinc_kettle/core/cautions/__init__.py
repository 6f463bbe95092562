"""Cautions the tool raises by itself: a code, one plain sentence, the evidence, and what to do.

They are views over timelines and repeats, survive export and cannot be deleted. To add one, write its check and its
entry in the file of its subject and name it in KINDS; sheets, help, JSON and docs follow.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from zinc_kettle.core.cautions import answers, machine, repeats
from zinc_kettle.core.cautions.kinds import CautionKind, Setting
from zinc_kettle.core.record.repeat import Repeat
from zinc_kettle.core.record.timeline import Timeline

__all__ = ["KINDS", "QUIET_CODES", "Caution", "Setting", "cell_cautions", "timeline_cautions"]
KINDS: dict[str, CautionKind] = {
    kind.code: kind
    for kind in (
        answers.COLD,
        answers.CACHE_HELPED,
        answers.ENDED_EARLY,
        answers.UNEQUAL_LENGTH,
        answers.CONTEXT_CUT,
        answers.STALLED,
        answers.INCOMPLETE,
        answers.TINY_PROMPT,
        repeats.NOISY,
        repeats.FLUKE,
        repeats.DRIFT,
        repeats.THIN_PERCENTILE,
        repeats.NO_STEADY_WINDOW,
        machine.STOLEN_TIME,
        machine.BUSY_MACHINE,
        machine.OBSERVER_HEAVY,
        answers.COUNTED_BY_CHUNKS,
        answers.SEVERAL_A_CHUNK,
        answers.ERRORS,
        machine.SPILLED,
        machine.OVER_THREADED,
        machine.HEATING,
        answers.DIFFERENT_TOKENIZER,
    )
}
"""By code, in the order in which cautions are listed."""
QUIET_CODES = frozenset(code for code, kind in KINDS.items() if kind.quiet)
"""Cautions that are kept with the cell but need no mark on the map."""


@dataclass(frozen=True, slots=True)
class Caution:
    """A caution raised, with its evidence."""

    code: str
    evidence: str

    @property
    def sentence(self) -> str:
        """What it means, in one sentence."""
        return KINDS[self.code].sentence

    @property
    def advice(self) -> str:
        """What to do about it."""
        return KINDS[self.code].advice


def timeline_cautions(timeline: Timeline, setting: Setting) -> list[Caution]:
    """Cautions about one request."""
    return [
        Caution(kind.code, evidence)
        for kind in KINDS.values()
        if kind.of_request is not None and (evidence := kind.of_request(timeline, setting)) is not None
    ]


def cell_cautions(repeats: Sequence[Repeat], setting: Setting) -> list[Caution]:
    """Cautions about a cell, in the order of KINDS; each code at most once.

    Args:
        repeats: Finished repeats, in the order they ran.
        setting: What was set, and what is known of the machine.
    """
    return [
        Caution(kind.code, evidence)
        for kind in KINDS.values()
        if kind.of_cell is not None and (evidence := kind.of_cell(repeats, setting)) is not None
    ]
