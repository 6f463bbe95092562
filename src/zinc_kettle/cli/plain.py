"""`--plain`: the shelf and its studies line by line, for screen readers and for terminals that can do no more.

Nothing is drawn, moved or coloured: a numbered list, a question, an answer. What it says are the sentences the screen
says; what it does are the commands.
"""

from __future__ import annotations

import sys
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path

from zinc_kettle.app.reporting import write_report
from zinc_kettle.app.services import Services
from zinc_kettle.app.views import ShelfEntry
from zinc_kettle.cli import output
from zinc_kettle.config import Places, places
from zinc_kettle.core.compare.duel import duel
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.record.value import Value
from zinc_kettle.core.report import ReportPart, ReportPlan
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.core.units import plural
from zinc_kettle.errors import KettleError, UsageError
from zinc_kettle.present.answer import answer, main_measure
from zinc_kettle.present.duel import differs_line, effort_line, pairs_line
from zinc_kettle.present.duel import verdict as duel_verdict
from zinc_kettle.present.figure_help import figure_help
from zinc_kettle.present.findings import findings
from zinc_kettle.present.report.document import sentence
from zinc_kettle.present.report.study import method
from zinc_kettle.present.table import columns_of_study
from zinc_kettle.present.values import whole_text

HELP = """On the shelf: a number opens a study. In a study: answer, cells, cell NUMBER, findings, method, duel A B
(numbers of cells), explain MEASURE, run, report FILE, back. Anywhere: help, quit."""


@dataclass
class _At:
    """Where one is."""

    entries: list[ShelfEntry]
    study: StudyResults | None = None
    entry: ShelfEntry | None = None


def talk(store: Path | None, *, extra: list[Path] | None = None, where: Places | None = None) -> int:
    """Answer line by line until there are no more; returns the exit code."""
    chosen = where or places(store)
    services = Services(chosen, extra_studies=extra or [])
    at = _At(services.studies.shelf())
    _tell_shelf(at)
    while True:
        output.line()
        output.line(
            "What now? help lists what can be said." if at.study is None else f"{at.study.study.name}. What now?"
        )
        line = sys.stdin.readline()
        words = line.split()
        if not line or words[:1] in (["quit"], ["exit"], ["q"]):
            return 0
        if not words:
            continue
        try:
            _answer(services, chosen, at, words)
        except KettleError as error:
            output.line(f"That cannot be done. {error}")


def _answer(services: Services, where: Places, at: _At, words: list[str]) -> None:
    word, *rest = words
    if word == "help":
        output.line(HELP)
    elif word in {"back", "shelf"}:
        at.study = at.entry = None
        at.entries = services.studies.shelf()
        _tell_shelf(at)
    elif at.study is None:
        _open(services, at, word)
    elif word in SAYS:
        SAYS[word](at.study)
    elif word == "cell":
        _tell_cell(at.study, _cell(at.study, rest[0] if rest else ""))
    elif word == "duel":
        _tell_duel(at.study, rest)
    elif word == "explain":
        output.line(
            figure_help(_measure(" ".join(rest) or main_measure(at.study.study))).replace("*", "").replace("# ", "")
        )
    elif word == "run":
        _run(at)
    elif word == "report":
        _report(services, where, at.study, rest)
    else:
        raise UsageError(f"{word!r} means nothing here", remedy="help")


def _tell_shelf(at: _At) -> None:
    output.line(f"The shelf has {plural(len(at.entries), 'line')}.")
    for number, entry in enumerate(at.entries, start=1):
        marks = [word for word, yes in (("example", entry.example), ("simulated", entry.simulated)) if yes]
        marks += [f"from {entry.origin}"] if entry.origin else []
        state = entry.trouble or (entry.runs[0].state if entry.runs else "ready to run")
        said = entry.runs[0].answer if entry.runs else entry.about
        output.line(
            f"{number}. {entry.question} {state}{', ' + ', '.join(marks) if marks else ''}. {sentence(said)}".strip()
        )


def _open(services: Services, at: _At, word: str) -> None:
    if not word.isdecimal() or not 1 <= int(word) <= len(at.entries):
        raise UsageError(f"{word!r} opens nothing", remedy=f"a number from 1 to {len(at.entries)}, or help")
    at.entry = at.entries[int(word) - 1]
    at.study = services.studies.open(at.entry)
    output.line(at.study.study.question)
    if at.study.run.simulated:
        output.line("Simulated: nothing of it was measured on hardware.")
    _tell_answer(at.study)


def _tell_answer(study: StudyResults) -> None:
    output.line(sentence(answer(study)))
    output.line(f"{plural(len(study.cells), 'cell')}, {study.done_repeats} of {study.wanted_repeats} repeats measured.")


def _tell_cells(study: StudyResults) -> None:
    names = columns_of_study(study)[:2]
    for number, cell in enumerate(study.cells, start=1):
        if cell.not_needed:
            continue
        figures = "; ".join(f"{MEASURES[n].title} {_figure(cell, n)}" for n in names)
        cautions = f" {plural(len(cell.cautions), 'caution')}." if cell.cautions else ""
        output.line(f"{number}. {cell.title}: {cell.state}, {cell.done} of {cell.wanted} repeats; {figures}.{cautions}")


def _tell_findings(study: StudyResults) -> None:
    found = findings(study)
    for finding in found:
        output.line(f"{finding.tone}: {finding.text}")
    if not found:
        output.line("Nothing was found yet.")


def _tell_cell(study: StudyResults, cell: CellResults) -> None:
    output.line(f"{cell.title}: {cell.state}, {cell.done} of {cell.wanted} repeats.")
    for name, measure in MEASURES.items():
        if isinstance(cell.value(name), Value):
            output.line(f"{measure.title}: {_figure(cell, name)}.")
    for caution in cell.cautions:
        output.line(f"caution, {caution.code}: {caution.evidence}.")
    if cell.kept.failure is not None:
        output.line(f"failed: {cell.kept.failure.what}.")


def _figure(cell: CellResults, name: str) -> str:
    return whole_text(cell.value(name)).replace("±", "plus or minus")


def _cell(study: StudyResults, word: str) -> CellResults:
    if not word.isdecimal() or not 1 <= int(word) <= len(study.cells):
        raise UsageError(
            f"there is no cell {word!r}", remedy=f"a number from 1 to {len(study.cells)}; cells lists them"
        )
    return study.cells[int(word) - 1]


def _tell_duel(study: StudyResults, words: list[str]) -> None:
    from zinc_kettle.core.compare.sides import Side

    if len(words) != 2:
        raise UsageError("a duel has two sides", remedy="duel 1 2; cells lists them")
    a, b = (Side(study, _cell(study, word).cell.levels) for word in words)
    name = main_measure(study.study)
    found = duel(a, b, asked=name)
    output.line(f"A is {a.cells()[0].title}. B is {b.cells()[0].title}.")
    output.line(sentence(f"{duel_verdict(found, name)}; {pairs_line(found)}"))
    output.line(sentence(f"differs: {differs_line(found)}"))
    more = effort_line(found, name, smallest=study.study.repeats.smallest_percent / 100)
    if more:
        output.line(sentence(more))


def _measure(said: str) -> str:
    found = next((n for n, m in MEASURES.items() if said.lower() in (n, m.title.lower())), None)
    if found is None:
        from zinc_kettle.core.problem import nearest

        titles = [m.title for m in MEASURES.values()]
        raise UsageError(f"there is no measure {said!r}", remedy=nearest(said, titles))
    return found


def _run(at: _At) -> None:
    file = at.entry.file if at.entry is not None else None
    if file is None:
        raise UsageError("its study file is not at hand", remedy="zinc-kettle run FILE")
    output.line(f"In a terminal of its own, so that what it says does not mix with this: zinc-kettle run {file}")


def _report(services: Services, where: Places, study: StudyResults, words: list[str]) -> None:
    if not words:
        raise UsageError("a report needs a file", remedy="report night.html, or .md, or .pdf")
    plan = ReportPlan(parts=(ReportPart("study", (f"{study.run.place}{study.study.name}:{study.run.number}",)),))
    made = services.exports.document(plan, study)
    for path in write_report(made, Path(" ".join(words))):
        output.line(f"Wrote {path}.")


def _tell_method(study: StudyResults) -> None:
    output.line(method(study))


SAYS: Mapping[str, Callable[[StudyResults], None]] = {
    "answer": _tell_answer,
    "cells": _tell_cells,
    "findings": _tell_findings,
    "method": _tell_method,
}
