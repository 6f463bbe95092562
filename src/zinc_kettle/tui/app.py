"""The application: connects stations, keeps the open study, runs experiments in its own event loop."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

from textual.app import App, SystemCommand
from textual.screen import Screen
from textual.worker import Worker, WorkerState

from zinc_kettle.core.factors import HERE
from zinc_kettle.errors import KettleError
from zinc_kettle.tui.actions import ACTIONS, bindings
from zinc_kettle.tui.bridge import Desk, ShelfEntry
from zinc_kettle.tui.screens.shelf.screen import ShelfScreen
from zinc_kettle.tui.station import Station
from zinc_kettle.tui.theme import DARK, LIGHT, theme

if TYPE_CHECKING:
    from zinc_kettle.present.view import StudyView
    from zinc_kettle.session.progress import Event
    from zinc_kettle.tui.run_state import RunState

STOP_LIMIT_S = 8.0


class KettleApp(App[int]):
    """Zinc Kettle's screen."""

    TITLE = "Zinc Kettle"
    BINDINGS = bindings("everywhere")
    ENABLE_COMMAND_PALETTE = True
    HORIZONTAL_BREAKPOINTS = [(0, "-narrow"), (124, "-wide")]  # noqa: RUF012

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self.view: StudyView | None = None
        self.run_state: RunState | None = None
        self.measure = "decode"
        self.rig = HERE
        self.rig_count = 0
        self._worker: Worker[None] | None = None
        self._leaving = False

    def on_mount(self) -> None:
        """Themes, then the shelf."""
        for palette in (DARK, LIGHT):
            self.register_theme(theme(palette))
        self.theme = DARK.name
        self.push_screen(ShelfScreen())

    def get_system_commands(self, screen: Screen[Any]) -> Iterable[SystemCommand]:
        """The palette: our table of actions, no more."""
        for action in ACTIONS:
            owner = self if action.place == "everywhere" else screen
            method = getattr(owner, f"action_{action.id}", None)
            if method is not None:
                yield SystemCommand(action.title, action.help, method)

    # stations
    def action_shelf(self) -> None:
        """To the shelf."""
        while len(self.screen_stack) > 2:
            self.pop_screen()

    def action_rigs(self) -> None:
        """To the machines."""
        from zinc_kettle.tui.screens.rigs.screen import RigsScreen

        self._station(RigsScreen)

    def action_fit(self) -> None:
        """To what fits on the chosen one."""
        from zinc_kettle.tui.screens.fit.screen import FitScreen

        self._station(FitScreen)

    def _station(self, kind: type[Station]) -> None:
        """To a station above the shelf; one that is open already is kept as it stands."""
        if isinstance(self.screen, kind):
            return
        while len(self.screen_stack) > 2 and not isinstance(self.screen, kind):
            self.pop_screen()
        if not isinstance(self.screen, kind):
            self.push_screen(kind())

    def action_map(self) -> None:
        """To the map of the open study."""
        from zinc_kettle.tui.screens.map.screen import MapScreen

        if self.view is None:
            self.notify("Open a study on the shelf first: choose one and press enter.")
            return
        self._station(MapScreen)

    def open_study(self, entry: ShelfEntry) -> None:
        """Open a study from the shelf."""
        from zinc_kettle.present.view import StudyView
        from zinc_kettle.present.words import main_measure

        try:
            record = self.desk.open(entry)
        except KettleError as error:
            self.notify(str(error), title="The study cannot be opened", severity="error", timeout=12)
            return
        running = self.run_state is not None and self.run_state.active
        if running and (self.view is None or record.study_id != self.view.record.study_id):
            self.notify("A study is running; stop it before opening another one.", severity="warning")
        else:
            if not running:
                self.run_state = None
                self.view = StudyView(record)
                self.measure = main_measure(record.study)
            self.action_map()

    def open_cell(self, index: int) -> None:
        """Open a cell's sheet."""
        from zinc_kettle.tui.screens.cell.screen import CellScreen

        self.push_screen(CellScreen(index))

    def action_explain(self) -> None:
        """Explain the station we are in."""
        from zinc_kettle.tui.widgets.help import Explanation

        if isinstance(self.screen, Station):
            self.push_screen(Explanation(self.screen.HELP_FILE.read_text(encoding="utf-8")))

    def action_light(self) -> None:
        """Change the theme; drawings follow."""
        self.theme = DARK.name if self.theme == LIGHT.name else LIGHT.name
        self._redraw()

    def _redraw(self) -> None:
        if isinstance(self.screen, Station):
            self.screen.redraw()

    # running
    def start_run(self) -> None:
        """Measure what is missing of the open study."""
        from zinc_kettle.tui.run_state import RunState

        if self.view is None:
            return
        if self.run_state is not None and self.run_state.active:
            self.notify("It is running already; s stops it.")
            return
        if self.view.record.state == "measured":
            self.notify("This study is measured. Its file runs it anew: zinc-kettle run FILE.")
            return
        self.run_state = RunState()
        experiment = self.desk.experiment(self.view.record, self._on_event)

        async def work() -> None:
            await experiment.run()

        self._worker = self.run_worker(work(), name="run", group="run", exclusive=True, exit_on_error=False)
        self._redraw()

    def stop_run(self) -> None:
        """Stop the run cleanly."""
        if self._worker is None or self.run_state is None or not self.run_state.active:
            self.notify("Nothing is running.")
            return
        self.run_state.stopping = True
        self._worker.cancel()
        self._redraw()

    def _on_event(self, event: Event) -> None:
        from zinc_kettle.core.record import RepeatRecord
        from zinc_kettle.present.view import StudyView
        from zinc_kettle.session import progress as p

        assert self.run_state is not None
        self.run_state.take(event)
        if isinstance(event, p.Began):
            self.view = StudyView(self.desk.load(event.study_id))
            self._redraw()
        elif isinstance(event, p.RepeatEnded) and self.view is not None:
            self.view.add(RepeatRecord(event.cell, "measured", event.repeat, facts=event.facts))
            self._redraw()
        elif isinstance(event, p.RepeatFailed) and self.view is not None:
            self.view = StudyView(self.desk.load(self.view.record.study_id))
            self._redraw()

    def on_worker_state_changed(self, event: Worker.StateChanged) -> None:
        """The run has ended: by itself, by us, or by an error."""
        if event.worker is not self._worker or event.state not in (
            WorkerState.SUCCESS, WorkerState.ERROR, WorkerState.CANCELLED,
        ):  # fmt: skip
            return
        from zinc_kettle.present.view import StudyView

        if self.run_state is not None and not self.run_state.ended:
            self.run_state.ended = "stopped"
        error = event.worker.error
        if event.state is WorkerState.ERROR and error is not None:
            self.notify(str(error), title="The run has ended early", severity="error", timeout=20)
        if self.view is not None and self.view.record.study_id:
            with contextlib.suppress(KettleError):
                self.view = StudyView(self.desk.load(self.view.record.study_id))
        if event.state is WorkerState.SUCCESS:
            self.notify("Measured. e writes the charts, enter opens a cell.", title="Done")
        self._redraw()

    async def action_leave(self) -> None:
        """Stop what runs, then leave."""
        if self._leaving:
            return
        self._leaving = True
        worker = self._worker
        if worker is not None and self.run_state is not None and self.run_state.active:
            self.notify("Stopping; everything measured is kept.")
            self.run_state.stopping = True
            worker.cancel()
            with contextlib.suppress(Exception, asyncio.CancelledError):
                await asyncio.wait_for(worker.wait(), STOP_LIMIT_S)
        with contextlib.suppress(TimeoutError):
            await asyncio.wait_for(self.desk.close(), STOP_LIMIT_S)
        self.exit(0)
