"""The application: connects stations, and shows what the runner holds."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Iterable, Mapping, Sequence
from functools import partial
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING, Any

from textual import events
from textual.app import App, SystemCommand
from textual.command import CommandPalette
from textual.notifications import SeverityLevel
from textual.screen import Screen

from zinc_kettle.app.services import Services
from zinc_kettle.app.views import ShelfEntry
from zinc_kettle.core.text import capitalised
from zinc_kettle.core.units import plural
from zinc_kettle.errors import KettleError
from zinc_kettle.tui.actions import EVERYWHERE, bindings, key_list
from zinc_kettle.tui.palette import Named, Palette, commands
from zinc_kettle.tui.runner import Runner
from zinc_kettle.tui.station import EVERY_SCREEN_CSS, TOO_SMALL, Station, is_too_small
from zinc_kettle.tui.stations import SHELF, station, station_of
from zinc_kettle.tui.theme import DARK, LIGHT, theme
from zinc_kettle.tui.typed import Typed

if TYPE_CHECKING:
    from zinc_kettle.app.views import OpenPlan
    from zinc_kettle.core.compare.sides import Side
    from zinc_kettle.core.plan.factors import Level
    from zinc_kettle.core.plan.study import Cell
    from zinc_kettle.core.problem import Problem
    from zinc_kettle.core.results import StudyResults
    from zinc_kettle.core.run.decisions import Decision
    from zinc_kettle.tui.run_state import RunState
    from zinc_kettle.tui.walk import Walk

STOP_LIMIT_S = 8.0
MOST_BEFORE = 20
"""Stations one came through that are remembered."""
LOOK_S = 0.5
LOOKED_AT = 200
"""Cells that are asked which measures have figures."""
PALETTE_ID = "--command-palette"
"""As the library's style sheet knows it."""
PAGES = frozenset({"pageup", "pagedown"})
"""Between two looks at a run that another terminal measures."""


class KettleApp(App[int]):
    """Zinc Kettle's screen.

    Args:
        services: The rest of the tool.
        runner: Holds the open study and its run; a new one where none is handed over.
        notice: What to say at once: why the screen before this one ended.
        walk: Begin with the guided walk.
    """

    TITLE = "Zinc Kettle"
    BINDINGS = bindings(EVERYWHERE)
    ENABLE_COMMAND_PALETTE = True
    CSS = EVERY_SCREEN_CSS
    CSS_PATH = Path(__file__).parent / "screens" / SHELF.name / "screen.tcss"
    """Of the first screen; the others bring theirs when they are gone to."""
    HORIZONTAL_BREAKPOINTS = [(0, "-narrow"), (124, "-wide")]  # noqa: RUF012
    VERTICAL_BREAKPOINTS = [(0, "-short"), (36, "-tall")]  # noqa: RUF012

    def __init__(
        self, services: Services, runner: Runner | None = None, notice: str = "", *, walk: bool = False
    ) -> None:
        super().__init__()
        self.walk: Walk | None = None
        """The guided walk, while it goes on."""
        self._walks = walk
        self.services = services
        self.runner = runner or Runner()
        self.rig_count = 0
        self._before: list[str] = []
        """Stations one came through since the shelf."""
        self._named = Named(self)
        """What the palette knows by name, as it was when it was opened."""
        self._notice = notice
        self._leaving = False
        self._typed = Typed(self, self._give)
        for palette in (DARK, LIGHT):
            self.register_theme(theme(palette))
        self.theme = LIGHT.name if services.theme() == "light" else DARK.name

    @property
    def results(self) -> StudyResults | None:
        """The open study."""
        return self.runner.results

    @property
    def run_state(self) -> RunState | None:
        """The run, where there is or was one."""
        return self.runner.state

    @property
    def measure(self) -> str:
        """What the map shows."""
        return self.runner.measure

    @measure.setter
    def measure(self, name: str) -> None:
        self.runner.measure = name

    @property
    def further(self) -> tuple[str, ...]:
        """Measures that large cells of the map show besides."""
        return self.runner.further

    @further.setter
    def further(self, names: tuple[str, ...]) -> None:
        self.runner.further = names

    @property
    def rig(self) -> str:
        """Name of the rig that Rigs and Fit show."""
        return self.runner.rig

    @rig.setter
    def rig(self, name: str) -> None:
        self.runner.rig = name

    @property
    def plan(self) -> OpenPlan | None:
        """The plan that is being edited."""
        return self.runner.plan

    @plan.setter
    def plan(self, plan: OpenPlan | None) -> None:
        self.runner.plan = plan

    @property
    def rungs(self) -> tuple[str, ...]:
        """Names of the sides Duel shows."""
        return self.runner.rungs

    @rungs.setter
    def rungs(self, names: tuple[str, ...]) -> None:
        self.runner.rungs = names

    def get_default_screen(self) -> Screen[Any]:
        """The shelf, which all others lie on."""
        return SHELF.screen_class()()

    def on_mount(self) -> None:
        """The map over the shelf where a run goes on."""
        self.runner.listener = self
        if self.runner.results is not None:
            self.go("map")
        elif self.services.newcomer() and not self._walks:
            self.call_after_refresh(self.go, "begin")  # the first paint does not wait for it
        self.set_interval(LOOK_S, self._look_elsewhere)
        if self._notice:
            self.notify(self._notice, title="The screen was restarted", severity="error", timeout=20)
        if self._walks:
            self._begin_walk()

    def _begin_walk(self) -> None:
        from zinc_kettle.tui.walk import Walk

        self.walk = Walk(self, self._end_walk)
        self.call_after_refresh(self.call_after_refresh, self.walk.start)

    def _end_walk(self) -> None:
        self.walk = None

    async def on_event(self, event: events.Event) -> None:
        """Keys go to the screen that stands once all before them have been done; see `tui.typed`."""
        if isinstance(event, events.Key) and not event.is_forwarded:
            if self.walk is not None:  # a key of the person's ends the guided walk; space only hurries it
                if event.key == "space":
                    self.walk.next()
                    return
                self.walk.stop()
            self._typed.take(event)
            return
        await super().on_event(event)

    async def typed_out(self) -> None:
        """Until every key that was typed has been done."""
        await self._typed.done()

    async def _give(self, event: events.Key) -> None:
        """Hand a key to whatever has the focus now."""
        if event.key in PAGES and isinstance(self.screen, Palette) and self.screen.is_empty:
            return
        await super().on_event(event)

    def _look_elsewhere(self) -> None:
        """Follow the open run where another terminal measures it."""
        results = self.results
        if results is None or self.runner.active or results.run.state != "running":
            return
        if self.runner.follow(self.services.studies.glance(results.run.run_id), self.services.studies.open_run):
            self._cells_changed()

    def on_unmount(self) -> None:
        """The runner may go on without this screen."""
        self.runner.listener = None

    def on_resize(self, event: events.Resize) -> None:
        """A tiny terminal hides everything, before anything is laid out in it."""
        # What lies over a station has lists of the library's own, which do not survive being without room.
        while is_too_small(event.size) and len(self.screen_stack) > 1 and not isinstance(self.screen, Station):
            self.pop_screen()
        for screen in self.screen_stack:
            screen.set_class(is_too_small(event.size), TOO_SMALL)

    async def _check_bindings(self, key: str, priority: bool = False) -> bool:
        """A key that comes while the application ends finds no screen any more, and does nothing."""
        return not self.screen_stack or await super()._check_bindings(key, priority)

    def action_command_palette(self) -> None:
        """The palette, where there is room for it."""
        if not is_too_small(self.size):
            self._named.look()
            if isinstance(self.screen, Station):
                self.screen.work(self._named.find_models(), group="named")
            if not any(isinstance(screen, CommandPalette) for screen in self.screen_stack):
                self.push_screen(Palette(id=PALETTE_ID))

    def get_system_commands(self, screen: Screen[Any]) -> Iterable[SystemCommand]:
        """The palette: stations, what can be done here, and by name every study, rig, model file and measure."""
        yield from commands(self, screen)
        yield from self._named.commands

    # stations
    def action_go(self, name: str) -> None:
        """Jump to a station."""
        self.go(name)

    def go(self, name: str) -> None:
        """To a station above the shelf; one that is open already is kept as it stands."""
        missing = station(name).missing(self)
        if missing:
            self.notify(missing)
            return
        here = station_of(self.screen)
        if here not in {"", name}:
            self._before = [*self._before, here][-MOST_BEFORE:]
        self._show(name)

    def back(self, otherwise: str) -> None:
        """To the station one came from; where that is not known, to another one."""
        here = station_of(self.screen)
        while self._before:
            name = self._before.pop()
            if name != here and not station(name).missing(self):
                self._show(name)
                return
        self._show("shelf" if station(otherwise).missing(self) else otherwise)

    def _show(self, name: str) -> None:
        kind = station(name)
        if kind is SHELF:
            self._back_to_shelf()
            return
        if name == "plan":
            self._ready_plan()
        if name == "duel" and not self.rungs:
            self.rungs = self.services.comparisons.usual_sides(self.results)
        wanted = kind.screen_class()
        while len(self.screen_stack) > 1 and not isinstance(self.screen, wanted):
            self.pop_screen()
        if not isinstance(self.screen, wanted):
            self.push_screen(wanted())

    def _ready_plan(self) -> None:
        """The plan to show: the one that is being edited, or was when the screen was closed; else the open study's."""
        plan = self.runner.plan or self.services.plans.kept()
        if self.results is not None and (plan is None or not plan.changed):
            plan = self._copied(self.results) or plan
        self.runner.plan = plan

    def _copied(self, results: StudyResults) -> OpenPlan | None:
        try:
            return self.services.plans.copy_of(results, self.runner.file)
        except KettleError:
            return None

    def plan_from(self, start: str, hold: Mapping[str, str]) -> None:
        """Go to Plan with a new plan, or ask with what it is to begin."""
        from zinc_kettle.tui.screens.plan.screen import PlanScreen

        if self.runner.plan is None:
            self.runner.plan = self.services.plans.kept()
        self._back_to_shelf(station_of(self.screen))
        self.push_screen(PlanScreen((start, dict(hold))))

    def plan_change(self, cell: Cell, changes: Mapping[str, Level]) -> None:
        """Go to Plan with a copy of the open study in which settings are changed."""
        results = self.results
        if results is None:
            return
        try:
            plan = self.services.plans.copy_of(results, self.runner.file)
            plan = self.services.plans.with_change(plan, cell, changes)
        except KettleError as error:
            self.notify(str(error), severity="error", timeout=12)
            return
        self.runner.plan = plan
        self.services.plans.keep(plan)
        self.go("plan")

    def notify(
        self,
        message: str,
        *,
        title: str = "",
        severity: SeverityLevel = "information",
        timeout: float | None = None,
        markup: bool = False,
    ) -> None:
        """As the library has it, but brackets stay brackets: what is said holds names and texts of people."""
        del markup
        super().notify(message, title=title, severity=severity, timeout=timeout, markup=False)

    def next_measure(self) -> None:
        """The next measure that any cell has a figure of, round and round."""
        from zinc_kettle.core.measures import MAP_MEASURES
        from zinc_kettle.core.record.value import Value

        cells = () if self.results is None else self.results.cells
        done = list(islice((c for c in cells if c.done), LOOKED_AT))
        there = [n for n in MAP_MEASURES if not done or any(isinstance(c.value(n), Value) for c in done)]
        at = MAP_MEASURES.index(self.measure) if self.measure in MAP_MEASURES else -1
        self.measure = next((n for n in there if MAP_MEASURES.index(n) > at), there[0] if there else self.measure)

    def measure_file(self, file: Path) -> None:
        """Measure a study file."""
        if self.runner.active:
            self.notify("A study is running; stop it before measuring another one.", severity="warning")
            return
        self.open_study(ShelfEntry(str(file), "", file=file))
        self.call_after_refresh(self.start_run)  # once the map is there

    def _back_to_shelf(self, *before: str) -> None:
        self._before = [name for name in before if name]
        while len(self.screen_stack) > 1:
            self.pop_screen()

    def open_study(self, entry: ShelfEntry, run: int = 0) -> None:
        """Open a study from the shelf."""
        from zinc_kettle.present.answer import main_measure

        try:
            results = self.services.studies.open(entry, run)
        except KettleError as error:
            self.notify(str(error), title="The study cannot be opened", severity="error", timeout=12)
            return
        open_now = self.runner.results
        if not self.runner.active:
            self.runner.state, self.runner.results, self.runner.file = None, results, entry.file
            self.measure = main_measure(results.study)
            self._back_to_shelf()  # a map that is open shows another study
        elif open_now is None or results.run.run_id != open_now.run.run_id:
            self.notify("A study is running; stop it before opening another one.", severity="warning")
            return
        self.go("map")

    def open_cell(self, key: str) -> None:
        """Open a cell's sheet."""
        from zinc_kettle.tui.screens.cell.screen import CellScreen

        self.push_screen(CellScreen(key))

    def open_duel(self, rungs: Sequence[str]) -> None:
        """Go to Duel with these sides."""
        self.rungs = tuple(rungs)
        self.go("duel")

    def open_results(self, side: Side) -> None:
        """Go to the map of a side's run, on its first cell."""
        from zinc_kettle.present.answer import main_measure

        other = self.results is None or side.results.run.run_id != self.results.run.run_id
        if self.runner.active and other:
            self.notify("A study is running; stop it before opening another one.", severity="warning")
            return
        if other:
            self.runner.state, self.runner.results, self.runner.file = None, side.results, None
            self.measure = main_measure(side.results.study)
            self._back_to_shelf()
        self.go("map")
        key = side.cells()[0].cell.key
        self.call_after_refresh(lambda: self.screen.show_cell(key) if isinstance(self.screen, Station) else None)

    def more_repeats(self, sides: Sequence[Side], count: int) -> None:
        """Enter further repeats of the cells of some sides into the logs of their runs."""
        from zinc_kettle.core.problem import Problem
        from zinc_kettle.core.run.decisions import More

        try:
            for side in sides:
                study = side.results.study
                whole = [{study.leading[0]: level} for level in study.vary[study.leading[0]]]
                for levels in [side.levels] if side.levels else whole:
                    found = self.services.studies.steer(side.results, More, levels, count)
                    if isinstance(found, Problem):
                        self.refuse(found)
                        return
            if self.results is not None and any(side.results is self.results for side in sides):
                self.runner.results = self.services.studies.open_run(self.results.run.run_id)
        except KettleError as error:
            self.notify(str(error), severity="error", timeout=12)
            return
        self.notify(f"{plural(count, 'more repeat')} of each side planned. Press r on the map to measure them.")
        self._redraw()

    def copy(self, text: str) -> None:
        """Copy a text to the clipboard, and keep it in a file where the terminal has none."""
        if not text.strip():
            self.notify("There is nothing to copy here.")
            return
        self.copy_to_clipboard(text)
        try:
            kept = self.services.comparisons.keep_copy(text)
        except KettleError as error:
            self.notify(str(error), severity="warning")
            return
        self.notify(f"Copied, {plural(len(text.splitlines()), 'line')}; also in {kept}", timeout=4)

    def open_answers(self, keys: Sequence[str]) -> None:
        """Open the reader on the answers of some cells."""
        from zinc_kettle.tui.screens.answers.screen import AnswersScreen

        self.push_screen(AnswersScreen(keys))

    def action_explain(self) -> None:
        """Explain the figure one looks at, and the station it stands on."""
        from zinc_kettle.tui.widgets.help import Explanation

        if isinstance(self.screen, Station) and not is_too_small(self.size):
            self.push_screen(Explanation(self._explained(self.screen)))

    @staticmethod
    def _explained(shown: Station) -> str:
        from zinc_kettle.present.figure_help import figure_help

        found = shown.figure()
        words = f"{shown.help_text()}\n\n## Keys\n\n{key_list(shown.FOLDER.name)}"
        return words if found is None else f"{figure_help(*found)}\n\n---\n\n{words}"

    def explain_measure(self, name: str) -> None:
        """Explain a measure, wherever one is."""
        from zinc_kettle.present.figure_help import figure_help
        from zinc_kettle.tui.widgets.help import Explanation

        if not is_too_small(self.size):
            self.push_screen(Explanation(figure_help(name)))

    def action_settings(self) -> None:
        """Show what is set."""
        from zinc_kettle.tui.screens.settings.screen import SettingsScreen

        if not isinstance(self.screen, SettingsScreen) and isinstance(self.screen, Station):
            self.push_screen(SettingsScreen())

    def wear(self, name: str) -> None:
        """Look as the person has set it."""
        self.theme = LIGHT.name if name == "light" else DARK.name
        self._redraw()

    def action_light(self) -> None:
        """Change the theme; drawings follow."""
        self.theme = DARK.name if self.theme == LIGHT.name else LIGHT.name
        self._redraw()

    def _redraw(self) -> None:
        if isinstance(self.screen, Station):
            self.screen.redraw()

    # running
    def start_run(self) -> None:
        """Measure what is missing of the open study; a measured one gets a new run beside the old one."""
        results = self.results
        if results is None:
            return
        if self.runner.active:
            self.notify("It is already running; s stops it.")
            return
        if self.services.serving.served is not None:
            self.notify("An engine serves other programs, and would disturb what is measured: s on a cell ends it.")
            return
        try:
            self.runner.start(partial(self.services.studies.experiment, results), self.services.studies.open_run)
        except KettleError as error:
            self.notify(str(error), title="The run cannot begin", severity="error", timeout=20)
            return
        if results.run.state == "measured":
            self.notify("This is a new run of the study; the earlier one stays on the shelf.")
        self._redraw()

    def stop_run(self) -> None:
        """Stop the run cleanly."""
        if not self.runner.active:
            state = self.run_state
            elsewhere = state is not None and state.active and state.elsewhere
            self.notify(
                "It is measured in another terminal: p pauses it, b ends it after this block."
                if elsewhere
                else "Nothing is running."
            )
            return
        self.runner.stop()
        self._redraw()

    def steer(self, wish: type[Decision], levels: Mapping[str, Level], count: int = 0, text: str = "") -> None:
        """Enter a decision into the log of the open run, and show what it changes."""
        from zinc_kettle.core.run.decisions import Decision

        results = self.results
        if results is None or not results.run.run_id:
            self.notify("There is no run to steer yet. Press r to run this study.")
            return
        try:
            found = self.services.studies.steer(results, wish, levels, count, text)
            if not isinstance(found, Decision):
                self.refuse(found)
                return
            self.runner.results = self.services.studies.open_run(results.run.run_id)
        except KettleError as error:
            self.notify(str(error), severity="error", timeout=12)
            return
        said = found.told
        running = self.runner.active or results.run.state == "running"
        later = "" if running else " This holds when the run is taken up again (r)."
        self.notify(f"{capitalised(said)}.{later}")
        self._redraw()

    def refuse(self, problem: Problem) -> None:
        """Say what is wrong with something a person asked for."""
        words = ". ".join(part for part in (problem.why, problem.remedy and f"Try: {problem.remedy}") if part)
        self.notify(words or problem.what, title=problem.what, severity="warning", timeout=8)

    def run_changed(self) -> None:
        """Cells of the running study have changed."""
        self.call_later(self._cells_changed)

    def _cells_changed(self) -> None:
        if isinstance(self.screen, Station):
            self.screen.cells_changed()

    def run_ended(self, error: BaseException | None) -> None:
        """The run has ended."""
        self.call_later(self._tell_end, error)

    def _tell_end(self, error: BaseException | None) -> None:
        state = self.run_state
        if error is not None:
            said = str(error) if isinstance(error, KettleError) else f"{type(error).__name__}: {error}"
            self.notify(said, title="The run ended early", severity="error", timeout=20)
        elif state is not None and state.ended == "measured":
            self.notify("Measured. e writes the charts, enter opens a cell.", title="Done")
        elif state is not None and state.failed and not state.stopping:
            self.notify(
                "Some repeats failed, and failed again; r tries them once more.", severity="warning", timeout=20
            )
        self._redraw()

    async def action_leave(self) -> None:
        """Stop what runs, then leave."""
        if self._leaving:
            return
        self._leaving = True
        if self.runner.active:
            self.notify("Stopping; everything measured is kept.")
            await self.runner.stopped(STOP_LIMIT_S)
        with contextlib.suppress(TimeoutError):
            await asyncio.wait_for(self.services.close(), STOP_LIMIT_S)
        self.exit(0)
