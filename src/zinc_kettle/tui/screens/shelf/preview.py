"""What stands below the list: the runs of the selected study, and the map of the chosen one, small."""

from __future__ import annotations

from rich.text import Text

from zinc_kettle.app.views import ShelfEntry
from zinc_kettle.core.compare.choice import marked
from zinc_kettle.core.results import StudyResults
from zinc_kettle.present.answer import main_measure
from zinc_kettle.present.charts.subtitle import measure_line
from zinc_kettle.tui.draw.map_page import MapPage, MapSubject
from zinc_kettle.tui.theme import Palette

MAX_WIDTH = 90
"""A preview that fills a wide screen would pass for the map itself."""
MOST_RUNS = 4
"""Runs that are named; earlier ones are counted."""
MOST_CELLS = 2_000
"""A larger study is not ranked for a preview."""


def run_lines(entry: ShelfEntry, chosen: int, width: int, palette: Palette) -> Text:
    """The runs of a study, newest first, the chosen one marked; nothing where there is only one.

    Args:
        entry: The study.
        chosen: Index of the chosen run.
        width: Room, in characters.
        palette: The theme's colours.
    """
    out = Text(no_wrap=True, overflow="ellipsis")
    if len(entry.runs) < 2:
        return out
    first = max(0, min(chosen - 1, len(entry.runs) - MOST_RUNS))
    for place, run in list(enumerate(entry.runs))[first : first + MOST_RUNS]:
        here = place == chosen
        out.append("▸ " if here else "  ", palette.ink)
        out.append(f"run {run.number}", f"bold {palette.ink}" if here else palette.muted)
        out.append(f"  {run.when}  {run.state}  {run.engine}  {run.answer}"[: max(8, width - 8)], palette.muted)
        out.append("\n")
    rest = len(entry.runs) - MOST_RUNS
    if rest > 0:
        out.append(f"  and {rest} more; left and right choose\n", palette.muted)
    out.append("\n")
    return out


def preview(results: StudyResults, width: int, height: int, palette: Palette) -> Text:
    """The first slice of a study's map, as large as the room below the list allows.

    Args:
        results: The run that is shown.
        width: Room, in characters.
        height: Room, in lines.
        palette: The theme's colours.
    """
    name = main_measure(results.study)
    subject = MapSubject(results, name, palette)
    if len(results.cells) <= MOST_CELLS:
        subject = MapSubject(results, name, palette, rank=marked(results, name))
    out = Text(no_wrap=True, overflow="ellipsis")
    if len(results.cells) <= MOST_CELLS:
        out.append(measure_line(results, name) + "\n\n", palette.muted)
    page = MapPage(subject, min(width, MAX_WIDTH), height - 2)
    out.append_text(Text("\n").join(Text.assemble(*line) for line in page.lines((0, 0), None)))
    return out
