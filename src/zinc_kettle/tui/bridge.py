"""What the screen needs of the rest of the tool, and what stations need of the app."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol, cast

if TYPE_CHECKING:
    from textual.screen import Screen

    from zinc_kettle.core.decisions import Decision
    from zinc_kettle.core.factors import Level
    from zinc_kettle.core.fit.remedies import Remedy
    from zinc_kettle.core.fit.sizing import Wish as FitWish
    from zinc_kettle.core.health import Check
    from zinc_kettle.core.plan import Cell, Study
    from zinc_kettle.core.preferences import Preferences
    from zinc_kettle.core.problem import Problem
    from zinc_kettle.core.results import StudyResults
    from zinc_kettle.core.rig import Rig
    from zinc_kettle.core.sides import Side
    from zinc_kettle.present.fit_rows import Detail, FitRow
    from zinc_kettle.present.settings import Row
    from zinc_kettle.session.progress import Event
    from zinc_kettle.tui.answering import Answering
    from zinc_kettle.tui.handing import Handing
    from zinc_kettle.tui.planning import OpenPlan, Planner
    from zinc_kettle.tui.run_state import RunState
    from zinc_kettle.tui.runner import Running


@dataclass(frozen=True)
class RunEntry:
    """A run of a study on the shelf."""

    run_id: str
    number: int
    state: str
    when: str
    where: str
    engine: str
    answer: str
    has_answer: bool = False
    """True where the answer names a best cell, or says that there is none."""
    simulated: bool = False


@dataclass(frozen=True)
class ShelfEntry:
    """A line of the shelf: a study, its file where there is one, and its runs, newest first."""

    key: str
    """Unique on the shelf, and the same as long as the study is."""
    question: str
    runs: tuple[RunEntry, ...] = ()
    file: Path | None = None
    """The study file, where one is at hand."""
    about: str = ""
    """What it would measure, for a study without a run."""
    simulated: bool = False
    example: bool = False
    """True for a finished study that came with the tool."""
    trouble: str = ""
    """What is wrong with a study file that cannot be used."""
    origin: str = ""
    """The bundle it came in, where it is somebody else's."""

    @property
    def ready(self) -> bool:
        """True for a study file that has not been run."""
        return not self.runs and not self.trouble


class Desk(Protocol):
    """The rest of the tool, as the screen sees it."""

    def newcomer(self) -> bool:
        """True where the person has nothing here yet; asked before the first paint."""
        ...

    def write_down(self, error: BaseException) -> str:
        """Write an unexpected error into the log; returns where that is."""
        ...

    def checks(self) -> list[Check]:
        """What of this machine can be used; takes a moment."""
        ...

    def shelf(self) -> list[ShelfEntry]:
        """All studies, the one measured last first."""
        ...

    def throw_away(self, entry: ShelfEntry, run: int = 0) -> str:
        """Throw a run, a bundle or a study file away for a month; says what it was."""
        ...

    def take_back(self) -> str:
        """Take back what was thrown away last; empty where nothing was."""
        ...

    def open(self, entry: ShelfEntry, run: int = 0) -> StudyResults:
        """A run of a study, the newest where none is named by its place, or the study planned from its file."""
        ...

    def open_run(self, run_id: str) -> StudyResults:
        """A kept run."""
        ...

    def glance(self, run_id: str) -> list[Event]:
        """The newest signs of a run that is measured in another terminal; none where there are none."""
        ...

    def sizes(self, study: Study) -> dict[str, float | None]:
        """Size of the model file of each cell, by key."""
        ...

    def experiment(self, results: StudyResults, emit: Callable[[Event], None]) -> Running:
        """What would measure the study here: the rest of an unfinished run, or a new run beside a finished one."""
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

    def add_address(self, text: str) -> Rig:
        """Keep an engine that already runs: `desk = http://127.0.0.1:8080, key OFFICE_KEY`."""
        ...

    def fit(self, name: str, wish: FitWish, threads: int, pace: float | None) -> list[FitRow]:
        """What fits on a rig, and keeps a pace; answers at once after the first time."""
        ...

    def fit_detail(self, name: str, row: FitRow, wish: FitWish, rows: Sequence[FitRow], threads: int) -> Detail:
        """What would make a model fit there, and its best quantization."""
        ...

    def preferences(self) -> Preferences:
        """The person's own figures."""
        ...

    def theme(self) -> str:
        """`light` or `dark`, as the person has set it; asked before the first paint."""
        ...

    def settings(self) -> list[Row]:
        """What can be set, with where each value is from, and the folders."""
        ...

    def set_preference(self, key: str, text: str) -> None:
        """Set one of them; an empty text makes it usual again."""
        ...

    def remedies(self, cell: Cell) -> tuple[str, list[Remedy]]:
        """Why a cell does not load, as far as Fit can tell, and what would make it load."""
        ...

    def predicted(self, study: Study) -> dict[str, FitRow]:
        """What is predicted of each cell, by key; nothing for cells of which too little is known."""
        ...

    def add_note(self, run_id: str, cell: str | None, text: str) -> None:
        """Keep a note."""
        ...

    def steer(
        self, results: StudyResults, wish: type[Decision], levels: Mapping[str, Level], count: int = 0, text: str = ""
    ) -> Decision | Problem:
        """Enter a decision into the log of a run, or say what is wrong with it."""
        ...

    def mark(self, run_id: str, levels: Mapping[str, Level], request: str, text: str) -> Decision:
        """Keep what an answer is marked as; the same mark again takes it back."""
        ...

    def acknowledge(self, run_id: str, levels: Mapping[str, Level], caution: str, reason: str) -> Decision:
        """Keep a person's reason why a caution of the cells with these levels is no worry."""
        ...

    @property
    def planner(self) -> Planner:
        """Plans."""
        ...

    @property
    def answering(self) -> Answering:
        """Comparing, drawing and ranking."""
        ...

    @property
    def handing(self) -> Handing:
        """Reports, tables and bundles."""
        ...

    async def export(self, run_id: str, measure: str) -> list[Path]:
        """Write the charts of a run as SVG and PDF, in a process of their own."""
        ...

    async def close(self) -> None:
        """Let go of rigs that were asked."""
        ...


class Host(Protocol):
    """The app, as stations see it."""

    desk: Desk
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
