"""The map as text: a grid of cells, shaded in zinc, the best in copper, with a cursor and a window that follows it."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

from rich.cells import cell_len
from rich.style import Style

from zinc_kettle.core.chart import Axis, Cell, Panel
from zinc_kettle.core.grid import Slice
from zinc_kettle.core.text import shorten
from zinc_kettle.tui.theme import Palette, blend, readable

MIN_CELL, MAX_CELL = 10, 34
MIN_ROWS, MAX_ROWS = 3, 11
GAP = 1
HEADS = 2
"""Lines of a map that are no cells: the heads, and what lies beyond."""

NO_CELL = Cell("", 0, 0, ("–",))
"""Where the design has no cell."""
Piece = tuple[str, Style]
Pieces = list[Piece]
"""Pieces of one line, from left to right."""


@dataclass(frozen=True)
class Layout:
    """Where cells stand: sizes in characters."""

    label: int
    width: int
    height: int
    rows: int
    """Rows that can be seen at once."""
    columns: int
    """Columns that can be seen at once."""

    def follow(self, origin: tuple[int, int], cursor: tuple[int, int]) -> tuple[int, int]:
        """The first row and column to show, moved as little as keeps the cursor in sight."""
        row = min(max(origin[0], cursor[0] - self.rows + 1), cursor[0])
        column = min(max(origin[1], cursor[1] - self.columns + 1), cursor[1])
        return row, column

    def hit(self, x: int, y: int, rows: int, columns: int) -> tuple[int, int] | None:
        """Row and column at a place, counted from the first shown, or None.

        Args:
            x: Character from the left of the map.
            y: Line from its top.
            rows: Rows in sight.
            columns: Columns in sight.
        """
        column, inside = divmod(x - self.label, self.width + GAP)
        row = (y - 1) // (self.height + GAP)
        if 0 <= column < columns and 0 <= row < rows and 0 <= inside < self.width and y >= 1:
            return row, column
        return None


def layout(part: Slice, width: int, height: int) -> Layout:
    """Cells as large as the room allows, within reason."""
    names = [cell_len(label) for label in part.rows.labels]
    label = min(18, max([*names, cell_len(part.rows.heading), 4]) + 2)
    columns = min(len(part.columns.labels), max(1, (width - label) // (MIN_CELL + GAP)))
    rows = min(len(part.rows.labels), max(1, (height - HEADS) // (MIN_ROWS + GAP)))
    each = min(MAX_CELL, max(MIN_CELL, (width - label) // columns - GAP))
    tall = min(MAX_ROWS, max(MIN_ROWS, (height - HEADS) // rows - GAP))
    return Layout(label, each, tall, rows, columns)


def draw_map(
    panel: Panel, place: Layout, palette: Palette, *, cursor: str | None = None, beyond: str = "", counted: bool = True
) -> list[Pieces]:
    """A grid of cells, line by line.

    Args:
        panel: What is in sight of it.
        place: Where its cells stand.
        palette: The theme's colours.
        cursor: Key of the chosen cell.
        beyond: What lies out of sight, in words.
        counted: True where the levels of the x axis are numbers, which the axis's name follows.
    """
    out = [_heads(panel, place, palette, counted=counted)]
    at = {(cell.row, cell.column): cell for cell in panel.cells}
    blank: Piece = (" " * GAP, Style.null())
    for row, name in enumerate(panel.y.labels):
        cells = [at.get((row, c), NO_CELL) for c in range(len(panel.x.labels))]
        boxes = [_box(cell, place.width, place.height, palette, chosen=cell.key == cursor) for cell in cells]
        for line in range(place.height):
            said = name if line == place.height // 2 else ""
            head = (shorten(said, place.label - 1).ljust(place.label), Style(color=palette.ink))
            out.append([head, *(piece for box in boxes for piece in (*box[line], blank))])
        out += [[]] * GAP
    out.append([(beyond, Style(color=palette.muted))])
    return out


def beyond_words(part: Slice, place: Layout, origin: tuple[int, int]) -> str:
    """How many rows and columns are out of sight, and where."""
    top, left = origin
    counts = {
        "↑": top,
        "↓": len(part.rows.labels) - top - place.rows,
        "←": left,
        "→": len(part.columns.labels) - left - place.columns,
    }
    return "  ".join(f"{arrow} {count} more" for arrow, count in counts.items() if count > 0)


def _heads(panel: Panel, place: Layout, palette: Palette, *, counted: bool) -> Pieces:
    out: Pieces = [(shorten(panel.y.title, place.label - 1).ljust(place.label), Style(color=palette.muted))]
    for i, level in enumerate(panel.x.labels):
        text = _head(panel.x, level, counted=counted) if i == 0 and level else level
        out.append((shorten(text, place.width).center(place.width) + " " * GAP, Style(color=palette.ink)))
    return out


def _head(axis: Axis, level: str, *, counted: bool) -> str:
    """The first level with what it is a level of: `1 thread`, `2 threads`, `model brine`."""
    if not counted:
        return f"{axis.title} {level}"
    return f"{level} {axis.title.removesuffix('s') if level == '1' else axis.title}"


@lru_cache(maxsize=1024)
def _box(cell: Cell, width: int, height: int, palette: Palette, *, chosen: bool) -> tuple[Pieces, ...]:
    """The lines of one cell; kept, since moving the cursor changes two of hundreds."""
    background = palette.panel
    if cell.shade is not None:
        background = palette.copper if cell.best else blend(palette.low, palette.high, cell.shade)
    ink = palette.copper_ink if background == palette.copper else readable(background, palette)
    measured = cell.shade is not None
    soft = Style(color=ink if measured else palette.muted, bgcolor=background)
    styles = [soft] * len(cell.lines)
    if measured:
        styles[0] = Style(color=ink, bgcolor=background, bold=True)
    if cell.failed:
        styles = [Style(color=palette.failure, bgcolor=background)] * len(cell.lines)
    if cell.tied:
        styles[-1] = Style(color=palette.on_zinc, bgcolor=background, bold=True)
    bars = Style(color=palette.ink, bgcolor=background)
    # A figure without its unit says nothing, so what does not fit is not begun.
    further = tuple(line for line in cell.further if cell_len(line) <= width - 2)
    styles += [soft] * len(further)
    return tuple(_framed((*cell.lines, *further), styles, width, height, bars, chosen=chosen))


def _framed(
    lines: tuple[str, ...], styles: list[Style], width: int, height: int, base: Style, *, chosen: bool
) -> list[Pieces]:
    """Lines in the middle of a cell; the chosen one has a bar at both sides."""
    lines = lines[:height]
    top = (height - len(lines)) // 2
    left, right = ("▌", "▐") if chosen else (" ", " ")
    out: list[Pieces] = []
    for row in range(height):
        i = row - top
        text = shorten(lines[i], width - 2) if 0 <= i < len(lines) else ""
        style = styles[i] if 0 <= i < len(lines) else base
        padding = width - 2 - cell_len(text)
        before = padding // 2
        out.append([(left, base), (" " * before + text + " " * (padding - before), style), (right, base)])
    return out
