"""The map of the study one is on, small, below the list."""

from __future__ import annotations

from rich.text import Text

from zinc_kettle.core.catalogue import MEASURES
from zinc_kettle.present.figure import measure_line
from zinc_kettle.present.view import StudyView
from zinc_kettle.present.words import best
from zinc_kettle.tui.draw.heatmap import Look, draw, layout
from zinc_kettle.tui.theme import Palette

MEASURE = "decode"
MAX_WIDTH = 90
"""A preview that fills a wide screen would pass for the map itself."""


def preview(view: StudyView, width: int, height: int, palette: Palette) -> Text:
    """The first slice of a study's map, as large as the room below the list allows."""
    grid = view.grid()
    top = best(view, MEASURE)
    look = Look(
        measure=MEASURE,
        better=MEASURES[MEASURE].better,
        palette=palette,
        cursor=None,
        running=None,
        best=top[0].cell.index if top else None,
        level=frozenset(c.cell.index for c in top[1:]),
        sizes={},
        guesses_s={},
    )
    out = Text(no_wrap=True, overflow="ellipsis")
    out.append(measure_line(view, MEASURE) + "\n\n", palette.muted)
    out.append_text(draw(grid, grid.slices[0], layout(grid, min(width, MAX_WIDTH), height - 2), look))
    if len(grid.slices) > 1:
        out.append(f"and {len(grid.slices) - 1} more slices", palette.muted)
    return out
