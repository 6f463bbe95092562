"""A report as text for the screen: sections with their words, tables, and charts in characters."""

from __future__ import annotations

import re
import textwrap
from collections.abc import Sequence

from rich.cells import cell_len
from rich.text import Text

from zinc_kettle.core.chart import Chart, Panel
from zinc_kettle.core.text import shorten
from zinc_kettle.present.report.document import (
    Block,
    Bullets,
    Document,
    Grid,
    Listing,
    Paragraph,
    Picture,
    Section,
    Spans,
)
from zinc_kettle.tui.draw.chart import draw_chart
from zinc_kettle.tui.theme import Palette, blend, readable

WORD = re.compile(r"[^\s-]+-?|-")
"""What a line is not broken in: a part of a word up to its hyphen."""
PICTURE_LINES = 16
MOST_LISTED = 12
"""Lines of a listing; the file has all of it."""
MOST_TABLE = 20


def head_text(document: Document, width: int, palette: Palette) -> Text:
    """Title and answer."""
    out = Text()
    _folded(out, document.title, width, f"bold {palette.ink}")
    _folded(out, document.lead, width, f"bold {palette.copper}")
    if document.simulated:
        out.append("SIMULATED: figures of a rehearsal; nothing was measured on hardware\n", f"bold {palette.caution}")
    return out


def section_text(section: Section, width: int, palette: Palette) -> Text:
    """One section; dim where it is left out."""
    out = Text()
    if section.title:
        rule = "─" * max(0, width - cell_len(section.title) - 1)
        style = f"bold {palette.ink}" if section.shown else palette.muted
        out.append(section.title, style)
        out.append(f" {rule}\n", palette.faint)
    if not section.shown:
        return out.append("left out; space puts it in\n", palette.muted)
    for block in section.blocks:
        out.append_text(_block(block, width, palette))
    return out


def _block(block: Block, width: int, palette: Palette) -> Text:
    out = Text()
    if isinstance(block, Paragraph):
        _marked(out, block.spans, width, palette, own=block.own)
    elif isinstance(block, Bullets):
        for item in block.items:
            _marked(out, item, width, palette, own=block.own, bullet="– ")
    elif isinstance(block, Grid):
        _grid(out, block, width, palette)
    elif isinstance(block, Picture):
        out.append_text(_picture(block.chart, width, palette))
    elif isinstance(block, Listing):
        lines = block.text.splitlines()
        for line in lines[:MOST_LISTED]:
            out.append(f"  {shorten(line, width - 2)}\n", palette.muted)
        if len(lines) > MOST_LISTED:
            out.append(f"  … {len(lines) - MOST_LISTED} more lines in the file\n", palette.faint)
    return out.append("\n")


def _marked(out: Text, spans: Spans, width: int, palette: Palette, *, own: bool, bullet: str = "") -> None:
    """Words, folded; a person's own behind a bar of copper."""
    bar = "┃ " if own else ""
    strong = any(span.style == "strong" for span in spans)
    said = "".join(span.text for span in spans)
    for number, line in enumerate(textwrap.wrap(said, max(10, width - len(bar) - len(bullet)))):
        out.append(bar, palette.copper)
        out.append(bullet if number == 0 else " " * len(bullet), palette.muted)
        out.append(f"{line}\n", f"bold {palette.ink}" if strong else palette.ink)


def _folded(out: Text, said: str, width: int, style: str) -> None:
    for line in textwrap.wrap(said, max(10, width)):
        out.append(f"{line}\n", style)


def _grid(out: Text, grid: Grid, width: int, palette: Palette) -> None:
    """A table in as much room as there is: its widest columns give way."""
    rows = [grid.heads, *grid.rows[:MOST_TABLE]]
    places = range(len(grid.heads))
    widths = [max(cell_len(row[i]) for row in rows) for i in places]
    least = [max((cell_len(word) for row in rows for word in WORD.findall(row[i])), default=0) for i in places]
    gaps = 2 * (len(least) - 1)
    if sum(least) + gaps > width:
        _records(out, rows, width, palette)
        rows = []
    while rows and sum(widths) + gaps > width:
        widest = max((i for i in places if widths[i] > least[i]), key=lambda i: widths[i])
        widths[widest] -= 1
    for number, row in enumerate(rows):
        # A figure is never cut: what has no room goes on below.
        cells = [textwrap.wrap(cell, max(1, room)) or [""] for cell, room in zip(row, widths, strict=True)]
        for part in range(max(len(lines) for lines in cells)):
            pieces = [lines[part] if part < len(lines) else "" for lines in cells]
            line = "  ".join(piece.ljust(room) for piece, room in zip(pieces, widths, strict=True))
            out.append(f"{line.rstrip()}\n", palette.muted if number == 0 else palette.ink)
    if len(grid.rows) > MOST_TABLE:
        out.append(f"… {len(grid.rows) - MOST_TABLE} more rows in the file\n", palette.muted)
    if grid.caption:
        out.append(f"{grid.caption}\n", palette.muted)


def _records(out: Text, rows: Sequence[Sequence[str]], width: int, palette: Palette) -> None:
    """A table that has no room for its columns: each row with what its values are, one after the other."""
    heads, *others = rows
    for row in others:
        said = " · ".join(f"{head} {cell}".strip() for head, cell in zip(heads, row, strict=True) if cell)
        for number, line in enumerate(textwrap.wrap(said, max(10, width - 2))):
            out.append(f"{'' if number == 0 else '  '}{line}\n", palette.ink)


def _picture(chart: Chart, width: int, palette: Palette) -> Text:
    if any(panel.cells for panel in chart.panels):
        out = Text()
        out.append(f"{shorten(chart.subtitle, width)}\n", palette.muted)
        for panel in chart.panels:
            out.append_text(_boxes(panel, width, palette))
        return out
    rows = max((len(panel.y.labels) for panel in chart.panels), default=0)
    return draw_chart(chart, width, max(PICTURE_LINES, rows + 6), palette)


def _boxes(panel: Panel, width: int, palette: Palette) -> Text:
    """A map, one line a row of cells."""
    label = min(18, max((cell_len(name) for name in panel.y.labels), default=0) + 1)
    room = max(8, min(24, (width - label) // max(1, len(panel.x.labels)) - 1))
    at = {(cell.row, cell.column): cell for cell in panel.cells}
    out = Text(f"{shorten(panel.title, width)}\n" if panel.title else "", palette.muted)
    heads = " ".join(shorten(name, room).center(room) for name in panel.x.labels)
    out.append(f"{' ' * label}{heads}\n", palette.muted)
    for row, name in enumerate(panel.y.labels):
        out.append(shorten(name, label - 1).ljust(label), palette.muted)
        for column in range(len(panel.x.labels)):
            cell = at.get((row, column))
            said = shorten(cell.lines[0] if cell and cell.lines else "–", room).center(room)
            if cell is None or cell.shade is None:
                out.append(said, palette.muted)
            else:
                back = palette.copper if cell.best else blend(palette.low, palette.high, cell.shade)
                out.append(said, f"{readable(back, palette)} on {back}")
            out.append(" ")
        out.append("\n")
    return out
