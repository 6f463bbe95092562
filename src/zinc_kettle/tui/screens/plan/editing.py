"""Changing a plan where it stands: typing, choosing, removing, undoing."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING

from textual.widgets import Input

from zinc_kettle.app.views import Checked, OpenPlan
from zinc_kettle.core.declared import Plain
from zinc_kettle.core.plan.fields import FIELDS, CannotReadError, read_field
from zinc_kettle.core.plan.ranges import read_level, read_levels
from zinc_kettle.core.text import capitalised
from zinc_kettle.errors import UsageError
from zinc_kettle.present.plan_lines import PlanLine, plan_lines, setting_words
from zinc_kettle.tui.chooser import Choice
from zinc_kettle.tui.host import host
from zinc_kettle.tui.station import Station
from zinc_kettle.tui.widgets.map_view import MapView
from zinc_kettle.tui.widgets.plan_text import PlanText

if TYPE_CHECKING:
    from zinc_kettle.core.plan.factors import Factor
    from zinc_kettle.core.plan.history import History


class Editing(Station):
    """The actions of a station that shows a plan: it has its text, a line to type in, and a map."""

    checked = Checked()
    """What the plan says."""
    wrong = ""
    """What is wrong with what is being typed."""
    typing_at = 0
    """The line that is typed in."""

    @property
    def open_plan(self) -> OpenPlan | None:
        """The plan that is being edited."""
        return host(self).plan

    def read_plan(self) -> None:
        """Read the plan again, and draw what it says."""
        raise NotImplementedError

    def draw_text(self) -> None:
        """Draw its lines."""
        raise NotImplementedError

    def draw_about(self) -> None:
        """Draw what the selected line means."""
        raise NotImplementedError

    def change(self, path: tuple[str, ...], value: Plain | None) -> None:
        """Set a value of the plan, or remove it."""
        plan = self.open_plan
        if plan is not None:
            self.take_text(host(self).services.plans.with_value(plan.text, path, value))

    def take_text(self, text: str) -> None:
        """A new text; kept at once."""
        plan = self.open_plan
        if plan is None:
            return
        plan.history = plan.history.changed(text)
        plan.typing = None
        host(self).services.plans.keep(plan)
        self.read_plan()

    def go_to(self, path: tuple[str, ...]) -> None:
        """Go to the line that speaks of a place in the file; its section is unfolded where it must be."""
        plan, view = self.open_plan, self.query_one(PlanText)
        if plan is None:
            return
        section = FIELDS[path].section if path in FIELDS else path[0] if path else "vary"
        if path in FIELDS and path != ("question",):
            plan.unfolded.add(FIELDS[path].section)
        lines = plan_lines(self.checked.raw, self.checked.factors, plan.unfolded)
        exact = next((i for i, line in enumerate(lines) if line.path == path and line.kind != "add"), None)
        near = next((i for i, line in enumerate(lines) if line.section == section), 0)
        view.lines, view.cursor = lines, near if exact is None else exact
        self.draw_text()

    def action_edit(self) -> None:
        """Change the selected line: unfold a sentence, choose among what there is, or type."""
        line, plan = self.query_one(PlanText).line, self.open_plan
        if line is None or plan is None:
            return
        if line.kind == "sentence" and line.section != "question":
            plan.unfolded ^= {line.section}
            self.draw_text()
        elif line.kind == "add":
            self.add_from_list(line.section)
        elif line.kind == "field" and FIELDS[line.path].choices:
            self._choose_value(line)
        elif line.kind == "factor" and line.section == "hold" and self._choices(line.path[1]):
            self._choose_level(line.path, one=True)
        else:
            self.type_in(line.edit)

    def action_unfold(self) -> None:
        """Show the fields of the selected section, or hide them."""
        line, plan = self.query_one(PlanText).line, self.open_plan
        if line is not None and plan is not None and line.section not in {"vary", "hold"}:
            plan.unfolded ^= {line.section}
            self.draw_text()

    def add_from_list(self, section: str) -> None:
        """Choose a factor to vary, or a setting to hold, from a list that explains each."""
        raw = self.checked.raw
        used = {*raw.get("vary", {}), *raw.get("hold", {})}
        choices = []
        for factor in self.checked.factors.values():
            if factor.name in used:
                continue
            levels, default = setting_words(factor)
            reload = "needs a reload" if factor.kind == "launch" else "no reload"
            beside = f"{levels} · default {default}"
            choices.append(Choice(factor.name, factor.name, beside, f"{factor.meaning}. {reload.capitalize()}."))
        what = "What is to vary?" if section == "vary" else "What is to be held the same for all cells?"

        self.choose(what, choices, lambda name: self._added(section, name))

    def _added(self, section: str, name: str) -> None:
        """A factor with nothing to it yet, and the line open to type; a held one with what is known of it."""
        factor = self.checked.factors[name]
        if section == "vary":
            self.change(("vary", name), [])
            self.go_to(("vary", name))
            self.type_in(_first_levels(factor))
            return
        if self._choices(name):
            self._choose_level(("hold", name), one=True)
            return
        default = factor.default if factor.default is not None else (factor.low if factor.type == "number" else "")
        self.change(("hold", name), default)
        self.go_to(("hold", name))
        self.type_in("" if default == "" else str(default))

    def _choices(self, name: str) -> list[Choice]:
        """Levels of a factor that are known here."""
        factor = self.checked.factors.get(name)
        if factor is not None and factor.type == "switch":
            return [Choice("true", "on"), Choice("false", "off")]
        plan, planner = self.open_plan, host(self).services.plans
        known = planner.known_levels(name)
        if name == "prompt" and plan is not None:
            known = planner.prompts_of(self.checked.raw, plan.folder)
        if factor is not None and factor.choices and not known:
            known = [(choice, "") for choice in factor.choices]
        return [Choice(level, level, about) for level, about in known]

    def _choose_level(self, path: tuple[str, ...], *, one: bool) -> None:
        name = path[1]

        def chosen(said: str) -> None:
            factor = self.checked.factors.get(name)
            level = None if factor is None else read_level(factor, said)
            if level is None:
                return
            before = self.checked.raw.get("vary", {}).get(name, [])
            self.change(path, level if one else [*before, level])
            self.go_to(path)

        title = f"{name.replace('_', ' ')}: which one?" if one else f"{name.replace('_', ' ')}: add which level?"
        there = [] if one else [str(level) for level in self.checked.raw.get("vary", {}).get(name, [])]
        self.choose(title, [c for c in self._choices(name) if c.key not in there], chosen, free=True)

    def _choose_value(self, line: PlanLine) -> None:
        of = FIELDS[line.path]
        choices = [Choice(value, value, about) for value, about in of.choices.items()]

        def chosen(value: str) -> None:
            self.change(of.path, None if value == of.default else value)

        self.choose(of.help, choices, chosen)

    # typing
    def type_in(self, said: str) -> None:
        """Open the selected line, to type in it."""
        field = self.query_one("#typing", Input)
        self.typing_at = self.query_one(PlanText).cursor
        field.display = True
        field.value = said
        field.cursor_position = len(said)
        self.place_typing()
        self.set_focus(field)  # at once: keys may follow in the same moment
        self.draw_about()

    def place_typing(self) -> None:
        """Put the line to type in where the line of the plan stands."""
        field, place = self.query_one("#typing", Input), self.query_one(PlanText).place
        if field.display and place is not None:
            field.styles.offset = (place.column, place.row)
            field.styles.width = max(12, self.query_one("#paper").content_size.width - place.column - 1)

    def stop_typing(self) -> None:
        """Put the line to type in away."""
        field, plan = self.query_one("#typing", Input), self.open_plan
        if not field.display:
            return
        self.set_focus(self.query_one(PlanText))  # before it is hidden: a hidden field takes the focus with it
        field.display = False
        self.wrong = ""
        if plan is not None and plan.typing is not None:
            plan.typing = None
            host(self).services.plans.keep(plan)

    def on_input_changed(self, event: Input.Changed) -> None:
        """Keep what is typed: a terminal may close at any time."""
        line, plan = self.query_one(PlanText).line, self.open_plan
        if plan is None or line is None or not event.input.display or event.value == line.edit:
            return
        plan.typing = (line.path, event.value)
        host(self).services.plans.keep(plan)

    def on_input_submitted(self, _event: Input.Submitted) -> None:
        """Take what was typed."""
        self.take_typed()

    def take_typed(self) -> bool:
        """Take what was typed; false where something is wrong with it, which is said then."""
        field, line = self.query_one("#typing", Input), self.query_one(PlanText).line
        if line is None or not field.display:
            return True
        try:
            value = self._read(line, field.value)
        except ValueError as error:
            self.wrong = str(error)
            self.draw_about()
            return False
        self.stop_typing()
        self.change(FIELDS[line.path].path if line.kind == "field" else _path(line), value)
        return True

    def _read(self, line: PlanLine, said: str) -> Plain | None:
        if _path(line) == ("prompts", "files") and self.open_plan is not None:
            try:
                return [*host(self).services.plans.brought_files(said, self.open_plan)] or None
            except UsageError as error:
                raise CannotReadError(str(error)) from error
        if line.kind != "factor":
            return read_field(FIELDS[_path(line)], said, self.checked.factors)
        name = line.path[1]
        factor = self.checked.factors.get(name)
        if factor is None or not said.strip():
            return None
        if line.section == "hold":
            level = read_level(factor, said.replace(",", "") if factor.type == "number" else said)
            if level is None:
                raise CannotReadError(f"{said!r} is no level of {name}: {factor.meaning}")
            return level
        levels = read_levels(factor, said)
        if levels is None:
            raise CannotReadError(f"something here is no level of {name}; levels are separated by commas")
        return list(levels)

    # actions
    def action_remove(self) -> None:
        """Leave out the selected cell in the map; else remove what the line says."""
        if self.focused is self.query_one("#map"):
            self._leave_out()
            return
        line = self.query_one(PlanText).line
        if line is None or line.kind == "add" or line.section == "question":
            return
        self.change(line.path, None)

    def _leave_out(self) -> None:
        results, key = self.checked.results, self.query_one("#map", MapView).chosen
        if results is None or key is None:
            return
        leading = results.study.leading
        rule: dict[str, Plain] = {n: v for n, v in results.cell(key).cell.levels.items() if n in leading}
        before = self.checked.raw.get("design", {}).get("without", [])
        self.change(("design", "without"), [*before, rule])
        self.notify(f"{results.cell(key).title} is left out; u brings it back.")

    def action_vary_or_hold(self) -> None:
        """Hold what varies at its first level, or let vary what is held."""
        line, plan = self.query_one(PlanText).line, self.open_plan
        if line is None or plan is None or line.kind != "factor":
            return
        section, name = line.path
        value = self.checked.raw.get(section, {}).get(name)
        planner = host(self).services.plans
        bare = planner.with_value(plan.text, line.path, None)
        if section == "hold":
            self.take_text(planner.with_value(bare, ("vary", name), [value]))
            self.go_to(("vary", name))
        elif isinstance(value, list) and value:
            self.take_text(planner.with_value(bare, ("hold", name), value[0]))
            self.go_to(("hold", name))

    def action_add_level(self) -> None:
        """Choose a further level of the selected factor, among those known here."""
        line = self.query_one(PlanText).line
        if line is not None and line.kind == "factor":
            if self._choices(line.path[1]):
                self._choose_level(line.path, one=line.section == "hold")
            else:
                self.type_in(line.edit)

    def action_add_factor(self) -> None:
        """Choose a factor to vary."""
        if self.open_plan is not None:
            self.add_from_list("vary")

    def action_hold_factor(self) -> None:
        """Choose a factor to hold."""
        if self.open_plan is not None:
            self.add_from_list("hold")

    def action_undo(self) -> None:
        """Undo the last change."""
        self._travel(lambda plan: plan.history.undone())

    def action_redo(self) -> None:
        """Make it again."""
        self._travel(lambda plan: plan.history.redone())

    def _travel(self, to: Callable[[OpenPlan], History]) -> None:
        plan = self.open_plan
        if plan is None:
            return
        before, plan.history = plan.history, to(plan)
        if plan.history is before:
            self.notify("There is nothing more to undo or redo.")
            return
        host(self).services.plans.keep(plan)
        self.read_plan()


def _path(line: PlanLine) -> tuple[str, ...]:
    """Where a line's value stands in the file; the sentence of the question speaks of the question itself."""
    return ("question",) if line.kind == "sentence" else line.path


def meaning(line: PlanLine, factors: Mapping[str, Factor]) -> str:
    """What a line means, and how it is typed."""
    if line.kind == "factor":
        factor = factors.get(line.path[1])
        if factor is None:
            return f"{line.path[1]} is no factor of this engine."
        levels, default = setting_words(factor)
        how = " Ranges: 1..8 x2, 512..2048 +512." if factor.type == "number" and line.section == "vary" else ""
        note = f" {capitalised(line.note)}." if line.note else ""
        return f"{capitalised(factor.meaning)}. {levels}; default {default}.{note}{how}"
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
