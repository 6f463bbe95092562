"""The one table of actions: keys, footer, palette and help read it. Jumps to stations are made from tui.stations."""

from __future__ import annotations

from dataclasses import dataclass

from textual.binding import Binding

from zinc_kettle.tui.stations import STATIONS

EVERYWHERE = "everywhere"


@dataclass(frozen=True)
class Action:
    """Something a person can do."""

    id: str
    """Name of the `action_` method, with its argument where it has one."""
    title: str
    help: str
    key: str
    place: str
    """`everywhere`, or the station where it is at home."""
    footer: bool = True
    shown_key: str | None = None
    listed: bool = True
    """False for one of a row of keys of which another stands for all in the docs."""


JUMPS = tuple(
    Action(f"go('{s.name}')", s.title.lower(), s.question, s.key, EVERYWHERE, footer=False) for s in STATIONS if s.key
)
COPIED = {"shelf": "c", "rigs": "c", "fit": "c", "plan": "c", "settings": "c", "map": "Y", "cell": "Y", "answers": "Y"}
"""Where what is shown is copied, and by which key; other stations say what they copy."""
LISTS = ("shelf", "rigs", "fit", "curves", "lineup", "report", "settings")
"""Stations with a list."""
LINES = "Show only the lines of the list that have certain words."
ACTIONS = (
    *JUMPS,
    Action("explain", "explain", "Explain this station and its figures.", "question_mark", EVERYWHERE, shown_key="?"),
    Action("light", "light/dark", "Switch between the light and the dark theme.", "t", EVERYWHERE, footer=False),
    Action(
        "settings",
        "settings",
        "Show settings, and where each comes from.",
        "comma",
        EVERYWHERE,
        footer=False,
        shown_key=",",
    ),
    Action("leave", "quit", "Quit; a run is stopped first and kept.", "q", EVERYWHERE),
    *(Action("copy", "copy", "Copy what is shown as text.", key, place, False) for place, key in COPIED.items()),
    *(Action("filter", "filter", LINES, "slash", p, p == "shelf", "/") for p in LISTS),
    Action("open", "open", "Open the study's map.", "enter", "shelf"),
    Action("measure_model", "measure a model", "Find the model files on this machine, and measure one.", "m", "shelf"),
    Action("new_plan", "new", "Plan a study from a question.", "n", "shelf"),
    Action("earlier_run", "earlier run", "Choose an earlier run of the study.", "left", "shelf"),
    Action("later_run", "later run", "Choose a later run of the study.", "right", "shelf", footer=False),
    Action(
        "throw_away",
        "throw away",
        "Delete the selected run; it can be restored for 30 days.",
        "d",
        "shelf",
        footer=False,
    ),
    Action("take_back", "undo", "Restore what was deleted last.", "u", "shelf", footer=False),
    Action("reload", "read again", "Reload the store and the study files.", "f5", "shelf", footer=False),
    Action("begin", "begin", "First steps, and a check of this machine.", "b", "shelf", footer=False),
    Action("choose", "do it", "Run the selected action.", "enter", "begin"),
    Action("measure_model", "measure a model", "Find the model files on this machine, and measure one.", "m", "begin"),
    Action("new_plan", "new", "Plan a study from a question.", "n", "begin"),
    Action("copy", "copy", "Copy the results of the check.", "c", "begin", footer=False),
    Action("back", "to the shelf", "Go to the shelf.", "escape", "begin"),
    Action("probe", "probe", "Measure the rig's memory bandwidth and arithmetic rate.", "p", "rigs"),
    Action("ask", "gather again", "Gather the rig's facts again, and see what is using it now.", "f5", "rigs"),
    Action("type_fact", "add a fact", "Add a fact you know about the rig, with its source.", "w", "rigs"),
    Action(
        "add_rig",
        "add a rig",
        "Add an engine that already runs, by its address; or a machine on paper, by its data sheet.",
        "n",
        "rigs",
    ),
    Action("plan_here", "measure here", "Plan a study on this rig.", "m", "rigs"),
    Action("back", "back", "Go back.", "escape", "rigs", footer=False),
    Action("next_control", "next control", "Choose the next what-if control.", "tab", "fit"),
    Action(
        "previous_control", "previous control", "Choose the previous what-if control.", "shift+tab", "fit", footer=False
    ),
    Action("less", "less", "Lower the selected control by one step.", "left", "fit", footer=False),
    Action("more", "change", "Raise the selected control by one step.", "right", "fit", shown_key="←→"),
    Action("only_what", "fits only", "Show all, what fits, or what fits and keeps the pace.", "v", "fit"),
    Action("sort", "sort", "Sort by speed, by precision, by size, or as found.", "s", "fit", footer=False),
    Action("plan_model", "measure", "Plan a study of the selected model.", "m", "fit"),
    Action("next_rig", "next rig", "Show the next rig.", "x", "fit"),
    Action("everywhere", "all rigs", "Show the model on every rig, or all models of a rig.", "b", "fit"),
    Action("say_model", "on paper", "Add a model that is only said: 70b at 4 bits, 8b Q4_K_M.", "n", "fit"),
    Action("back", "back", "Go back.", "escape", "fit", footer=False),
    Action("edit", "change", "Change the selected line: unfold it, choose, or type.", "enter", "plan"),
    Action("add_factor", "add factor", "Add a factor to vary, from a list that explains each.", "a", "plan"),
    Action("hold_factor", "hold", "Add a factor that is held, from a list that explains each.", "h", "plan", False),
    Action("remove", "remove", "Remove the line; on the map, leave the cell out.", "d", "plan"),
    Action("vary_or_hold", "vary/hold", "Hold a factor that varies, or vary one that is held.", "v", "plan"),
    Action("add_level", "level", "Add a level that is known here: a model, a quantization, a rig.", "l", "plan", False),
    Action("undo", "undo", "Undo the last change.", "u", "plan"),
    Action("redo", "redo", "Redo the change that was undone.", "U", "plan", footer=False),
    Action("measure", "measure", "Save the plan and measure it.", "r", "plan"),
    Action("save", "save", "Save the study file in your studies folder.", "ctrl+s", "plan", shown_key="^s"),
    Action("start_from", "start from", "Start from a template, a copy of a study, or nothing.", "o", "plan"),
    Action("other_side", "map", "Switch between the plan's text and its map.", "tab", "plan"),
    Action("next_slice", "slice", "Show the next slice of the map.", "x", "plan", footer=False),
    Action("unfold", "unfold", "Show the fields a sentence is made of, or hide them.", "right", "plan", footer=False),
    *(
        Action(
            f"doubt({place})",
            f"doubt {letter}",
            "Go to this problem or doubt; B to H to the others.",
            letter,
            "plan",
            footer=False,
            listed=place == 0,
        )
        for place, letter in enumerate("ABCDEFGH")
    ),
    Action("back", "back", "Stop typing, or go back.", "escape", "plan", footer=False),
    Action("run", "run", "Measure what is missing; a measured study gets a new run beside the old one.", "r", "map"),
    Action("stop", "stop", "Stop the run; everything measured is kept, and it can be continued later.", "s", "map"),
    Action("pause", "pause", "Pause after the current repeat, or resume.", "p", "map"),
    Action("skip", "skip", "Skip the selected cell, or restore it.", "d", "map"),
    Action("further", "2 more", "Add two repeats to the selected cell.", "plus", "map", False, "+"),
    Action(
        "add_level", "add level", "Add a level to a factor; only what is new is measured.", "a", "map", footer=False
    ),
    Action("first", "first", "Measure the selected cell first, or return to the usual order.", "g", "map", False),
    Action(
        "on_failure",
        "on failure",
        "Choose what happens when a cell fails: go on, try again, or ask.",
        "o",
        "map",
        footer=False,
    ),
    Action("end_block", "end block", "Stop at the end of the current block.", "b", "map", footer=False),
    Action("open_cell", "open cell", "Open the sheet of the selected cell.", "enter", "map"),
    Action("next_measure", "measure", "Show the next measure.", "m", "map"),
    Action("next_slice", "slice", "Show the next slice of a study with three or more factors.", "x", "map"),
    *(
        Action(
            f"finding({place})",
            f"finding {letter}",
            "Go to this finding's cell; press again to open it, or its duel. B to H: the others.",
            letter,
            "map",
            footer=False,
            listed=place == 0,
        )
        for place, letter in enumerate("ABCDEFGH")
    ),
    Action("swap_axes", "axes", "Put other factors on the axes; the first press swaps the two.", "y", "map", False),
    Action(
        "table", "table", "Show the cells as a table: the usual figures, durations, memory and load.", "n", "map", False
    ),
    Action("further_measure", "besides", "Choose what large cells show below the value.", "f", "map", footer=False),
    Action("note", "note", "Write a note on this run.", "w", "map", footer=False),
    Action("export", "export", "Write the charts of this study as SVG and PDF.", "e", "map"),
    Action("side_down", "read on", "Scroll the findings down.", "pagedown", "map", footer=False),
    Action("side_up", "read back", "Scroll the findings up.", "pageup", "map", footer=False),
    Action("back", "back", "Go back.", "escape", "map", footer=False),
    Action("answers", "answers", "Read the answers of this cell beside those of others.", "v", "map", footer=False),
    Action("compare", "compare", "Compare the selected cell with the best one in Duel.", "c", "map", footer=False),
    Action("choose(0)", "A", "Choose side A, the reference.", "a", "duel"),
    Action("choose(1)", "B", "Choose side B, which is compared with A.", "b", "duel"),
    Action("swap", "swap", "Swap the sides.", "x", "duel"),
    Action("add_rung", "rung", "Add a rung: three or more sides are a ladder of changes.", "l", "duel"),
    Action("remove_rung", "fewer", "Remove the last rung.", "d", "duel", footer=False),
    Action("next_measure", "measure", "Show the verdict for the next measure.", "m", "duel"),
    Action("by_prompt", "by prompt", "Compare by prompt, or by pair of cells.", "v", "duel"),
    Action("settle", "settle it", "Add the repeats that would settle it to the plan.", "plus", "duel", True, "+"),
    Action("open_b", "map", "Open the map of B.", "enter", "duel", footer=False),
    Action("copy", "copy", "Copy what is shown as text.", "c", "duel", footer=False),
    Action("export", "export", "Write what is shown as SVG and PDF.", "e", "duel"),
    Action("back", "back", "Go back.", "escape", "duel", footer=False),
    Action("earlier_point", "point", "Move the crosshair to the previous point.", "left", "curves"),
    Action("later_point", "point", "Move the crosshair to the next point.", "right", "curves", footer=False),
    Action("closer", "zoom", "Zoom in around the crosshair.", "plus", "curves", True, "+"),
    Action("wider", "zoom out", "Zoom out.", "minus", "curves", False, "-"),
    Action("other_scale('x')", "x axis", "Switch the x axis between linear and logarithmic.", "x", "curves", False),
    Action("other_scale('y')", "y axis", "Switch the y axis between linear and logarithmic.", "y", "curves", False),
    Action("hide", "hide", "Hide the selected series.", "h", "curves"),
    Action("show_all", "show all", "Show all series and the whole chart again.", "u", "curves", footer=False),
    Action("next_factor", "factor", "Draw the curve over another factor.", "f", "curves"),
    Action("next_measure", "measure", "Show the next measure.", "m", "curves"),
    Action("others", "others'", "Overlay figures from elsewhere, or remove them.", "o", "curves"),
    Action("open_point", "cell", "Open the sheet of the selected cell.", "enter", "curves"),
    Action("copy", "copy", "Copy the points as text.", "c", "curves", footer=False),
    Action("export", "export", "Export the chart as shown, as SVG and PDF.", "e", "curves"),
    Action("back", "back", "Go back to the map.", "escape", "curves", footer=False),
    Action("next_factor", "by", "Rank by another factor.", "b", "lineup"),
    Action("next_measure", "measure", "Show the next measure.", "m", "lineup"),
    Action(
        "money",
        "money, watts",
        "Per price, per watt, the cost of a million tokens, the score, or plain.",
        "p",
        "lineup",
    ),
    Action("type_fact", "type in", "Type in the price or the power that is missing.", "w", "lineup", footer=False),
    Action("index", "index", "Show the index relative to the selected one, or the ranking.", "i", "lineup"),
    Action("add_study", "add study", "Add another study to the ranking.", "a", "lineup"),
    Action("others", "others'", "Show or hide figures from elsewhere.", "o", "lineup", footer=False),
    Action("duel", "duel", "Compare the best with the selected one in Duel.", "d", "lineup"),
    Action("open_map", "map", "Open the map of the selected one.", "enter", "lineup"),
    Action("copy", "copy", "Copy the table as text.", "c", "lineup", footer=False),
    Action("export", "export", "Write what is shown as SVG and PDF.", "e", "lineup"),
    Action("back", "back", "Go back to the map.", "escape", "lineup", footer=False),
    Action("in_or_out", "in/out", "Exclude the section, or include it.", "space", "report"),
    Action("words", "own words", "Write your own words below the section.", "w", "report"),
    Action("beginning", "beginning", "Write the introduction.", "W", "report", footer=False),
    Action("title", "title", "Give the report a title.", "i", "report"),
    Action("add_part", "add", "Add a study, the open duel or a lineup.", "a", "report"),
    Action("remove_part", "take out", "Remove the current part.", "d", "report", footer=False),
    Action("other_report", "other", "Open another report, or start one.", "o", "report", footer=False),
    Action("export", "write", "Write the report as HTML, Markdown and PDF.", "e", "report"),
    Action("tables", "tables", "Write the open run as CSV, JSON Lines or Parquet.", "x", "report"),
    Action("bundle", "bundle", "Write the open run as one file for another copy of the tool.", "b", "report"),
    Action("copy", "copy", "Copy the page as text.", "c", "report", footer=False),
    Action("back", "back", "Go back to the map.", "escape", "report", footer=False),
    Action("back", "back", "Stop typing, or go back.", "escape", "settings"),
    Action("back", "back", "Go back.", "escape", "answers"),
    Action("next_answer", "next answer", "The answers to the next request.", "n", "answers"),
    Action("previous_answer", "previous", "The answers to the request before.", "p", "answers"),
    Action("next_column", "next cell", "Go to the next cell's answer, to mark it.", "tab", "answers"),
    Action("more_cells", "other cells", "Show the next cells side by side.", "x", "answers"),
    Action("mark('cut short')", "cut short", "Mark the answer as cut short; again removes the mark.", "c", "answers"),
    Action("mark('rambling')", "rambling", "Mark the answer as rambling.", "g", "answers"),
    Action("mark('repeats itself')", "repeats itself", "Mark the answer as repeating itself.", "e", "answers"),
    Action("mark('ignored the ask')", "ignored", "Mark the answer as missing the question.", "i", "answers"),
    Action("mark('fine')", "fine", "Mark the answer as fine.", "f", "answers"),
    Action("note", "note", "Write a note on this answer.", "w", "answers", footer=False),
    Action("answers", "answers", "Read its answers beside those of other cells.", "v", "cell"),
    Action(
        "remedy",
        "make it fit",
        "Choose a remedy for a cell that failed to load, and plan it.",
        "f",
        "cell",
        footer=False,
    ),
    Action(
        "serve", "serve", "Run its engine, with exactly these settings, for other programs, or end it.", "s", "cell"
    ),
    Action("compare", "compare", "Compare this cell with the best one in Duel.", "c", "cell", footer=False),
    Action("back", "back", "Go back where you came from.", "escape", "cell"),
    Action("next_cell", "next cell", "Open the next cell.", "n", "cell"),
    Action("previous_cell", "previous", "Open the previous cell.", "p", "cell"),
    Action("note", "note", "Write a note on this cell.", "w", "cell"),
    Action(
        "acknowledge",
        "acknowledge",
        "Acknowledge a caution of this cell; it stays, with your reason.",
        "a",
        "cell",
    ),
)


def bindings(place: str) -> list[Binding | tuple[str, str] | tuple[str, str, str]]:
    """The key bindings of a place."""
    return [
        Binding(a.key, a.id, a.title, show=a.footer, key_display=a.shown_key, tooltip=a.help)
        for a in ACTIONS
        if a.place == place
    ]


def binding_for(place: str, id: str, action: str) -> Binding:
    """The key of an action, for a widget that would otherwise take that key for something of its own.

    Args:
        place: Where the action is at home.
        id: Of the action.
        action: What the widget does for it.
    """
    found = next(a for a in ACTIONS if a.place == place and a.id == id)
    shown = found.shown_key or None
    return Binding(found.key, action, found.title, show=found.footer, key_display=shown, tooltip=found.help)


def key_list(place: str) -> str:
    """The keys of a station with what they do, as a list in Markdown."""
    mine = (a for a in ACTIONS if a.place == place and a.listed)
    return "\n".join(f"- **{a.shown_key or a.key}**: {a.help}" for a in mine)
