"""A plan that is edited where it stands; beside it the map to be filled, what it costs, and what is doubtful."""

from __future__ import annotations

import asyncio
import math
from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING

from rich.text import Text
from textual.app import ComposeResult
from textual.containers import Horizontal, Vertical, VerticalScroll
from textual.geometry import Region
from textual.widgets import Footer, Input, Static

from zinc_kettle.core.grid import grid_of
from zinc_kettle.core.plan_fields import FIELDS, CannotReadError, Plain, read_field
from zinc_kettle.core.ranges import read_level, read_levels
from zinc_kettle.errors import KettleError
from zinc_kettle.present.findings import main_measure
from zinc_kettle.present.plan_lines import PlanLine, plan_lines, setting_words
from zinc_kettle.tui.actions import bindings
from zinc_kettle.tui.bridge import host
from zinc_kettle.tui.draw.map_page import MapSubject
from zinc_kettle.tui.planning import Checked, OpenPlan
from zinc_kettle.tui.screens.plan.side import cost_text, doubts_text
from zinc_kettle.tui.station import Station
from zinc_kettle.tui.widgets.chooser import Choice, Chooser
from zinc_kettle.tui.widgets.map_view import MapView
from zinc_kettle.tui.widgets.plan_text import PlanText
from zinc_kettle.tui.widgets.station_line import Stations

if TYPE_CHECKING:
    from zinc_kettle.core.factors import Factor
    from zinc_kettle.present.planned import Costs

AT_ONCE = 400
"""Cells of a plan that is checked between two keys; a larger one is checked in a thread."""
ASK = "ask"
TYPING = "Type it and press enter; empty removes it, escape leaves it as it is."


class PlanScreen(Station):
    """Shows the plan that is being edited, and changes it."""

    BINDINGS = bindings("plan")
    AUTO_FOCUS = "#text"

    def __init__(self, wanted: tuple[str, dict[str, str]] | None = None) -> None:
        super().__init__()
        self._wanted = wanted
        """What to begin with, and what is held then; `ask` lets the person choose."""
        self._held: dict[str, str] = {}
        self._checked = Checked()
        self._costs: Costs | None = None
        self._part = 0
        self._typing_at = 0
        """The line that is typed in."""
        self._wrong = ""
        """What is wrong with what is being typed."""
        self._stale = False
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

    @property
    def _plan(self) -> OpenPlan | None:
        return host(self).plan

    def on_mount(self) -> None:
        """The plan that is open; what it may begin with where there is none."""
        self.query_one("#typing", Input).display = False
        self.call_after_refresh(self._begin)

    def _begin(self) -> None:
        plan, wanted = self._plan, self._wanted
        if wanted is not None and wanted[0] != ASK:
            self.begin(*wanted)
            return
        if plan is not None:
            self._check()
        if plan is None or wanted is not None:
            self._held = wanted[1] if wanted is not None else {}
            self.redraw()
            self.action_start_from()
            return
        if plan.typing is not None:
            path, said = plan.typing
            self._to(path)
            self._type(said)

    def on_screen_resume(self) -> None:
        """Another plan may have been begun."""
        if self._plan is not None:
            self._check()

    def on_resize(self) -> None:
        """Lines are drawn to the width."""
        self.call_after_refresh(self.redraw)

    # what it says
    def _check(self) -> None:
        """Read the plan again: at once where it is small, else in a thread while its lines are shown already."""
        plan = self._plan
        if plan is None:
            return
        if self._cells_planned() <= AT_ONCE:
            self._checked = host(self).desk.planner.check(plan.text, plan.folder, self._checked)
        self._costs = None
        self.redraw()
        self._stale = True
        if not self._finding:
            self._finding = True
            self.run_worker(self._find_out(), group="plan", exit_on_error=False)

    def _cells_planned(self) -> int:
        vary = self._checked.raw.get("vary", {})
        return math.prod(len(levels) for levels in vary.values() if isinstance(levels, list)) if vary else 0

    async def _find_out(self) -> None:
        """What the plan costs, off the event loop; what is changed meanwhile is looked at after it."""
        planner = host(self).desk.planner
        try:
            while self._stale and self.is_attached and self._plan is not None:
                self._stale = False
                plan, text = self._plan, self._plan.text
                if self._cells_planned() > AT_ONCE:
                    checked = await asyncio.to_thread(planner.check, text, plan.folder, self._checked)
                    self._checked = checked if plan.text == text else self._checked
                results = self._checked.results
                if results is not None:
                    await self._learn_rigs()
                    costs = await asyncio.to_thread(planner.costs, results.study)
                    if plan.text == text:
                        self._costs = costs
                if self.is_attached:
                    self.redraw()
        finally:
            self._finding = False

    async def _learn_rigs(self) -> None:
        from zinc_kettle.core.factors import HERE
        from zinc_kettle.core.plan import rigs_of

        assert self._checked.results is not None
        for name in rigs_of(self._checked.results.study) or [HERE]:
            try:
                await host(self).desk.ready_rig(name)
            except KettleError:
                continue

    def redraw(self) -> None:
        """Draw everything as it stands."""
        self.query_one(Stations).show(self.palette)
        self._draw_text()
        self._draw_side()

    def _draw_text(self) -> None:
        plan, p = self._plan, self.palette
        title = Text("What exactly will be measured?", f"bold {p.ink}", no_wrap=True, overflow="ellipsis")
        if plan is None:
            self.query_one("#title", Static).update(title)
            return
        where = f"{plan.file.name}" if plan.file is not None else "a new study"
        title.append(f"   {where}{', changed' if plan.changed else ', saved'}", p.muted)
        self.query_one("#title", Static).update(title)
        paper = self.query_one("#paper").content_size
        lines = plan_lines(self._checked.raw, self._checked.factors, plan.unfolded)
        view = self.query_one(PlanText)
        view.show(lines, max(40, paper.width), paper.height, p)
        self._about()
        place = view.place
        if place is not None:
            self.query_one("#paper").scroll_to_region(Region(0, place.row, 1, place.rows), animate=False)
            self._place_typing()

    def _draw_side(self) -> None:
        results, p = self._checked.results, self.palette
        view = self.query_one("#map", MapView)
        view.display = results is not None
        words = Text()
        if results is not None:
            planned = self._costs.planned if self._costs is not None else {}
            view.show(MapSubject(results, main_measure(results.study), p, self._part, planned=planned))
            words = cost_text(results, self._costs, p)
        elif self._plan is not None:
            words = Text("The map appears when the plan can be measured.", p.muted)
        self.query_one("#costs", Static).update(words)
        said = doubts_text(self._checked.problems, self._checked.doubts, p) if self._plan is not None else Text()
        self.query_one("#doubts", Static).update(said)

    def _about(self) -> None:
        """What the line one is on means, and how it is typed."""
        view, p = self.query_one(PlanText), self.palette
        line = view.line
        typing = self.query_one("#typing", Input).display
        words = Text()
        if self._wrong:
            words.append(f"✕ {self._wrong}\n", p.failure)
        if line is not None:
            words.append(_meaning(line, self._checked.factors), p.ink if typing else p.muted)
        words.append(f"\n{TYPING}" if typing else "", p.muted)
        self.query_one("#about", Static).update(words)

    def on_plan_text_moved(self, _event: PlanText.Moved) -> None:
        """Another line; what is typed in the line one came to meanwhile goes on."""
        if self.query_one(PlanText).cursor != self._typing_at:
            self._stop_typing()
        self._draw_text()

    def on_plan_text_chosen(self, _event: PlanText.Chosen) -> None:
        """A second click on a line."""
        self.action_edit()

    def on_map_view_opened(self, _event: MapView.Opened) -> None:
        """A cell that is only planned has no sheet."""

    # changing it
    def _change(self, path: tuple[str, ...], value: Plain | None) -> None:
        plan = self._plan
        if plan is not None:
            self._take(host(self).desk.planner.with_value(plan.text, path, value))

    def _take(self, text: str) -> None:
        """A new text; kept at once."""
        plan = self._plan
        if plan is None:
            return
        plan.history = plan.history.changed(text)
        plan.typing = None
        host(self).desk.planner.keep(plan)
        self._check()

    def _to(self, path: tuple[str, ...]) -> None:
        """Go to the line that speaks of a place in the file; its section is unfolded where it must be."""
        plan, view = self._plan, self.query_one(PlanText)
        if plan is None:
            return
        section = FIELDS[path].section if path in FIELDS else path[0] if path else "vary"
        if path in FIELDS and path != ("question",):
            plan.unfolded.add(FIELDS[path].section)
        lines = plan_lines(self._checked.raw, self._checked.factors, plan.unfolded)
        exact = next((i for i, line in enumerate(lines) if line.path == path and line.kind != "add"), None)
        near = next((i for i, line in enumerate(lines) if line.section == section), 0)
        view.lines, view.cursor = lines, near if exact is None else exact
        self._draw_text()

    def action_edit(self) -> None:
        """Change the line one is on: unfold a sentence, choose among what there is, or type."""
        line, plan = self.query_one(PlanText).line, self._plan
        if line is None or plan is None:
            return
        if line.kind == "sentence" and line.section != "question":
            plan.unfolded ^= {line.section}
            self._draw_text()
        elif line.kind == "add":
            self._add(line.section)
        elif line.kind == "field" and FIELDS[line.path].choices:
            self._choose_value(line)
        elif line.kind == "factor" and line.section == "hold" and self._choices(line.path[1]):
            self._choose_level(line.path, one=True)
        else:
            self._type(line.edit)

    def action_unfold(self) -> None:
        """Show the fields of the section one is on, or hide them."""
        line, plan = self.query_one(PlanText).line, self._plan
        if line is not None and plan is not None and line.section not in {"vary", "hold"}:
            plan.unfolded ^= {line.section}
            self._draw_text()

    def _add(self, section: str) -> None:
        raw = self._checked.raw
        used = {*raw.get("vary", {}), *raw.get("hold", {})}
        choices = []
        for factor in self._checked.factors.values():
            if factor.name in used:
                continue
            levels, default = setting_words(factor)
            reload = "needs a reload" if factor.kind == "launch" else "no reload"
            beside = f"{levels} · default {default}"
            choices.append(Choice(factor.name, factor.name, beside, f"{factor.meaning}. {reload.capitalize()}."))
        what = "What is to vary?" if section == "vary" else "What is to be held the same for all cells?"

        def chosen(name: str | None) -> None:
            if name is not None:
                self._added(section, name)

        self._ask(Chooser(what, choices), chosen)

    def _added(self, section: str, name: str) -> None:
        """A factor with nothing to it yet, and the line open to type; a held one with what is known of it."""
        factor = self._checked.factors[name]
        if section == "vary":
            self._change(("vary", name), [])
            self._to(("vary", name))
            self._type(_first_levels(factor))
            return
        if self._choices(name):
            self._choose_level(("hold", name), one=True)
            return
        default = factor.default if factor.default is not None else (factor.low if factor.type == "number" else "")
        self._change(("hold", name), default)
        self._to(("hold", name))
        self._type("" if default == "" else str(default))

    def _ask(self, chooser: Chooser, then: Callable[[str | None], None]) -> None:
        """Ask, and go on once this screen has its focus back."""

        def chosen(key: str | None) -> None:
            self.call_after_refresh(then, key)

        self.app.push_screen(chooser, chosen)

    def _choices(self, name: str) -> list[Choice]:
        """Levels of a factor that are known here."""
        factor = self._checked.factors.get(name)
        if factor is not None and factor.type == "switch":
            return [Choice("true", "on"), Choice("false", "off")]
        known = host(self).desk.planner.known_levels(name)
        if factor is not None and factor.choices and not known:
            known = [(choice, "") for choice in factor.choices]
        return [Choice(level, level, about) for level, about in known]

    def _choose_level(self, path: tuple[str, ...], *, one: bool) -> None:
        name = path[1]

        def chosen(said: str | None) -> None:
            factor = self._checked.factors.get(name)
            level = None if said is None or factor is None else read_level(factor, said)
            if level is None:
                return
            before = self._checked.raw.get("vary", {}).get(name, [])
            self._change(path, level if one else [*before, level])
            self._to(path)

        title = f"{name.replace('_', ' ')}: which one?" if one else f"{name.replace('_', ' ')}: add which level?"
        self._ask(Chooser(title, self._choices(name), free=True), chosen)

    def _choose_value(self, line: PlanLine) -> None:
        of = FIELDS[line.path]
        choices = [Choice(value, value, about) for value, about in of.choices.items()]

        def chosen(value: str | None) -> None:
            if value is not None:
                self._change(of.path, None if value == of.default else value)

        self._ask(Chooser(f"{of.help}", choices), chosen)

    # typing
    def _type(self, said: str) -> None:
        """Open the line one is on, to type in it."""
        field = self.query_one("#typing", Input)
        self._typing_at = self.query_one(PlanText).cursor
        field.display = True
        field.value = said
        field.cursor_position = len(said)
        self._place_typing()
        self.set_focus(field)  # at once: keys may follow in the same moment
        self._about()

    def _place_typing(self) -> None:
        field, place = self.query_one("#typing", Input), self.query_one(PlanText).place
        if field.display and place is not None:
            field.styles.offset = (place.column, place.row)
            field.styles.width = max(12, self.query_one("#paper").content_size.width - place.column - 1)

    def _stop_typing(self) -> None:
        field, plan = self.query_one("#typing", Input), self._plan
        if not field.display:
            return
        self.set_focus(self.query_one(PlanText))  # before it is hidden: a hidden field takes the focus with it
        field.display = False
        self._wrong = ""
        if plan is not None and plan.typing is not None:
            plan.typing = None
            host(self).desk.planner.keep(plan)

    def on_input_changed(self, event: Input.Changed) -> None:
        """Keep what is typed: a terminal may close at any time."""
        line, plan = self.query_one(PlanText).line, self._plan
        if plan is None or line is None or not event.input.display or event.value == line.edit:
            return
        plan.typing = (line.path, event.value)
        host(self).desk.planner.keep(plan)

    def on_input_submitted(self, _event: Input.Submitted) -> None:
        """Take what was typed."""
        self._take_typed()

    def _take_typed(self) -> bool:
        """Take what was typed; false where something is wrong with it, which is said then."""
        field, line = self.query_one("#typing", Input), self.query_one(PlanText).line
        if line is None or not field.display:
            return True
        try:
            value = self._read(line, field.value)
        except ValueError as error:
            self._wrong = str(error)
            self._about()
            return False
        self._stop_typing()
        self._change(FIELDS[line.path].path if line.kind == "field" else _path(line), value)
        return True

    def _read(self, line: PlanLine, said: str) -> Plain | None:
        if line.kind != "factor":
            return read_field(FIELDS[_path(line)], said, self._checked.factors)
        name = line.path[1]
        factor = self._checked.factors.get(name)
        if factor is None or not said.strip():
            return None
        if line.section == "hold":
            level = read_level(factor, said.replace(",", "") if factor.type == "number" else said)
            if level is None:
                raise CannotReadError(f"{said!r} is no level of {name}: {factor.meaning}")
            return level
        levels = read_levels(factor, said)
        if levels is None:
            raise CannotReadError(f"something here is no level of {name}; levels are parted by commas")
        return list(levels)

    # actions
    def action_remove(self) -> None:
        """Leave out the cell one is on in the map; else remove what the line says."""
        if self.focused is self.query_one("#map"):
            self._leave_out()
            return
        line = self.query_one(PlanText).line
        if line is None or line.kind == "add" or line.section == "question":
            return
        self._change(line.path, None)

    def _leave_out(self) -> None:
        results, key = self._checked.results, self.query_one("#map", MapView).chosen
        if results is None or key is None:
            return
        leading = results.study.leading
        rule: dict[str, Plain] = {n: v for n, v in results.cell(key).cell.levels.items() if n in leading}
        before = self._checked.raw.get("design", {}).get("without", [])
        self._change(("design", "without"), [*before, rule])
        self.notify(f"{results.cell(key).title} is left out; u brings it back.")

    def action_vary_or_hold(self) -> None:
        """Hold what varies at its first level, or let vary what is held."""
        line, plan = self.query_one(PlanText).line, self._plan
        if line is None or plan is None or line.kind != "factor":
            return
        section, name = line.path
        value = self._checked.raw.get(section, {}).get(name)
        planner = host(self).desk.planner
        bare = planner.with_value(plan.text, line.path, None)
        if section == "hold":
            self._take(planner.with_value(bare, ("vary", name), [value]))
            self._to(("vary", name))
        elif isinstance(value, list) and value:
            self._take(planner.with_value(bare, ("hold", name), value[0]))
            self._to(("hold", name))

    def action_add_level(self) -> None:
        """Choose a further level of the factor one is on, among those known here."""
        line = self.query_one(PlanText).line
        if line is not None and line.kind == "factor":
            if self._choices(line.path[1]):
                self._choose_level(line.path, one=line.section == "hold")
            else:
                self._type(line.edit)

    def action_add_factor(self) -> None:
        """Choose a factor to vary."""
        if self._plan is not None:
            self._add("vary")

    def action_undo(self) -> None:
        """Take the last change back."""
        self._travel(lambda plan: plan.history.undone())

    def action_redo(self) -> None:
        """Make it again."""
        self._travel(lambda plan: plan.history.redone())

    def _travel(self, to: Callable[[OpenPlan], object]) -> None:
        plan = self._plan
        if plan is None:
            return
        before, plan.history = plan.history, to(plan)  # type: ignore[assignment]
        if plan.history is before:
            self.notify("There is nothing more to undo or redo.")
            return
        host(self).desk.planner.keep(plan)
        self._check()

    def action_doubt(self, place: int) -> None:
        """Go to what a problem or doubt speaks of."""
        both = [*self._checked.problems, *self._checked.doubts]
        if place < len(both):
            self.set_focus(self.query_one(PlanText))
            self._to(both[place].path)

    def action_start_from(self) -> None:
        """Begin with a template, a copy of a study, or nothing; what was there is undone by u."""
        starts = host(self).desk.planner.starts()
        choices = [Choice(start.key, start.title, "", start.about) for start in starts]

        def chosen(key: str | None) -> None:
            if key is None:
                if self._plan is None:
                    host(self).go("shelf")
                return
            self.begin(key, self._held)
            self._held = {}

        self._ask(Chooser("What is the question? Begin with a design for it, or a copy.", choices), chosen)

    def begin(self, start: str, hold: Mapping[str, str]) -> None:
        """A plan from one of the beginnings; what was edited before is one undo away."""
        app = host(self)
        try:
            begun = app.desk.planner.begin(start, hold)
        except KettleError as error:
            self.notify(str(error), severity="error", timeout=12)
            return
        if app.plan is not None:
            begun.history = app.plan.history.changed(begun.text)
        app.plan = begun
        app.desk.planner.keep(begun)
        self._check()
        self.set_focus(self.query_one(PlanText))

    def action_save(self) -> None:
        """Write the study file."""
        if self._take_typed() and self._save():
            self.notify("It is on the shelf as ready to run.", title="Saved")

    def _save(self) -> bool:
        plan = self._plan
        if plan is None:
            return False
        try:
            host(self).desk.planner.save(plan)
        except KettleError as error:
            self.notify(str(error), title="Not saved", severity="error", timeout=12)
            return False
        host(self).desk.planner.keep(plan)
        self._draw_text()
        return True

    def action_measure(self) -> None:
        """Save it, and measure it."""
        plan = self._plan
        if plan is None or (self._cells_planned() > AT_ONCE and self._checked.results is None):
            return
        if self._checked.problems:
            self.notify(f"{self._checked.problems[0].what}. A goes there.", title="This plan cannot be measured yet",
                        severity="warning")  # fmt: skip
            return
        if self._save() and plan.file is not None:
            host(self).measure_file(plan.file)

    def action_other_side(self) -> None:
        """To the map, and back to the text."""
        on_map = self.focused is self.query_one("#map")
        self.set_focus(self.query_one("#text" if on_map else "#map"))

    def action_next_slice(self) -> None:
        """Show the next slice of the map."""
        if self._checked.results is not None:
            self._part = (self._part + 1) % len(grid_of(self._checked.results).slices)
            self._draw_side()

    def action_back(self) -> None:
        """Stop typing, or go back to the shelf."""
        if self.query_one("#typing", Input).display:
            self._stop_typing()
            self._draw_text()
        else:
            host(self).go("shelf")


def _path(line: PlanLine) -> tuple[str, ...]:
    """Where a line's value stands in the file; the sentence of the question speaks of the question itself."""
    return ("question",) if line.kind == "sentence" else line.path


def _meaning(line: PlanLine, factors: Mapping[str, Factor]) -> str:
    if line.kind == "factor":
        factor = factors.get(line.path[1])
        if factor is None:
            return f"{line.path[1]} is no factor of this engine."
        levels, default = setting_words(factor)
        how = " Ranges: 1..8 x2, 512..2048 +512." if factor.type == "number" and line.section == "vary" else ""
        note = f" {line.note[:1].upper()}{line.note[1:]}." if line.note else ""
        return f"{factor.meaning[:1].upper()}{factor.meaning[1:]}. {levels}; default {default}.{note}{how}"
    if line.kind == "field":
        of = FIELDS[line.path]
        default = "" if of.default in (None, [], "") else f" Default {of.default}."
        return f"{of.help} As in: {of.example}.{default}"
    if line.kind == "add":
        return "Enter opens a list of every setting there is, each explained."
    if line.section == "question":
        return "What is to be answered, in one sentence. Right shows the name of the study."
    return "Enter shows what this sentence is made of, and hides it again."


def _first_levels(factor: Factor) -> str:
    """What stands in a new line to vary a factor, so that one sees how it is typed."""
    if factor.choices:
        return ", ".join(factor.choices)
    if factor.type == "switch":
        return "off, on"
    return ""
