"""A report as a person put it together, with what its parts are now."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from zinc_kettle.core.compare.duel import Duel
from zinc_kettle.core.compare.lineup import Lineup
from zinc_kettle.core.preferences import Pace
from zinc_kettle.core.report import ReportPart, ReportPlan, section_key
from zinc_kettle.present.answer import answer
from zinc_kettle.present.charts.kinds import Subject
from zinc_kettle.present.duel import side_title, verdict
from zinc_kettle.present.lineup import verdict as lineup_verdict
from zinc_kettle.present.report.compare import (
    DUEL_SECTIONS,
    LINEUP_SECTIONS,
    duel_blocks,
    lineup_blocks,
    lineup_title,
)
from zinc_kettle.present.report.document import Block, Document, Paragraph, Section, paragraph, sentence
from zinc_kettle.present.report.study import renamed, study_sections, when

Words = Mapping[str, tuple[Block, ...]]
"""A person's own, by the key of the section they stand below."""
BEGINNING = ""
"""Key of the words a report begins with."""


@dataclass(frozen=True, slots=True)
class OfStudy:
    """A part that is a study."""

    part: ReportPart
    subject: Subject


@dataclass(frozen=True, slots=True)
class OfDuel:
    """A part that is a duel."""

    part: ReportPart
    duel: Duel
    measure: str


@dataclass(frozen=True, slots=True)
class OfLineup:
    """A part that is a lineup."""

    part: ReportPart
    lineup: Lineup
    pace: Pace
    simulated: bool


Told = OfStudy | OfDuel | OfLineup


def document(plan: ReportPlan, told: Sequence[Told], words: Words, *, foot: str) -> Document:
    """The report.

    Args:
        plan: What a person wants.
        told: Its parts, as they are now.
        words: Their own.
        foot: What stands at its end.
    """
    sections: list[Section] = []
    if words.get(BEGINNING):
        sections.append(Section(BEGINNING, "", words[BEGINNING]))
    many = len(told) > 1
    title = plan.title or (_heading(told[0]) if told else "An empty report")
    lead = sentence(_lead(told[0]) if told else "choose what it is to tell of")
    for number, one in enumerate(told, start=1):
        if many and _heading(one) != title:
            sections.append(Section("", _heading(one)))
        for name, heading, blocks in _sections(one):
            key = section_key(one.part, name)
            # What stands at the top already is not said again right below it.
            rest = [block for block in blocks if number > 1 or not (isinstance(block, Paragraph) and block.lead)]
            named = renamed(rest, str(number)) if many else rest
            sections.append(Section(key, heading, (*named, *words.get(key, ())), key not in plan.left_out))
    return Document(title, lead, tuple(sections), any(_simulated(one) for one in told), foot)


def _heading(one: Told) -> str:
    if isinstance(one, OfStudy):
        return one.subject.results.study.question
    if isinstance(one, OfDuel):
        return f"{side_title(one.duel.a)} against {side_title(one.duel.b)}"
    return lineup_title(one.lineup)


def _lead(one: Told) -> str:
    if isinstance(one, OfStudy):
        return answer(one.subject.results, one.subject.measure, brief=True)
    if isinstance(one, OfDuel):
        return verdict(one.duel, one.measure)
    return lineup_verdict(one.lineup)


def _simulated(one: Told) -> bool:
    if isinstance(one, OfStudy):
        return one.subject.results.run.simulated
    if isinstance(one, OfDuel):
        return one.duel.a.results.run.simulated or one.duel.b.results.run.simulated
    return one.simulated


def _sections(one: Told) -> list[tuple[str, str, list[Block]]]:
    if isinstance(one, OfStudy):
        made = [(kind.name, kind.title, blocks) for kind, blocks in study_sections(one.subject)]
        head: list[Block] = [paragraph(when(one.subject.results), "emphasis")]
        return [(n, title, [*head, *blocks] if n == "answer" else blocks) for n, title, blocks in made]
    if isinstance(one, OfDuel):
        found = duel_blocks(one.duel, one.measure)
        return [(name, title, found[name]) for name, title in DUEL_SECTIONS]
    ranked = lineup_blocks(one.lineup, one.pace)
    return [(name, title, ranked[name]) for name, title in LINEUP_SECTIONS]
