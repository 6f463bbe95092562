"""The map of a study: planned, filling, measured."""

from __future__ import annotations

import asyncio
import contextlib
import time

from rich.text import Text
from textual.app import ComposeResult
from textual.containers import Horizontal, Vertical, VerticalScroll
from textual.widgets import Digits, Footer, Input, Static

from zinc_kettle.core.checks.steering import place_of
from zinc_kettle.core.compare.cells import Ranking, best_beside
from zinc_kettle.core.grid import Axes, axes_choices, grid_of
from zinc_kettle.core.measures import MAP_MEASURES, MEASURES
from zinc_kettle.core.plan.factors import HERE
from zinc_kettle.core.plan.study import rigs_of
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.core.run.budget import launches
from zinc_kettle.errors import KettleError
from zinc_kettle.present.planned import Planned, planned_cells, whole_seconds
from zinc_kettle.present.table import plan_line, results_text
from zinc_kettle.present.values import bounds_text, value_text
from zinc_kettle.tui.actions import bindings
from zinc_kettle.tui.chooser import Choice
from zinc_kettle.tui.draw.map_page import MapSubject
from zinc_kettle.tui.host import host
from zinc_kettle.tui.screens.map.digest import Digest, digest
from zinc_kettle.tui.screens.map.lane import beside, lane, legend, progress
from zinc_kettle.tui.screens.map.steering import Steering
from zinc_kettle.tui.widgets.map_view import MapView
from zinc_kettle.tui.widgets.station_line import Stations
from zinc_kettle.tui.widgets.table_page import TablePage

LEGEND_WIDTH = 80
"""Before the layout is known."""
REDRAWS_PER_S = 2
"""While a study runs the screen must cost little: each redraw takes processor time from the engine."""
AT_ONCE = 200
"""Cells of a study whose answer and findings are found within a redraw; those of a larger one are found in a thread,
while the screen shows the last ones."""
REST = 4.0
"""How much longer that thread rests than it has worked: what it takes is taken from the engine."""


class MapScreen(Steering):
    """Shows the open study, and runs it."""

    BINDINGS = bindings("map")
    AUTO_FOCUS = "#map"

    def __init__(self) -> None:
        super().__init__()
        self._part = 0
        self._axes = 0
        """Which pair of factors spans the map, of those it may be spanned by."""
        self._digest = Digest()
        self._digesting = False
        self._stale = False
        self._soon = asyncio.Event()
        self._said: dict[str, Text] = {}
        self._planned: dict[str, Planned] = {}
        self._plan = ""
        self._trouble = ""
        self._planned_of: object = None

    def widgets(self) -> ComposeResult:
        """Question, map and lane, progress, footer."""
        yield Stations("map")
        yield Static(id="question")
        yield Static(id="measure")
        with Horizontal(id="body"):
            with Vertical(id="left"):
                yield MapView()
                yield Static(id="legend")
            with VerticalScroll(id="side", can_focus=False):
                yield Static(id="lane")
                with Horizontal(id="headline"):
                    yield Digits("", id="number")
                    yield Static(id="unit")
                yield Static(id="findings")
        yield Static(id="progress")
        yield Input(id="line")
        yield Footer()

    def on_mount(self) -> None:
        """Redraw slowly while something runs; the line stays away until it is wanted."""
        self.query_one("#line", Input).display = False
        self.redraw()
        self.set_interval(1 / REDRAWS_PER_S, self._tick)
        self.work(self._predict(), group="predict", exclusive=False)

    async def _predict(self) -> None:
        """Before anything was measured: learn what is needed to say what fits here and how fast it may run."""
        results = self.results
        if results is None or results.done_repeats or results.study.endpoint is not None:
            return
        for name in rigs_of(results.study) or [HERE]:
            with contextlib.suppress(KettleError):
                await host(self).services.rigs.ready(name)
        await asyncio.to_thread(self._learn, results)
        if self.stands:
            self.redraw()

    def _learn(self, results: StudyResults) -> None:
        """Sizes, predictions and the length of what is still to be measured."""
        services, study = host(self).services, results.study
        self._planned = planned_cells(study, services.studies.sizes(study), services.studies.predicted(study))
        self._plan = plan_line(results, launches(study), whole_seconds(study, self._planned)) + "."
        self._planned_of = study

    def on_screen_resume(self) -> None:
        """Coming back from a sheet."""
        self.redraw()

    def on_resize(self) -> None:
        """Lines are drawn to the width."""
        self.call_after_refresh(self.redraw)

    @property
    def results(self) -> StudyResults | None:
        """The open study."""
        return host(self).results

    def _tick(self) -> None:
        run = host(self).run_state
        if run is not None and run.active and self.is_current and self.stands:
            self._draw_run()

    def draw(self) -> None:
        """Draw everything."""
        results, p = self.results, self.palette
        if results is None:
            return
        if _at_once(results):
            if not results.done_repeats and self._planned_of is not results.study:
                self._learn(results)
            self._digest = digest(results, host(self).measure)
        else:
            self._digest_later()
        self._say("question", Text(results.study.question, f"bold {p.ink}"))
        below = self.query_one("#legend", Static)
        self._say("legend", legend(p, below.content_size.width or LEGEND_WIDTH))
        self._draw_digest(results)
        self._draw_run()
        self.query_one(Stations).show(p)

    def cells_changed(self) -> None:
        """A repeat has ended: what stands beside a large map follows when it has been found."""
        results = self.results
        if results is None or _at_once(results):
            self.redraw()
            return
        self._digest_later(soon=False)
        self.query_one(MapView).show(self._subject(results))

    def _say(self, name: str, text: Text) -> None:
        """Show a text, where it is not shown already: laying the screen out is most of what a redraw costs."""
        shown = self._said.get(name)
        if shown is None or shown != text or shown.style != text.style:
            self._said[name] = text
            self.query_one(f"#{name}", Static).update(text)

    def _draw_digest(self, results: StudyResults) -> None:
        """What follows from all cells: what the figures are, the best value, the findings, the map's shades."""
        self.query_one(MapView).show(self._subject(results))
        self._say("measure", Text(self._digest.line, self.palette.muted))
        self._headline()
        plan = "" if results.done_repeats else self._plan
        said = beside(results, self._digest, plan, self.palette, running=self._measuring)
        self._say("findings", Text(self._trouble, self.palette.failure) if self._trouble else said)

    def gave_up(self, said: str) -> None:
        """In place of what was found."""
        self._trouble = said

    def _digest_later(self, *, soon: bool = True) -> None:
        """Find the answer in a thread, one at a time; what came meanwhile is looked at after it.

        Args:
            soon: A person waits for it; else the thread may rest first.
        """
        self._stale = True
        if soon:
            self._soon.set()
        if not self._digesting:
            self._digesting = True
            self.work(self._digest_now(), group="digest", exclusive=False)

    async def _digest_now(self) -> None:
        try:
            while self._stale and self.stands and self.results is not None:
                self._stale = False
                self._soon.clear()
                results, begun = self.results, time.monotonic()
                self._digest = await asyncio.to_thread(digest, results, host(self).measure)
                self._trouble = ""
                if self.stands and self.results is results:
                    self._draw_digest(results)
                with contextlib.suppress(TimeoutError):
                    await asyncio.wait_for(self._soon.wait(), REST * (time.monotonic() - begun))
        finally:
            self._digesting = False

    def _headline(self) -> None:
        """The one number that matters: the best value, large."""
        p, rank, measure = self.palette, self._digest.rank, self._digest.measure
        limit = self._digest.limit
        self.query_one("#headline").display = rank.best is not None or limit is not None
        if limit is not None:
            number, counts, bounds = limit
            self.query_one("#number", Digits).update(number)
            words = Text(f"{counts}\n", f"bold {p.ink}")
            words.append(bounds, p.ink)
            self.query_one("#unit", Static).update(words)
        elif rank.best is not None:
            figure = rank.best.value(measure)
            text, unit = value_text(figure)
            self.query_one("#number", Digits).update(text)
            words = Text(f"{unit}\n", f"bold {p.ink}")
            words.append(f"{bounds_text(figure)}\n", p.ink)
            where = f"\n{rank.best.title}" if len(rank.bests) > 1 else ""
            words.append(f"best {MEASURES[measure].title}{where}", p.muted)
            self.query_one("#unit", Static).update(words)

    def _draw_run(self) -> None:
        results, run, p = self.results, host(self).run_state, self.palette
        if results is None:
            return
        active = run is not None and run.active
        panel = self.query_one("#lane", Static)
        panel.display = active
        if run is not None and active:
            panel.update(lane(results, run, max(20, panel.content_size.width or 34), p))
            self.query_one(MapView).mark_running(run.cell)
        self.query_one("#progress", Static).update(progress(results, run, self.size.width - 2, p), layout=False)

    def _subject(self, results: StudyResults) -> MapSubject:
        run, measure = host(self).run_state, host(self).measure
        running = run.cell if run is not None and run.active else None
        rank = self._digest.rank if self._digest.measure == measure else Ranking()
        return MapSubject(
            results,
            measure,
            self.palette,
            self._part,
            rank,
            self._planned,
            running,
            self._by(results),
            host(self).further,
        )

    @property
    def _measuring(self) -> bool:
        run = host(self).run_state
        return run is not None and run.active

    def _by(self, results: StudyResults) -> Axes:
        choices = axes_choices(results.study)
        return choices[self._axes % len(choices)]

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """The footer has no room for a key that does nothing here."""
        if action == "next_slice":
            return self.results is not None and self.stands and not self.query_one(MapView).whole
        if action == "swap_axes":
            return self.results is not None and len(axes_choices(self.results.study)) > 1
        return super().check_action(action, parameters)

    def show_cell(self, key: str) -> None:
        """Stand on a cell."""
        self.query_one(MapView).choose(key)

    def clipboard_text(self) -> str:
        """The question, every cell with its figures, the answer and what was found."""
        results = self.results
        return "" if results is None else results_text(results)

    # actions
    def figure(self) -> tuple[str, CellResults | None] | None:
        """The measure the map shows, in the selected cell."""
        results, chosen = self.results, self.query_one(MapView).chosen
        here = results.cell(chosen) if results is not None and chosen is not None and results.run.run_id else None
        return host(self).measure, here

    def action_run(self) -> None:
        """Measure what is missing."""
        host(self).start_run()

    def action_stop(self) -> None:
        """Stop, keeping everything."""
        host(self).stop_run()

    def action_open_cell(self) -> None:
        """Open the chosen cell."""
        chosen = self.query_one(MapView).chosen
        if chosen is not None:
            host(self).open_cell(chosen)

    def action_finding(self, place: int) -> None:
        """Go to the cell where a finding is seen; once more opens it, or the duel of the two sides it compares."""
        found, view, results = self._digest.findings, self.query_one(MapView), self.results
        if results is None or place >= len(found) or not found[place].cell:
            return
        if view.chosen == found[place].cell:
            if found[place].sides and results.run.run_id:
                host(self).open_duel([place_of(results, levels) for levels in found[place].sides])
            else:
                self.action_open_cell()
        view.choose(found[place].cell)

    def action_answers(self) -> None:
        """Read the answers of the chosen cell and of those beside it."""
        chosen, results = self.query_one(MapView).chosen, self.results
        if results is None or chosen is None or not results.done_repeats:
            self.notify("There are no answers yet.")
            return
        host(self).open_answers([chosen, *(c.cell.key for c in results.cells if c.done and c.cell.key != chosen)])

    def on_map_view_opened(self, _event: MapView.Opened) -> None:
        """A second click on a cell."""
        self.action_open_cell()

    def action_next_measure(self) -> None:
        """Show the next measure."""
        host(self).next_measure()
        self.redraw()

    def action_next_slice(self) -> None:
        """Show the next slice."""
        if self.results is not None:
            self._part = (self._part + 1) % len(grid_of(self.results, self._by(self.results)).slices)
            self.redraw()

    def action_swap_axes(self) -> None:
        """Span the map by other factors: first the same two swapped."""
        if self.results is not None:
            self._axes, self._part = self._axes + 1, 0
            self.redraw()

    def action_table(self) -> None:
        """The cells as a table, several measures beside each other."""
        results = self.results
        if results is None or not results.run.run_id:
            self.notify("There is nothing measured yet.")
            return

        def chosen(key: str | None) -> None:
            if key is not None and self.results is results:
                self.query_one(MapView).choose(key)
                self.action_open_cell()

        self.app.push_screen(TablePage(results), chosen)

    def action_further_measure(self) -> None:
        """Choose a measure that large cells show besides; the two chosen last are shown."""
        app = host(self)
        choices = [Choice(name, MEASURES[name].title, MEASURES[name].meaning) for name in MAP_MEASURES]

        def chosen(name: str) -> None:
            app.further = (name, *(other for other in app.further if other != name))[:2]
            self.redraw()

        self.choose("Which measure is to stand below the value in large cells?", choices, chosen)

    def action_compare(self) -> None:
        """Hold the chosen cell against the best."""
        results, chosen = self.results, self.query_one(MapView).chosen
        if results is None or chosen is None or not results.run.run_id:
            self.notify("There is nothing to compare yet.")
            return
        best = best_beside(results, self._digest.rank, results.cell(chosen))
        rungs = [results.cell(key).cell for key in (best.cell.key, chosen)]
        host(self).open_duel([place_of(results, cell.levels) for cell in rungs])

    async def _export(self) -> None:
        results = self.results
        if results is None or not results.run.run_id or not results.done_repeats:
            self.notify("There is nothing to draw yet. Press r to run the study.", severity="warning")
            return
        self.notify("Drawing …", timeout=2)
        try:
            written = await host(self).services.exports.charts(results.run.run_id, host(self).measure)
        except KettleError as error:
            self.notify(str(error), title="The charts were not written", severity="error")
            return
        names = "\n".join(str(path) for path in written)
        self.notify(names, title=f"Exported {len(written)} charts", timeout=8)

    def action_side_down(self) -> None:
        """Scroll what stands beside the map."""
        self.query_one("#side", VerticalScroll).scroll_page_down(animate=False)

    def action_side_up(self) -> None:
        """Scroll it back."""
        self.query_one("#side", VerticalScroll).scroll_page_up(animate=False)

    def action_back(self) -> None:
        """Leave the line, or go back where one came from."""
        if not self.close_line():
            host(self).back("shelf")


def _at_once(results: StudyResults) -> bool:
    """True where all that is said of a study is found within a redraw: few cells, and no search for a limit."""
    return len(results.cells) <= AT_ONCE and not results.study.capacity.factor
