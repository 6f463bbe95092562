"""The stations: one entry each, from which keys, the line across the top, the palette and jumps are made.

To add one, make its folder in tui/screens (screen.py, screen.tcss, help.md), name it here, and give it its actions.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from importlib import import_module

from zinc_kettle.core.units import plural
from zinc_kettle.tui.host import Host
from zinc_kettle.tui.station import Station


@dataclass(frozen=True, slots=True)
class StationKind:
    """A station as the rest of the screen knows it."""

    name: str
    """Also the name of its folder."""
    title: str
    screen: str
    """Class of its screen."""
    question: str
    """What it answers; the palette and its help say so."""
    key: str = ""
    """The digit that jumps there; empty for one that is reached from another."""
    within: str = ""
    """The station it belongs to on the line across the top."""
    word: Callable[[Host], str] = lambda _app: ""
    """How it stands, in a word or two."""
    missing: Callable[[Host], str] = lambda _app: ""
    """Why it cannot be gone to; empty where it can."""

    def screen_class(self) -> type[Station]:
        """Its screen, imported when it is first gone to: the first paint does not wait for it."""
        found: type[Station] = getattr(import_module(f"zinc_kettle.tui.screens.{self.name}.screen"), self.screen)
        return found


def _rigs_word(app: Host) -> str:
    return plural(app.rig_count, "rig") if app.rig_count > 1 else ""


def _plan_word(app: Host) -> str:
    return "changed" if app.plan is not None and app.plan.changed else ""


def _map_word(app: Host) -> str:
    results, run = app.results, app.run_state
    if results is None:
        return ""
    done = f"{results.done_repeats} of {results.wanted_repeats} repeats"
    return f"running, {done}" if run is not None and run.active else done


def _duel_word(app: Host) -> str:
    return "ladder" if len(app.rungs) > 2 else ""


def _no_study(app: Host) -> str:
    return "" if app.results is not None else "Open a study on the shelf first: choose one and press enter."


SHELF = StationKind("shelf", "Shelf", "ShelfScreen", "What have I measured, and what came out?", key="0")
STATIONS: tuple[StationKind, ...] = (
    SHELF,
    StationKind(
        "rigs", "Rigs", "RigsScreen", "Which machines do I have, and are they quiet?", key="1", word=_rigs_word
    ),
    StationKind("fit", "Fit", "FitScreen", "What fits here, and would it be fast enough?", key="2"),
    StationKind("plan", "Plan", "PlanScreen", "What exactly will be measured?", key="3", word=_plan_word),
    StationKind("map", "Map", "MapScreen", "What came out?", key="4", word=_map_word, missing=_no_study),
    StationKind(
        "duel", "Duel", "DuelScreen", "Is B better than A, and what made the difference?", key="5", word=_duel_word
    ),
    StationKind(
        "curves",
        "Curves",
        "CurvesScreen",
        "How does it change with load, length, depth, threads and size?",
        key="6",
        missing=_no_study,
    ),
    StationKind(
        "lineup",
        "Lineup",
        "LineupScreen",
        "Which is best for me, money and watts included?",
        key="7",
        missing=_no_study,
    ),
    StationKind("report", "Report", "ReportScreen", "What do I hand on?", key="8", missing=_no_study),
    StationKind("begin", "Begin", "BeginScreen", "What comes first, and what can this machine do?", within="shelf"),
    StationKind("settings", "Settings", "SettingsScreen", "What is set, and where is that from?", within="shelf"),
    StationKind(
        "answers", "Answers", "AnswersScreen", "What did they write, side by side?", within="map", missing=_no_study
    ),
    StationKind(
        "cell", "Cell sheet", "CellScreen", "What is known about this one cell?", within="map", missing=_no_study
    ),
)


def station_of(screen: object) -> str:
    """The station a screen belongs to, as one comes back to it; empty for the shelf and what lies over stations."""
    kind = next((kind for kind in STATIONS if kind.screen == type(screen).__name__), SHELF)
    name = kind.within or kind.name
    return "" if name == SHELF.name else name


def station(name: str) -> StationKind:
    """A station by its name.

    Raises:
        StopIteration: There is none.
    """
    return next(kind for kind in STATIONS if kind.name == name)
