"""What a person wants in a report: which studies, duels and lineups, which sections of them, and their own words."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Literal

PartKind = Literal["study", "duel", "lineup"]


@dataclass(frozen=True, slots=True)
class ReportPart:
    """One thing a report tells of."""

    kind: PartKind
    of: tuple[str, ...]
    """Of a study its name, `STUDY` for its newest run or `STUDY:RUN`; of a duel its two sides; of a lineup its
    studies."""
    measure: str = ""
    """What it is told by; the study's own where empty."""
    by: str = ""
    """Of a lineup: the factor; the usual one where empty."""

    @property
    def key(self) -> str:
        """What its sections are found by: the same after a new run."""
        head = "" if self.kind == "study" else f"{self.kind} "
        return head + " ".join(self.of)


@dataclass(frozen=True)
class ReportPlan:
    """A report as a person put it together."""

    title: str = ""
    """The first part's question where empty."""
    parts: tuple[ReportPart, ...] = ()
    left_out: frozenset[str] = frozenset()
    """Keys of sections that are not shown: `PART/SECTION`."""
    words: Mapping[str, str] = field(default_factory=dict)
    """The person's own, as Markdown, by the key of the section they stand below; under `` those of the beginning."""

    def toggled(self, key: str) -> ReportPlan:
        """With a section in that was out, or the other way."""
        return replace(self, left_out=self.left_out ^ {key})

    def saying(self, key: str, text: str) -> ReportPlan:
        """With other words below a section; with none where the text is empty."""
        rest = {name: said for name, said in self.words.items() if name != key}
        return replace(self, words={**rest, key: text} if text.strip() else rest)

    def with_part(self, part: ReportPart) -> ReportPlan:
        """With a part more, where it is not there yet."""
        return self if any(p.key == part.key for p in self.parts) else replace(self, parts=(*self.parts, part))

    def without_part(self, key: str) -> ReportPlan:
        """Without a part; its words stay, for when it comes back."""
        return replace(self, parts=tuple(p for p in self.parts if p.key != key))


def section_key(part: ReportPart, name: str) -> str:
    """The key of a section: `which-rig/answer`."""
    return f"{part.key}/{name}"
