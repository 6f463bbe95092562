"""Reports: their parts looked up, their charts drawn, written as files."""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from zinc_kettle import __version__
from zinc_kettle.app.charting import preferences, subject_of
from zinc_kettle.app.entrants import entrants_of
from zinc_kettle.app.packing import hidden_words, known_keys
from zinc_kettle.config import Places
from zinc_kettle.core.anonymise import Anonymiser
from zinc_kettle.core.compare.duel import duel
from zinc_kettle.core.compare.lineup import lineup
from zinc_kettle.core.fingerprint import DEFINITIONS_VERSION
from zinc_kettle.core.report import ReportPart, ReportPlan
from zinc_kettle.errors import UsageError
from zinc_kettle.formats.atomic_file import atomic_file
from zinc_kettle.formats.report_plan import ENDING, read_report_plan, write_report_plan
from zinc_kettle.formats.shared_study import shared_study
from zinc_kettle.formats.study_writer import write_study
from zinc_kettle.present.answer import main_measure
from zinc_kettle.present.dates import day
from zinc_kettle.present.findings import known_measure
from zinc_kettle.present.report.build import OfDuel, OfLineup, OfStudy, Told, document
from zinc_kettle.present.report.document import Document, without_private

if TYPE_CHECKING:
    from zinc_kettle.app.side_names import Sides
    from zinc_kettle.core.rig import Rig
    from zinc_kettle.store.store import KettleStore


class Reports:
    """Makes reports of what a person keeps.

    Args:
        places: Where things are.
        sides: Finds runs and sides by their names.
        store: Where a run is kept.
        rigs: What is known of rigs.
    """

    def __init__(
        self, places: Places, sides: Sides, store: Callable[[str], KettleStore], rigs: Callable[[], Sequence[Rig]]
    ) -> None:
        self._places = places
        self._sides = sides
        self._store = store
        self._rigs = rigs

    # plans
    def names(self) -> list[str]:
        """Reports that were kept."""
        folder = self._places.reports
        return sorted(path.name.removesuffix(ENDING) for path in folder.glob(f"*{ENDING}")) if folder.is_dir() else []

    def file(self, name: str) -> Path:
        """Where a report is kept.

        Raises:
            UsageError: This is no name for one.
        """
        if not re.fullmatch(r"[\w.-]{1,80}", name) or name.startswith("."):
            raise UsageError(f"{name!r} is no name for a report", remedy="letters, digits, dots and hyphens")
        return self._places.reports / f"{name}{ENDING}"

    def plan(self, name: str) -> ReportPlan:
        """A report as it was kept; an empty one where there is none of that name.

        Raises:
            StudyFileError: It cannot be read.
        """
        path = self.file(name)
        return read_report_plan(path) if path.is_file() else ReportPlan()

    def keep(self, name: str, plan: ReportPlan) -> None:
        """Keep a report.

        Raises:
            UsageError: It cannot be written.
        """
        write_report_plan(plan, self.file(name))

    # documents
    def document(self, plan: ReportPlan) -> Document:
        """What a report says now.

        Args:
            plan: What a person wants.

        Raises:
            UsageError: A part of it cannot be found.
        """
        from zinc_kettle.formats.report.words import read_words

        foot = f"Zinc Kettle {__version__}, definitions {DEFINITIONS_VERSION}, {day(time.time())}"
        words = {key: read_words(text) for key, text in plan.words.items()}
        told = [self._told(part) for part in plan.parts]
        return without_private(document(plan, told, words, foot=foot), self._private(plan).text)

    def _private(self, plan: ReportPlan) -> Anonymiser:
        """Takes out of a report what a bundle would not carry either."""
        studies = [self._sides.results(name.partition("@")[0]).study for part in plan.parts for name in part.of]
        return Anonymiser(hidden_words(self._places), known_keys(self._places, studies))

    def _told(self, part: ReportPart) -> Told:
        if part.measure:
            known_measure(part.measure)
        if part.kind == "study":
            results = self._sides.results(part.of[0])
            measure = part.measure or main_measure(results.study)
            store = self._store(results.run.run_id)
            subject = subject_of(results, measure, self._places, store)
            shared = shared_study(results.study, Anonymiser())
            return OfStudy(part, replace(subject, study_text=write_study(shared)))
        if part.kind == "duel":
            a, b = (self._sides.side(name) for name in part.of)
            asked = part.measure or main_measure(a.results.study)
            return OfDuel(part, duel(a, b, asked=asked), asked)
        runs = [self._sides.results(name) for name in part.of]
        known = {rig.name: rig for rig in self._rigs()}
        own = preferences(self._places)
        measure = part.measure or main_measure(runs[0].study)
        found = lineup(entrants_of(runs, part.by, known), measure, money=own.money, pace=own.pace.rate)
        return OfLineup(part, found, own.pace, any(run.run.simulated for run in runs))


def write_report(made: Document, out: Path) -> list[Path]:
    """Write a report; its ending says the format. Charts of Markdown stand in a folder beside it.

    Returns:
        What was written, the report first.

    Raises:
        UsageError: Another ending, or it cannot be written.
    """
    if out.suffix.lower() not in WRITERS:
        raise UsageError(f"{out.name} ends in none of {', '.join(WRITERS)}", remedy="choose one of these endings")
    try:
        out.parent.mkdir(parents=True, exist_ok=True)
        return WRITERS[out.suffix.lower()](made, out)
    except OSError as error:
        raise UsageError(
            f"{out.name} cannot be written", why=str(error.strerror or error), remedy="choose another place"
        ) from error


def _drawn(made: Document) -> Mapping[str, bytes]:
    from zinc_kettle.charts.draw import draw

    return {picture.name: draw(picture.chart, "svg") for picture in made.pictures}


def _replaced(out: Path, data: bytes) -> list[Path]:
    with atomic_file(out) as part:
        part.write_bytes(data)
    return [out]


def _html(made: Document, out: Path) -> list[Path]:
    from zinc_kettle.formats.report.page import html

    return _replaced(out, html(made, _drawn(made)).encode())


def _markdown(made: Document, out: Path) -> list[Path]:
    from zinc_kettle.formats.report.page import markdown

    folder = out.with_name(f"{out.stem}-charts")
    drawn = _drawn(made)
    if drawn:
        folder.mkdir(exist_ok=True)
    files = [*_replaced(out, markdown(made, {name: f"{folder.name}/{name}.svg" for name in drawn}).encode())]
    for name, svg in drawn.items():
        files += _replaced(folder / f"{name}.svg", svg)
    return files


def _pdf(made: Document, out: Path) -> list[Path]:
    from zinc_kettle.charts.style import font_folder
    from zinc_kettle.formats.report.pdf import pdf

    return _replaced(out, pdf(made, _drawn(made), font_folder()))


WRITERS: Mapping[str, Callable[[Document, Path], list[Path]]] = {".html": _html, ".md": _markdown, ".pdf": _pdf}
"""By the ending of the file."""
