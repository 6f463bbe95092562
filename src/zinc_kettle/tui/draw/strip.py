"""A strip: points over the levels of one factor, with intervals and repeats, and what they are in words below."""

from __future__ import annotations

import math

from rich.cells import cell_len
from rich.style import Style

from zinc_kettle.core.chart import ticks
from zinc_kettle.core.text import shorten
from zinc_kettle.core.units import plain
from zinc_kettle.present.strip import Strip, StripPoint
from zinc_kettle.tui.draw.map import Pieces
from zinc_kettle.tui.theme import Palette, blend

AXIS = 9
"""Columns for the figures of the vertical axis."""
LEAST, MOST = 12, 26
"""Columns of a level."""
WORDS = 4
"""Rows below the points: the level, and three of what its cell says."""
LEAST_ROWS = 4
"""Of points; under this there is nothing to be seen."""


def strip_columns(count: int, width: int) -> tuple[int, int]:
    """How many levels are in sight, and how wide each is."""
    shown = max(1, min(count, (width - AXIS) // LEAST))
    return shown, min(MOST, max(LEAST, (width - AXIS) // shown))


def draw_strip(
    strip: Strip, width: int, height: int, palette: Palette, *, first: int = 0, cursor: str | None = None
) -> list[Pieces]:
    """The points, from the level `first` on.

    Args:
        strip: What to draw.
        width: Room, in characters.
        height: Room, in lines.
        palette: The theme's colours.
        first: The first level in sight.
        cursor: Key of the chosen cell.
    """
    shown, each = strip_columns(len(strip.points), width)
    points = strip.points[first : first + shown]
    rows = max(LEAST_ROWS, height - WORDS - 1)
    extent = strip.extent
    scale = _Scale(extent, rows) if extent is not None else None
    columns = [_column(point, each, rows, scale, palette, chosen=point.key == cursor) for point in points]
    muted = Style(color=palette.muted)
    out: list[Pieces] = [[(strip.unit.rjust(AXIS - 1) + " ", muted)]]
    for row in range(rows):
        tick = scale.tick(row) if scale is not None else ""
        out.append([(tick.rjust(AXIS - 2) + (" ┤" if tick else " │"), muted), *(p for c in columns for p in c[row])])
    beyond = [f"← {first} more"] if first else []
    if first + shown < len(strip.points):
        beyond.append(f"{len(strip.points) - first - shown} more →")
    for row in range(WORDS):
        words = (_word(p, row, each, palette, chosen=p.key == cursor) for p in points)
        out.append([(" " * AXIS, muted), *(piece for word in words for piece in word)])
    out[0].append(("  ".join(beyond), muted))
    return out[:height]


class _Scale:
    """From values to rows, the highest at the top."""

    def __init__(self, extent: tuple[float, float], rows: int) -> None:
        low, high = extent
        room = (high - low) * 0.08 or abs(high) * 0.05 or 1.0
        self.low, self.high, self._rows = max(0.0, low - room) if low >= 0 else low - room, high + room, rows
        self._ticks = {self.row(v): plain(v) for v in ticks(self.low, self.high, max(2, rows // 3))}

    def row(self, value: float) -> int:
        share = (value - self.low) / (self.high - self.low)
        return min(self._rows - 1, max(0, math.floor((1 - share) * self._rows)))

    def tick(self, row: int) -> str:
        """The round number that stands at a row; empty where none does."""
        return self._ticks.get(row, "")


def _column(
    point: StripPoint, width: int, rows: int, scale: _Scale | None, palette: Palette, *, chosen: bool
) -> list[Pieces]:
    """The rows of one level: the interval in its middle, the repeats in their order across it."""
    base = palette.panel if chosen else palette.paper
    plain = Style(color=palette.faint, bgcolor=base)
    grid: list[list[tuple[str, Style]]] = [[(" ", plain)] * width for _ in range(rows)]
    middle = width // 2
    if scale is not None and point.predicted is not None:
        low, high = point.predicted
        for row in range(scale.row(high), scale.row(low) + 1):
            grid[row][middle] = ("┊", Style(color=palette.muted, bgcolor=base))
    if scale is not None and point.value is not None:
        colour = palette.copper if point.best else palette.ink
        soft = Style(color=blend(base, colour, 0.55), bgcolor=base)
        spread = max(1, min(len(point.repeats), width - 4))
        for i, value in enumerate(point.repeats):
            at = 2 + round(i / max(1, len(point.repeats) - 1) * (width - 5)) if spread > 1 else middle
            grid[scale.row(value)][at] = ("·", soft)
        line = Style(color=colour, bgcolor=base)
        top, bottom = scale.row(point.high), scale.row(point.low)
        for row in range(top, bottom + 1):
            grid[row][middle] = ("│", line)
        if bottom > top:
            grid[top][middle], grid[bottom][middle] = ("┬", line), ("┴", line)
        grid[scale.row(point.value)][middle] = ("●", Style(color=colour, bgcolor=base, bold=True))
    if chosen:
        for cells in grid:
            cells[0] = ("▌", Style(color=palette.ink, bgcolor=base))
    return [_joined(row) for row in grid]


def _joined(row: list[tuple[str, Style]]) -> Pieces:
    out: Pieces = []
    for text, style in row:
        if out and out[-1][1] == style:
            out[-1] = (out[-1][0] + text, style)
        else:
            out.append((text, style))
    return out


def _word(point: StripPoint, row: int, width: int, palette: Palette, *, chosen: bool) -> Pieces:
    """What is said below a point: its level, then what its cell says."""
    head = point.head if cell_len(point.head) <= width - 2 else point.level
    said = head if row == 0 else point.lines[row - 1] if row - 1 < len(point.lines) else ""
    said = shorten(said, width - 2)
    left = max(1, (width - cell_len(said)) // 2)
    text = " " * left + said + " " * (width - left - cell_len(said))
    base = palette.panel if chosen else palette.paper
    colour = palette.ink if row == 0 else palette.muted
    if row == 1 and point.value is not None:
        colour = palette.copper if point.best else palette.ink
    mark = Style(color=palette.ink, bgcolor=base)
    return [("▌" if chosen else " ", mark), (text[1:], Style(color=colour, bgcolor=base, bold=row == 1))]
