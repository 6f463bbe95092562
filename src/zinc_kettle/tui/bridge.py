"""What the screen needs of the rest of the tool, and what stations need of the app."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol, cast

if TYPE_CHECKING:
    from textual.screen import Screen

    from zinc_kettle.core.fit.sizing import Wish
    from zinc_kettle.core.plan import Study
    from zinc_kettle.core.record import StudyRecord
    from zinc_kettle.core.rig import Rig
    from zinc_kettle.present.fit_view import FitRow
    from zinc_kettle.present.view import StudyView
    from zinc_kettle.session.progress import Ended, Event
    from zinc_kettle.tui.run_state import RunState


@dataclass(frozen=True)
class ShelfEntry:
    """A line of the shelf: a study that is kept, or a study file that is ready."""

    key: str
    """Study id, or the path of the file."""
    question: str
    state: str
    answer: str
    where: str
    when: str
    ready: bool = False
    """True for a study file that has not been run."""
    simulated: bool = False
    trouble: str = ""
    """What is wrong with a study file that cannot be used."""


class Running(Protocol):
    """An experiment about to run."""

    async def run(self) -> Ended:
        """Run to the end; cancelling stops cleanly."""
        ...


class Desk(Protocol):
    """The rest of the tool, as the screen sees it."""

    def shelf(self) -> list[ShelfEntry]:
        """All studies, those that are ready first."""
        ...

    def open(self, entry: ShelfEntry) -> StudyRecord:
        """A study whole, or planned from its file."""
        ...

    def load(self, study_id: str) -> StudyRecord:
        """A kept study whole."""
        ...

    def sizes(self, study: Study) -> dict[int, float | None]:
        """Size of the model file of each cell."""
        ...

    def experiment(self, record: StudyRecord, emit: Callable[[Event], None]) -> Running:
        """What would measure the study here."""
        ...

    def rigs(self) -> list[Rig]:
        """All rigs with what is known of them, this machine first."""
        ...

    async def gather_rig(self, name: str) -> Rig:
        """Ask a rig for its facts and who uses it."""
        ...

    async def probe_rig(self, name: str) -> Rig:
        """Measure what a rig can do."""
        ...

    async def ready_rig(self, name: str) -> Rig:
        """A rig of which enough is known to fit models on it; asked where it is not."""
        ...

    def type_fact(self, name: str, text: str) -> Rig:
        """Keep a typed fact: `bandwidth = 51.2 GB/s, data sheet`."""
        ...

    def fit(self, name: str, wish: Wish, threads: int) -> list[FitRow]:
        """What fits on a rig; answers at once after the first time."""
        ...

    def predicted(self, study: Study) -> dict[int, FitRow]:
        """What is predicted of each cell; nothing for cells of which too little is known."""
        ...

    def add_note(self, study_id: str, cell: int | None, text: str) -> None:
        """Keep a note."""
        ...

    async def export(self, study_id: str, measure: str) -> list[Path]:
        """Write the charts of a study as SVG and PDF, in a process of their own."""
        ...

    async def close(self) -> None:
        """Let go of rigs that were asked."""
        ...


class Host(Protocol):
    """The app, as stations see it."""

    desk: Desk
    view: StudyView | None
    run_state: RunState | None
    measure: str
    rig: str
    """Name of the rig that Rigs and Fit show."""
    rig_count: int
    """How many rigs there are, once they were looked at."""

    def open_study(self, entry: ShelfEntry) -> None:
        """Go to the map of a study."""
        ...

    def open_cell(self, index: int) -> None:
        """Go to the sheet of a cell."""
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
