"""The application, as stations see it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol, cast

if TYPE_CHECKING:
    from textual.screen import Screen

    from zinc_kettle.app.services import Services
    from zinc_kettle.app.views import OpenPlan, ShelfEntry
    from zinc_kettle.core.compare.sides import Side
    from zinc_kettle.core.plan.factors import Level
    from zinc_kettle.core.plan.study import Cell
    from zinc_kettle.core.problem import Problem
    from zinc_kettle.core.results import StudyResults
    from zinc_kettle.core.run.decisions import Decision
    from zinc_kettle.tui.run_state import RunState


class Host(Protocol):
    """The app, as stations see it."""

    services: Services
    rig_count: int
    """How many rigs there are, once they were looked at."""
    measure: str
    further: tuple[str, ...]
    """Measures that large cells of the map show besides."""
    rig: str
    """Name of the rig that Rigs and Fit show."""
    plan: OpenPlan | None
    """The plan that is being edited."""
    rungs: tuple[str, ...]
    """Names of the sides Duel shows; three or more are a ladder."""

    @property
    def results(self) -> StudyResults | None:
        """The open study."""
        ...

    @property
    def run_state(self) -> RunState | None:
        """The run, where there is or was one."""
        ...

    def open_study(self, entry: ShelfEntry, run: int = 0) -> None:
        """Go to the map of a study."""
        ...

    def plan_from(self, start: str, hold: Mapping[str, str]) -> None:
        """Go to Plan with a new plan from one of its beginnings; `ask` lets the person choose it."""
        ...

    def plan_change(self, cell: Cell, changes: Mapping[str, Level]) -> None:
        """Go to Plan with a copy of the open study in which a cell's settings, by role, are changed."""
        ...

    def wear(self, name: str) -> None:
        """Look dark or light."""
        ...

    def next_measure(self) -> None:
        """The measure after the one that is shown."""
        ...

    def measure_file(self, file: Path) -> None:
        """Measure a study file."""
        ...

    def steer(self, wish: type[Decision], levels: Mapping[str, Level], count: int = 0, text: str = "") -> None:
        """Enter a decision into the log of the open run, and show what it changes."""
        ...

    def refuse(self, problem: Problem) -> None:
        """Say what is wrong with something a person asked for."""
        ...

    def open_cell(self, key: str) -> None:
        """Go to the sheet of a cell."""
        ...

    def open_duel(self, rungs: Sequence[str]) -> None:
        """Go to Duel with these sides, by their names; three or more are a ladder."""
        ...

    def open_results(self, side: Side) -> None:
        """Go to the map of a side's run, on its first cell."""
        ...

    def copy(self, text: str) -> None:
        """Copy a text to the clipboard, and keep it in a file where the terminal has none."""
        ...

    def more_repeats(self, sides: Sequence[Side], count: int) -> None:
        """Enter further repeats of the cells of some sides into the logs of their runs."""
        ...

    def explain_measure(self, name: str) -> None:
        """Explain a measure, wherever one is."""
        ...

    def open_answers(self, keys: Sequence[str]) -> None:
        """Go to the reader, with the answers of these cells beside each other."""
        ...

    def back(self, otherwise: str) -> None:
        """To the station one came from; where that is not known, to another one."""
        ...

    def go(self, station: str) -> None:
        """Go to a station."""
        ...

    def start_run(self) -> None:
        """Measure what is missing of the open study."""
        ...

    def stop_run(self) -> None:
        """Stop, keeping everything."""
        ...


def host(screen: Screen[Any]) -> Host:
    """The app a station is in."""
    return cast(Host, screen.app)
