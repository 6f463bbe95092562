"""The map of a study: planned, filling, measured."""

from __future__ import annotations

import contextlib
from pathlib import Path

from rich.text import Text
from textual.app import ComposeResult
from textual.containers import Horizontal, Vertical, VerticalScroll
from textual.widgets import Digits, Footer, Static

from zinc_kettle.core.budget import guess_cell_s, launches, time_left_s
from zinc_kettle.core.catalogue import MAP_MEASURES, MEASURES
from zinc_kettle.core.factors import HERE
from zinc_kettle.core.plan import order, rigs_of
from zinc_kettle.errors import KettleError
from zinc_kettle.present.figure import measure_line
from zinc_kettle.present.fit_view import FitRow, speeds_of
from zinc_kettle.present.table import plan_line
from zinc_kettle.present.view import Grid, StudyView
from zinc_kettle.present.words import best, bounds_text, value_text
from zinc_kettle.tui.actions import bindings
from zinc_kettle.tui.bridge import host
from zinc_kettle.tui.draw.heatmap import Look
from zinc_kettle.tui.screens.map.lane import knowing, lane, legend, progress
from zinc_kettle.tui.station import Station
from zinc_kettle.tui.widgets.map_view import MapView
from zinc_kettle.tui.widgets.stations import Stations

LEGEND_WIDTH = 80
"""Before the layout is known."""
REDRAWS_PER_S = 2
"""While a study runs the screen must cost little: each redraw takes processor time from the engine."""


class MapScreen(Station):
    """Shows the open study, and runs it."""

    BINDINGS = bindings("map")
    CSS_PATH = Path(__file__).parent / "screen.tcss"
    HELP_FILE = Path(__file__).parent / "help.md"
    AUTO_FOCUS = "#map"

    def __init__(self) -> None:
        super().__init__()
        self._slice = 0
        self._sizes: dict[int, float | None] = {}
        self._sizes_of = ""
        self._predicted: dict[int, FitRow] = {}

    def compose(self) -> ComposeResult:
        """Question, map and lane, progress, footer."""
        yield Stations("Map")
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
                yield Static(id="knowing")
        yield Static(id="progress")
        yield Footer()

    def on_mount(self) -> None:
        """Redraw slowly while something runs."""
        self.redraw()
        self.set_interval(1 / REDRAWS_PER_S, self._tick)
        self.run_worker(self._predict(), group="predict", exit_on_error=False)

    async def _predict(self) -> None:
        """Before anything was measured: learn what is needed to say what fits here and how fast it may run."""
        view = self.view
        if view is None or view.done_repeats or view.study.endpoint is not None:
            return
        for name in rigs_of(view.study) or [HERE]:
            with contextlib.suppress(KettleError):
                await host(self).desk.ready_rig(name)
        if self.is_attached:
            self._sizes_of = ""
            self.redraw()

    def on_screen_resume(self) -> None:
        """Coming back from a sheet."""
        self.redraw()

    def on_resize(self) -> None:
        """Lines are drawn to the width."""
        self.call_after_refresh(self.redraw)

    @property
    def view(self) -> StudyView | None:
        """The open study."""
        return host(self).view

    def _tick(self) -> None:
        run = host(self).run_state
        if run is not None and run.active and self.app.screen is self:
            self._draw_run()

    def redraw(self) -> None:
        """Draw everything."""
        view, p = self.view, self.palette
        if view is None:
            return
        self.query_one("#question", Static).update(Text(view.study.question, f"bold {p.ink}"))
        line = measure_line(view, host(self).measure)
        grid = view.grid()
        where = "" if len(grid.slices) < 2 else f" · {self._slice_title(grid)}"
        self.query_one("#measure", Static).update(Text(line + where, p.muted))
        below = self.query_one("#legend", Static)
        below.update(legend(p, below.content_size.width or LEGEND_WIDTH))
        self._headline(view)
        plan = "" if view.done_repeats else self._plan(view)
        self.query_one("#knowing", Static).update(knowing(view, host(self).measure, plan, p))
        self._draw_run()
        self.query_one(MapView).show(grid, self._look(view), self._slice)
        self.query_one(Stations).show(p)

    def _plan(self, view: StudyView) -> str:
        """Size and length of the study, in a sentence."""
        runs = order(view.study)
        seconds = time_left_s(view.study, view.plan, runs, model_bytes=self._model_sizes(view), seen_s={},
                              speeds=speeds_of(self._predicted))  # fmt: skip
        return plan_line(view, launches(view.study, view.plan, runs), seconds) + "."

    def _model_sizes(self, view: StudyView) -> dict[int, float | None]:
        if self._sizes_of != view.study.name + view.record.study_id:
            self._sizes = host(self).desk.sizes(view.study)
            self._predicted = host(self).desk.predicted(view.study)
            self._sizes_of = view.study.name + view.record.study_id
        return self._sizes

    def _headline(self, view: StudyView) -> None:
        """The one number that matters: the best value, large."""
        measure, p = host(self).measure, self.palette
        top = best(view, measure)
        self.query_one("#headline").display = bool(top)
        if top:
            text, unit = value_text(top[0].value(measure))
            self.query_one("#number", Digits).update(text)
            words = Text(f"{unit}\n", f"bold {p.ink}")
            words.append(f"{bounds_text(top[0].value(measure))}\n", p.ink)
            words.append(f"best {MEASURES[measure].title}", p.muted)
            self.query_one("#unit", Static).update(words)

    def _draw_run(self) -> None:
        view, run, p = self.view, host(self).run_state, self.palette
        if view is None:
            return
        active = run is not None and run.active
        panel = self.query_one("#lane", Static)
        panel.display = active
        if run is not None and active:
            panel.update(lane(view, run, max(20, panel.content_size.width or 34), p))
            self.query_one(MapView).mark_running(run.cell)
        self.query_one("#progress", Static).update(progress(view, run, self.size.width - 2, p), layout=False)

    def _look(self, view: StudyView) -> Look:
        app, run = host(self), host(self).run_state
        sizes = self._model_sizes(view)
        speeds = speeds_of(self._predicted)
        guesses = {c.index: guess_cell_s(view.study, c, sizes.get(c.index), speeds) for c in view.plan}
        measure = MEASURES[app.measure]
        top = best(view, app.measure)
        alone = top[0].cell.index if top else None
        level = frozenset(c.cell.index for c in top[1:])
        running = run.cell if run is not None and run.active else None
        return Look(
            app.measure, measure.better, self.palette, None, running, alone, level, sizes, guesses, self._predicted
        )

    def _slice_title(self, grid: Grid) -> str:
        slices = grid.slices
        return f"{slices[self._slice % len(slices)].title} (slice {self._slice % len(slices) + 1} of {len(slices)})"

    # actions
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
            host(self).open_cell(chosen.cell.index)

    def on_map_view_opened(self, _event: MapView.Opened) -> None:
        """A second click on a cell."""
        self.action_open_cell()

    def action_next_measure(self) -> None:
        """Show the next measure."""
        app = host(self)
        position = MAP_MEASURES.index(app.measure) if app.measure in MAP_MEASURES else -1
        app.measure = MAP_MEASURES[(position + 1) % len(MAP_MEASURES)]
        self.redraw()

    def action_next_slice(self) -> None:
        """Show the next slice."""
        if self.view is not None:
            self._slice = (self._slice + 1) % len(self.view.grid().slices)
            self.redraw()

    def action_export(self) -> None:
        """Write the charts."""
        self.run_worker(self._export(), exclusive=True, group="export")

    async def _export(self) -> None:
        view = self.view
        if view is None or not view.record.study_id or not view.done_repeats:
            self.notify("There is nothing measured to draw yet. Press r to run the study.", severity="warning")
            return
        self.notify("Drawing …", timeout=2)
        try:
            written = await host(self).desk.export(view.record.study_id, host(self).measure)
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
        """Back to the shelf."""
        self.app.action_shelf()  # type: ignore[attr-defined]
