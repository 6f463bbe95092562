"""A plan that is edited where it stands; beside it the map to be filled, what it costs, and what is doubtful."""

from __future__ import annotations

import asyncio
import math
from collections.abc import Mapping
from dataclasses import replace
from typing import TYPE_CHECKING

from rich.text import Text
from textual.app import ComposeResult
from textual.containers import Horizontal, Vertical, VerticalScroll
from textual.geometry import Region
from textual.widgets import Footer, Input, Static

from zinc_kettle.app.views import Checked
from zinc_kettle.core.grid import grid_of
from zinc_kettle.errors import KettleError
from zinc_kettle.present.answer import main_measure
from zinc_kettle.present.plan_lines import plan_lines
from zinc_kettle.tui.actions import bindings
from zinc_kettle.tui.chooser import Choice
from zinc_kettle.tui.draw.map_page import MapSubject
from zinc_kettle.tui.host import host
from zinc_kettle.tui.screens.plan.editing import Editing, meaning
from zinc_kettle.tui.screens.plan.side import cost_text, doubts_text
from zinc_kettle.tui.widgets.map_view import MapView
from zinc_kettle.tui.widgets.plan_text import PlanText
from zinc_kettle.tui.widgets.station_line import Stations

if TYPE_CHECKING:
    from zinc_kettle.present.planned import Costs

AT_ONCE = 400
"""Cells of a plan that is checked between two keys; a larger one is checked in a thread."""
ASK = "ask"
TYPING = "Type it and press enter; empty removes it, escape leaves it as it is."


class PlanScreen(Editing):
    """Shows the plan that is being edited, and changes it."""

    BINDINGS = bindings("plan")
    AUTO_FOCUS = "#text"

    def __init__(self, wanted: tuple[str, dict[str, str]] | None = None) -> None:
        super().__init__()
        self._wanted = wanted
        """What to begin with, and what is held then; `ask` lets the person choose."""
        self._held: dict[str, str] = {}
        self.checked = Checked()
        self._costs: Costs | None = None
        self._part = 0
        self._stale = False
        self._trouble = ""
        self._finding = False

    def widgets(self) -> ComposeResult:
        """Title, the text with a line to type in, what it means; the map, the costs, the doubts."""
        yield Stations("plan")
        yield Static(id="title")
        with Horizontal(id="body"):
            with Vertical(id="left"):
                with VerticalScroll(id="paper", can_focus=False):
                    yield PlanText()
                    yield Input(id="typing", compact=True, select_on_focus=False)
                yield Static(id="about")
            with Vertical(id="right"):
                yield MapView()
                yield Static(id="costs")
                with VerticalScroll(id="rest", can_focus=False):
                    yield Static(id="doubts")
        yield Footer()

    def on_mount(self) -> None:
        """The plan that is open; what it may begin with where there is none."""
        self.query_one("#typing", Input).display = False
        self.call_after_refresh(self._begin)

    def _begin(self) -> None:
        plan, wanted = self.open_plan, self._wanted
        if wanted is not None and wanted[0] != ASK:
            self.begin(*wanted)
            return
        if plan is not None:
            self.read_plan()
        if plan is None or wanted is not None:
            self._held = wanted[1] if wanted is not None else {}
            self.redraw()
            self.action_start_from()
            return
        if plan.typing is not None:
            path, said = plan.typing
            self.go_to(path)
            self.type_in(said)

    def on_screen_resume(self) -> None:
        """Another plan may have been begun."""
        if self.open_plan is not None:
            self.read_plan()

    def on_resize(self) -> None:
        """Lines are drawn to the width."""
        self.call_after_refresh(self.redraw)

    # what it says
    def read_plan(self) -> None:
        """Read the plan again: at once where it is small, else in a thread while its lines are shown already."""
        plan = self.open_plan
        if plan is None:
            return
        planner = host(self).services.plans
        # What it says is known at once, whatever its size: the next change may build on it.
        self.checked = replace(self.checked, raw=planner.values(plan.text, self.checked.raw))
        if self._cells_planned() <= AT_ONCE:
            self.checked = planner.check(plan.text, plan.folder, self.checked)
        self._costs = None
        self.redraw()
        self._stale = True
        if not self._finding:
            self._finding = True
            self.work(self._find_out(), group="plan", exclusive=False)

    def _cells_planned(self) -> int:
        vary = self.checked.raw.get("vary", {})
        return math.prod(len(levels) for levels in vary.values() if isinstance(levels, list)) if vary else 0

    async def _find_out(self) -> None:
        """What the plan costs, off the event loop; what is changed meanwhile is looked at after it."""
        planner = host(self).services.plans
        try:
            while self._stale and self.stands and self.open_plan is not None:
                self._stale = False
                plan, text = self.open_plan, self.open_plan.text
                if self._cells_planned() > AT_ONCE:
                    checked = await asyncio.to_thread(planner.check, text, plan.folder, self.checked)
                    self.checked = checked if plan.text == text else self.checked
                results = self.checked.results
                if results is not None:
                    await self._learn_rigs()
                    costs = await asyncio.to_thread(planner.costs, results.study)
                    if plan.text == text:
                        self._costs, self._trouble = costs, ""
                if self.stands:
                    self.redraw()
        finally:
            self._finding = False

    def gave_up(self, said: str) -> None:
        """In place of what it costs."""
        self._trouble = said

    async def _learn_rigs(self) -> None:
        from zinc_kettle.core.plan.factors import HERE
        from zinc_kettle.core.plan.study import rigs_of

        assert self.checked.results is not None
        for name in rigs_of(self.checked.results.study) or [HERE]:
            try:
                await host(self).services.rigs.ready(name)
            except KettleError:
                continue

    def draw(self) -> None:
        """Draw everything as it stands."""
        self.query_one(Stations).show(self.palette)
        self.draw_text()
        self._draw_side()

    def draw_text(self) -> None:
        """Draw the plan's lines, and the line to type in over them."""
        plan, p = self.open_plan, self.palette
        title = Text("What exactly will be measured?", f"bold {p.ink}", no_wrap=True, overflow="ellipsis")
        if plan is None:
            self.query_one("#title", Static).update(title)
            return
        where = f"{plan.file.name}" if plan.file is not None else "a new study"
        if plan.origin:
            where += f" copied from {plan.origin}, somebody else's"
        title.append(f"   {where}{', changed' if plan.changed else ', saved'}", p.muted)
        self.query_one("#title", Static).update(title)
        paper = self.query_one("#paper").content_size
        lines = plan_lines(self.checked.raw, self.checked.factors, plan.unfolded)
        view = self.query_one(PlanText)
        view.show(lines, max(40, paper.width), paper.height, p)
        self.draw_about()
        place = view.place
        if place is not None:
            self.query_one("#paper").scroll_to_region(Region(0, place.row, 1, place.rows), animate=False)
            self.place_typing()

    def _draw_side(self) -> None:
        results, p = self.checked.results, self.palette
        view = self.query_one("#map", MapView)
        view.display = results is not None
        words = Text()
        if results is not None:
            planned = self._costs.planned if self._costs is not None else {}
            view.show(MapSubject(results, main_measure(results.study), p, self._part, planned=planned))
            words = Text(self._trouble, p.failure) if self._trouble else cost_text(results, self._costs, p)
        elif self.open_plan is not None:
            words = Text("The map appears when the plan can be measured.", p.muted)
        self.query_one("#costs", Static).update(words)
        said = doubts_text(self.checked.problems, self.checked.doubts, p) if self.open_plan is not None else Text()
        self.query_one("#doubts", Static).update(said)

    def draw_about(self) -> None:
        """What the selected line means, and how it is typed."""
        view, p = self.query_one(PlanText), self.palette
        line = view.line
        typing = self.query_one("#typing", Input).display
        words = Text()
        if self.wrong:
            words.append(f"✕ {self.wrong}\n", p.failure)
        if line is not None:
            words.append(meaning(line, self.checked.factors), p.ink if typing else p.muted)
        words.append(f"\n{TYPING}" if typing else "", p.muted)
        self.query_one("#about", Static).update(words)

    def on_plan_text_moved(self, _event: PlanText.Moved) -> None:
        """Another line; what is typed in the line one came to meanwhile goes on."""
        if self.query_one(PlanText).cursor != self.typing_at:
            self.stop_typing()
        self.draw_text()

    def on_plan_text_chosen(self, _event: PlanText.Chosen) -> None:
        """A second click on a line."""
        self.action_edit()

    def on_map_view_opened(self, _event: MapView.Opened) -> None:
        """A cell that is only planned has no sheet."""

    def action_doubt(self, place: int) -> None:
        """Go to what a problem or doubt speaks of."""
        both = [*self.checked.problems, *self.checked.doubts]
        if place < len(both):
            self.set_focus(self.query_one(PlanText))
            self.go_to(both[place].path)

    def action_start_from(self) -> None:
        """Begin with a template, a copy of a study, or nothing; what was there is undone by u."""
        starts = host(self).services.plans.starts()
        choices = [Choice(start.key, start.title, "", start.about) for start in starts]

        def chosen(key: str) -> None:
            self.begin(key, self._held)
            self._held = {}

        def none() -> None:
            if self.open_plan is None:
                host(self).go("shelf")

        question = "What is the question? Begin with a design for it, or a copy."
        self.choose(question, choices, chosen, otherwise=none)

    def begin(self, start: str, hold: Mapping[str, str]) -> None:
        """A plan from one of the beginnings; what was edited before is one undo away."""
        app = host(self)
        try:
            begun = app.services.plans.begin(start, hold)
        except KettleError as error:
            self.notify(str(error), severity="error", timeout=12)
            return
        if app.plan is not None:
            begun.history = app.plan.history.changed(begun.text)
        app.plan = begun
        app.services.plans.keep(begun)
        self.read_plan()
        self.set_focus(self.query_one(PlanText))

    def action_save(self) -> None:
        """Write the study file."""
        if self.take_typed() and self._save():
            self.notify("It is on the shelf as ready to run.", title="Saved")

    def _save(self) -> bool:
        plan = self.open_plan
        if plan is None:
            return False
        try:
            host(self).services.plans.save(plan)
        except KettleError as error:
            self.notify(str(error), title="Not saved", severity="error", timeout=12)
            return False
        host(self).services.plans.keep(plan)
        self.draw_text()
        return True

    def action_measure(self) -> None:
        """Save it, and measure it."""
        plan = self.open_plan
        if plan is None or (self._cells_planned() > AT_ONCE and self.checked.results is None):
            return
        if self.checked.problems:
            self.notify(
                f"{self.checked.problems[0].what}. A goes there.",
                title="This plan cannot be measured yet",
                severity="warning",
            )
            return
        if self._save() and plan.file is not None:
            host(self).measure_file(plan.file)

    def action_other_side(self) -> None:
        """To the map, and back to the text."""
        on_map = self.focused is self.query_one("#map")
        self.set_focus(self.query_one("#text" if on_map else "#map"))

    def action_next_slice(self) -> None:
        """Show the next slice of the map."""
        if self.checked.results is not None:
            self._part = (self._part + 1) % len(grid_of(self.checked.results).slices)
            self._draw_side()

    def clipboard_text(self) -> str:
        """The study file."""
        return "" if self.open_plan is None else self.open_plan.text

    def action_back(self) -> None:
        """Stop typing, or go back where one came from."""
        if self.query_one("#typing", Input).display:
            self.stop_typing()
            self.draw_text()
        else:
            host(self).back("shelf")
