"""What is handed on: a report with a person's own words, tables, a bundle."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from dataclasses import replace
from pathlib import Path
from typing import get_args

from rich.text import Text
from textual.app import ComposeResult
from textual.containers import Horizontal, VerticalScroll
from textual.widgets import Footer, Input, OptionList, Static

from zinc_kettle.core.report import ReportPart, ReportPlan
from zinc_kettle.core.text import neutralise
from zinc_kettle.errors import KettleError
from zinc_kettle.present.report.build import BEGINNING
from zinc_kettle.present.report.document import Document, Section
from zinc_kettle.present.tables import Of
from zinc_kettle.tui.actions import binding_for, bindings
from zinc_kettle.tui.choices import ChoiceRow, Choices
from zinc_kettle.tui.chooser import Choice
from zinc_kettle.tui.draw.report import head_text, section_text
from zinc_kettle.tui.host import host
from zinc_kettle.tui.recomputed import Recomputed
from zinc_kettle.tui.widgets.station_line import Stations
from zinc_kettle.tui.widgets.writer import Writer

DUEL, LINEUP = "duel:", "lineup:"
PACKS: tuple[tuple[str, tuple[str, ...], str], ...] = (
    ("whole", (), "with prompts and answers"),
    ("without answers", ("answers",), "what the engines wrote stays here"),
    (
        "without prompts and answers",
        ("prompts", "answers"),
        "cells still compare; the study cannot be repeated",
    ),
)
THE_BEGINNING = "the beginning"


class Sections(Choices):
    """The list; it says in the footer what space does."""

    MARKED = True
    BINDINGS = [binding_for("report", "in_or_out", "screen.in_or_out")]  # noqa: RUF012


class ReportScreen(Recomputed[Document]):
    """A report as it stands, and what it is made of."""

    LINE = ("#line", "#sections")
    BINDINGS = bindings("report")
    AUTO_FOCUS = "#sections"

    def __init__(self) -> None:
        super().__init__()
        self._report = ""
        self._plan = ReportPlan()
        self._readable = True
        """False where the kept report cannot be read."""
        self._of = ""
        """Name of the run whose report it opened with."""

    def widgets(self) -> ComposeResult:
        """Title and answer, the sections, the page."""
        yield Stations("report")
        yield Static(id="head")
        yield Input(id="line", compact=True)
        with Horizontal(id="body"):
            yield Sections(id="sections")
            yield VerticalScroll(id="page", can_focus=False)
        yield Footer()

    def on_mount(self) -> None:
        """The report of the open study."""
        self.redraw()
        self._open_own()

    def on_screen_resume(self) -> None:
        """Another study may be open, or more of it measured."""
        results = host(self).results
        if results is not None and results.run.run_id != self._of:
            self._open_own()
        else:
            self.recompute()

    def _open_own(self) -> None:
        results = host(self).results
        if results is not None and results.run.run_id:
            self._of = results.run.run_id
            self._open(host(self).services.exports.usual_name(results))

    def _open(self, name: str) -> None:
        self._report = name
        try:
            self._plan, self._readable = host(self).services.exports.report_plan(name), True
        except KettleError as error:
            self._plan, self._readable = ReportPlan(), False
            self.gave_up(str(error))
            self.redraw()
            return
        results = host(self).results
        if not self._plan.parts and results is not None:
            self._plan = self._plan.with_part(ReportPart("study", (f"{results.run.place}{results.study.name}",)))
        self.recompute()

    def recompute(self) -> None:
        """Only what can be read is made."""
        if self._report and self._readable:
            super().recompute()

    def compute(self) -> Document:
        """The report as it stands; some sections read every request."""
        app = host(self)
        return app.services.exports.document(self._plan, app.results)

    async def computed(self) -> None:
        """A place for each section."""
        await self._pages()

    async def _pages(self) -> None:
        """As many places on the page as there are sections."""
        page = self.query_one("#page", VerticalScroll)
        wanted = len(self.result.sections) if self.result is not None else 0
        there = list(page.query(".section"))
        if len(there) < wanted:
            await page.mount_all([Static(classes="section", markup=False) for _ in range(wanted - len(there))])
        for extra in there[wanted:]:
            await extra.remove()

    def draw(self) -> None:
        """Draw everything."""
        p = self.palette
        self.query_one(Stations).show(p)
        head, made = self.query_one("#head", Static), self.result
        if made is None:
            empty = "Open a study on the shelf first, and measure it: a report tells what came out."
            waiting = "Reading …" if self._report else empty
            head.update(Text(self.trouble or waiting, p.failure if self.trouble else p.muted))
            return
        head.update(head_text(made, max(20, self.size.width - 4), p))
        page = self.query_one("#page", VerticalScroll)
        width = max(20, page.content_size.width - 2)
        for place, section in zip(page.query(".section").results(Static), made.sections, strict=False):
            place.update(section_text(section, width, p))
        self._list(made)

    def _list(self, made: Document) -> None:
        p, lines = self.palette, []
        for number, section in enumerate(made.sections):
            mark = "" if not section.title or not section.key else "☑ " if section.shown else "☐ "
            line = Text(no_wrap=True, overflow="ellipsis")
            style = p.ink if section.shown else p.muted
            line.append(f"{mark}{section.title or 'Beginning'}", style if section.key else f"bold {style}")
            if section.key in self._plan.words and section.title:
                line.append("  ✎ own words", p.copper)
            lines.append(ChoiceRow(str(number), line))
        self.query_one(Sections).show(lines)

    @property
    def _number(self) -> int | None:
        """The selected section."""
        chosen = self.query_one(Sections).chosen
        return int(chosen) if chosen and self.result is not None and int(chosen) < len(self.result.sections) else None

    @property
    def _section(self) -> Section | None:
        at = self._number
        return None if self.result is None or at is None else self.result.sections[at]

    def on_option_list_option_highlighted(self, _event: OptionList.OptionHighlighted) -> None:
        """Show the selected section."""
        places, at = list(self.query_one("#page", VerticalScroll).query(".section")), self._number
        if at is not None and at < len(places):
            places[at].scroll_visible(top=True, animate=False)

    # what a person changes
    def _changed(self, plan: ReportPlan) -> None:
        self._plan = plan
        try:
            host(self).services.exports.keep_report(self._report, plan)
        except KettleError as error:
            self.notify(str(error), severity="error", timeout=12)
        self.recompute()

    def action_in_or_out(self) -> None:
        """Leave a section out, or put it in."""
        section = self._section
        if section is not None and section.key:
            self._changed(self._plan.toggled(section.key))

    def action_words(self) -> None:
        """Write below a section."""
        section = self._section
        if section is not None and not section.key and section.title:
            self.notify("Choose one of its sections: words stand below a section.")
        elif section is None:
            self.action_beginning()
        else:
            self._write_words(section.key, section.title or THE_BEGINNING)

    def action_beginning(self) -> None:
        """Write the introduction."""
        self._write_words(BEGINNING, THE_BEGINNING)

    def _write_words(self, key: str, where: str) -> None:
        def kept(text: str | None) -> None:
            if text is not None:
                self._changed(self._plan.saying(key, neutralise(text)))

        self.app.push_screen(Writer(f"Your own words: {where}", self._plan.words.get(key, "")), kept)

    def action_title(self) -> None:
        """Give the report a title."""
        self.open_line("the report's title; enter keeps it, escape cancels", self._plan.title)

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Take the title."""
        self.close_line()
        self._changed(replace(self._plan, title=neutralise(event.value, keep_newlines=False).strip()))

    def action_add_part(self) -> None:
        """Add a study, the open duel, or a lineup."""
        app = host(self)
        results = app.results
        choices = [Choice(s.place, s.title, s.what, s.about) for s in app.services.exports.parts(results)]
        if results is not None:
            name = f"{results.run.place}{results.study.name}"
            choices.insert(0, Choice(f"{LINEUP}{name}", f"lineup of {name}", "the levels of its first factor, ranked"))
        if len(app.rungs) == 2:
            choices.insert(
                0, Choice(f"{DUEL}{' '.join(app.rungs)}", " against ".join(app.rungs), "the duel that is open")
            )

        def chosen(key: str) -> None:
            self._changed(self._plan.with_part(_part(key)))

        self.choose("What is the report to tell of, too?", choices, chosen)

    def action_remove_part(self) -> None:
        """Take the part away that one is in."""
        section = self._section
        if section is None or len(self._plan.parts) < 2:
            self.notify("A report tells of something: add another part with a before you take this one away.")
            return
        found = next((p for p in self._plan.parts if section.key.startswith(f"{p.key}/")), None)
        if found is not None:
            self._changed(self._plan.without_part(found.key))
            self.notify(f"Took {found.key} out; its words are kept for when it comes back.")

    def action_other_report(self) -> None:
        """Open another report."""
        names = host(self).services.exports.report_names()
        choices = [Choice(name, name) for name in names]

        def chosen(name: str) -> None:
            self._open(neutralise(name, keep_newlines=False))

        self.choose("Which report? A new name begins one.", choices, chosen, free=True)

    # what is written
    def action_export(self) -> None:
        """Write the report in every format."""
        if self.result is None:
            self.notify("There is no report yet.", severity="warning")
            return
        self._changed(self._plan)
        self._write(lambda: host(self).services.exports.write_report(self._report), "The report")

    def action_tables(self) -> None:
        """Write the open run as a table."""
        results = host(self).results
        if results is None:
            return
        endings = host(self).services.exports.table_endings
        choices = [Choice(f"{of} {end}", f"{of}, {end.removeprefix('.')}") for of in get_args(Of) for end in endings]

        def chosen(key: str) -> None:
            of, ending = key.split()
            self._write(lambda: host(self).services.exports.write_tables(results, of, ending), "The table")

        self.choose("A table of what, and in which format?", choices, chosen)

    def action_bundle(self) -> None:
        """Write the open run as a bundle."""
        results = host(self).results
        if results is None:
            return
        choices = [Choice(name, name, about) for name, _, about in PACKS]

        def chosen(key: str) -> None:
            without = next(left for name, left, _ in PACKS if name == key)
            self._write(lambda: host(self).services.exports.pack(results, without), "The bundle")

        self.choose("What goes into the bundle? Host names, paths and keys never do.", choices, chosen)

    def _write(self, make: Callable[[], Awaitable[list[Path]]], what: str) -> None:
        async def work() -> None:
            try:
                written = await make()
            except KettleError as error:
                self.notify(str(error), title=f"{what} could not be written", severity="error", timeout=12)
                return
            names = ", ".join(path.name for path in written)
            folder = written[0].parent if written else ""
            self.notify(f"Wrote {names} into {folder}", timeout=12)

        self.notify("Writing …", timeout=2)
        self.work(work(), group="write")

    def clipboard_text(self) -> str:
        """The page as text."""
        if self.result is None:
            return ""
        parts = [
            head_text(self.result, 100, self.palette),
            *(section_text(s, 100, self.palette) for s in self.result.shown),
        ]
        return "\n".join(part.plain for part in parts)

    def action_back(self) -> None:
        """Put the line away, or back where one came from."""
        if not self.close_line():
            host(self).back("map")


def _part(key: str) -> ReportPart:
    if key.startswith(DUEL):
        return ReportPart("duel", tuple(key.removeprefix(DUEL).split()))
    if key.startswith(LINEUP):
        return ReportPart("lineup", (key.removeprefix(LINEUP),))
    return ReportPart("study", (key,))
