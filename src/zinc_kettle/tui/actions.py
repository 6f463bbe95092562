"""The one table of actions: keys, footer, palette and help read it."""

from __future__ import annotations

from dataclasses import dataclass

from textual.binding import Binding


@dataclass(frozen=True)
class Action:
    """Something a person can do."""

    id: str
    """Name of the `action_` method."""
    title: str
    help: str
    key: str
    place: str
    """`everywhere`, or the station where it is at home."""
    footer: bool = True
    shown_key: str | None = None


ACTIONS = (
    Action("shelf", "shelf", "Go to the shelf of studies.", "0", "everywhere", footer=False),
    Action("rigs", "rigs", "Go to the machines and what is known of them.", "1", "everywhere", footer=False),
    Action("fit", "fit", "Go to what fits on a rig.", "2", "everywhere", footer=False),
    Action("map", "map", "Go to the map of the open study.", "4", "everywhere", footer=False),
    Action("explain", "explain", "Explain this station and its figures.", "question_mark", "everywhere", shown_key="?"),
    Action("light", "light/dark", "Change between the light and the dark theme.", "t", "everywhere", footer=False),
    Action("leave", "quit", "Leave; a run is stopped first and kept.", "q", "everywhere"),
    Action("open", "open", "Open the study's map.", "enter", "shelf"),
    Action("reload", "read again", "Read the store and the study files again.", "f5", "shelf", footer=False),
    Action("probe", "probe", "Measure the rig's memory bandwidth and arithmetic rate.", "p", "rigs"),
    Action("ask", "ask again", "Gather the rig's facts and who uses it now.", "f5", "rigs"),
    Action("type_fact", "type a fact", "Type in what you know of the rig, and where you have it from.", "w", "rigs"),
    Action("back", "back", "Go back.", "escape", "rigs", footer=False),
    Action("next_control", "next control", "Choose the next what-if control.", "tab", "fit"),
    Action(
        "previous_control", "control before", "Choose the what-if control before.", "shift+tab", "fit", footer=False
    ),
    Action("less", "less", "One step less of the chosen control.", "left", "fit"),
    Action("more", "more", "One step more of the chosen control.", "right", "fit"),
    Action("next_rig", "next rig", "Show the next rig.", "x", "fit"),
    Action("back", "back", "Go back.", "escape", "fit", footer=False),
    Action("run", "run", "Measure what is missing of this study, on this machine.", "r", "map"),
    Action("stop", "stop", "Stop the run; what is measured is kept and it can go on later.", "s", "map"),
    Action("open_cell", "open cell", "Open the sheet of the chosen cell.", "enter", "map"),
    Action("next_measure", "measure", "Show the next measure.", "m", "map"),
    Action("next_slice", "slice", "Show the next slice of a study with three or more factors.", "x", "map"),
    Action("export", "export", "Write this map as SVG and PDF.", "e", "map"),
    Action("side_down", "read on", "Scroll what is worth knowing down.", "pagedown", "map", footer=False),
    Action("side_up", "read back", "Scroll what is worth knowing up.", "pageup", "map", footer=False),
    Action("back", "back", "Go back.", "escape", "map", footer=False),
    Action("back", "back to map", "Go back to the map.", "escape", "cell"),
    Action("next_cell", "next cell", "Open the next cell.", "n", "cell"),
    Action("previous_cell", "previous", "Open the cell before.", "p", "cell"),
    Action("note", "note", "Write a note to this cell.", "w", "cell"),
)


def bindings(place: str) -> list[Binding | tuple[str, str] | tuple[str, str, str]]:
    """The key bindings of a place."""
    return [
        Binding(a.key, a.id, a.title, show=a.footer, key_display=a.shown_key, tooltip=a.help)
        for a in ACTIONS
        if a.place == place
    ]
