"""The map as text: rows by columns of cells, shaded in zinc, the best in copper."""

from __future__ import annotations

from dataclasses import dataclass, field

from rich.cells import cell_len
from rich.style import Style
from rich.text import Text

from zinc_kettle.core.cell import Value
from zinc_kettle.core.factors import FACTORS, axis_name
from zinc_kettle.core.text import shorten
from zinc_kettle.core.units import byte_size, digits, duration
from zinc_kettle.present.fit_view import FitRow
from zinc_kettle.present.view import CAUTION_MARK, QUIET_CODES, STATE_MARKS, CellView, Grid, Slice
from zinc_kettle.present.words import bounds_text, value_text
from zinc_kettle.tui.theme import Palette, blend, readable

MIN_CELL, MAX_CELL = 10, 34
MIN_ROWS, MAX_ROWS = 3, 9
GAP = 1
HEADS = 2
"""Lines of a map that are no cells: the heads, and what lies beyond."""


@dataclass(frozen=True)
class Look:
    """What a map is drawn from, apart from its cells."""

    measure: str
    better: str
    palette: Palette
    cursor: int | None
    running: int | None
    best: int | None
    """The cell with the best value; in copper."""
    level: frozenset[int]
    """Cells that cannot be told apart from it; marked in copper."""
    sizes: dict[int, float | None]
    guesses_s: dict[int, float]
    predicted: dict[int, FitRow] = field(default_factory=dict)
    """What Fit says of a cell before it is measured."""


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
        """Row and column at a place, counted from the first shown, or None."""
        column, inside = divmod(x - self.label, self.width + GAP)
        row = (y - 1) // (self.height + GAP)
        if 0 <= column < columns and 0 <= row < rows and 0 <= inside < self.width and y >= 1:
            return row, column
        return None


def layout(grid: Grid, width: int, height: int) -> Layout:
    """Cells as large as the room allows, within reason."""
    label = min(
        18, max([cell_len(level) for level in grid.rows.levels] + [cell_len(axis_name(grid.rows.factor)), 4]) + 2
    )
    columns = min(len(grid.columns.levels), max(1, (width - label) // (MIN_CELL + GAP)))
    rows = min(len(grid.rows.levels), max(1, (height - HEADS) // (MIN_ROWS + GAP)))
    each = min(MAX_CELL, max(MIN_CELL, (width - label) // columns - GAP))
    tall = min(MAX_ROWS, max(MIN_ROWS, (height - HEADS) // rows - GAP))
    return Layout(label, each, tall, rows, columns)


def draw(grid: Grid, part: Slice, place: Layout, look: Look, origin: tuple[int, int] = (0, 0)) -> Text:
    """The map of one slice, from the row and column of `origin` on; says what lies beyond."""
    top, left = origin
    out = _heads(grid, place, look.palette, left)
    values = [v.value for row in part.rows for c in row if isinstance(v := c.value(look.measure), Value)]
    low, high = min(values, default=0.0), max(values, default=1.0)
    shown = list(zip(grid.rows.levels, part.rows, strict=True))[top : top + place.rows]
    for level, row in shown:
        cells = [_cell(cell, place, look, low, high) for cell in row[left : left + place.columns]]
        for line in range(place.height):
            out.append("\n")
            name = level if line == place.height // 2 else ""
            out.append(shorten(name, place.label - 1).ljust(place.label), Style(color=look.palette.ink))
            for cell in cells:
                out.append_text(cell[line])
                out.append(" " * GAP)
        out.append("\n" * GAP)
    out.append(_beyond(grid, place, origin), look.palette.muted)
    return out


def _beyond(grid: Grid, place: Layout, origin: tuple[int, int]) -> str:
    """How many rows and columns are out of sight, and where."""
    top, left = origin
    counts = {
        "↑": top,
        "↓": len(grid.rows.levels) - top - place.rows,
        "←": left,
        "→": len(grid.columns.levels) - left - place.columns,
    }
    return "  ".join(f"{arrow} {count} more" for arrow, count in counts.items() if count > 0)


def _heads(grid: Grid, place: Layout, palette: Palette, left: int) -> Text:
    out = Text(no_wrap=True, end="")
    out.append(shorten(axis_name(grid.rows.factor), place.label - 1).ljust(place.label), palette.muted)
    for i, level in enumerate(grid.columns.levels[left : left + place.columns]):
        name = axis_name(grid.columns.factor)
        text = level
        if i == 0 and level:
            text = f"{level} {name}" if FACTORS[grid.columns.factor or ""].type is int else f"{name} {level}"
        if level == "1" and name.endswith("s"):
            text = text.removesuffix("s")
        out.append(shorten(text, place.width).center(place.width) + " " * GAP, palette.ink)
    return out


def _cell(cell: CellView, place: Layout, look: Look, low: float, high: float) -> list[Text]:
    palette, index = look.palette, cell.cell.index
    figure = cell.value(look.measure)
    measured = isinstance(figure, Value)
    background = palette.panel
    if isinstance(figure, Value):
        background = palette.copper if index == look.best else _shade(figure.value, low, high, look)
    ink = palette.copper_ink if background == palette.copper else readable(background, palette)
    faint = ink if measured else palette.muted
    strong = Style(color=ink, bgcolor=background, bold=True)
    soft = Style(color=faint, bgcolor=background)
    lines = _measured_lines(cell, look) if measured else _planned_lines(cell, look)
    styles = [strong, *[soft] * (len(lines) - 1)] if measured else [soft] * len(lines)
    if cell.state == "failed":
        styles = [Style(color=palette.failure, bgcolor=background)] * len(lines)
    if index in look.level:
        lines.append("≈ best")
        styles.append(Style(color=palette.on_zinc, bgcolor=background, bold=True))
    bars = Style(color=palette.ink, bgcolor=background)
    return _framed(lines, styles, place, bars, chosen=index == look.cursor)


def _shade(value: float, low: float, high: float, look: Look) -> str:
    share = (value - low) / (high - low) if high > low else 0.5
    return blend(look.palette.low, look.palette.high, 1 - share if look.better == "less" else share)


def _measured_lines(cell: CellView, look: Look) -> list[str]:
    figure = cell.value(look.measure)
    text, unit = value_text(figure)
    warned = any(c.code not in QUIET_CODES for c in cell.cautions)
    second = " ".join(part for part in (bounds_text(figure), CAUTION_MARK if warned else "") if part)
    lines = [f"{text} {unit}", second or f"{cell.done} repeat"]
    if cell.cell.index == look.running:
        lines.append(f"▸ {cell.done} of {cell.wanted}")
    elif cell.state == "partly":
        lines.append(f"{STATE_MARKS['partly']} {cell.done} of {cell.wanted}")
    return lines


def _planned_lines(cell: CellView, look: Look) -> list[str]:
    index = cell.cell.index
    if index == look.running:
        return ["▸ measuring", f"{cell.done} of {cell.wanted}"]
    lines = [f"{STATE_MARKS[cell.state]} {cell.state}"]
    if cell.state == "failed":
        return [*lines, "no load" if "start" in cell.failures[-1].failure else "see sheet"]
    if cell.done:
        return [*lines, "no figure"]
    size = look.sizes.get(index)
    seconds = look.guesses_s.get(index)
    row = look.predicted.get(index)
    if row is not None and row.placement is not None:
        lines[0] = f"{'⊘' if not row.placement.works else STATE_MARKS[cell.state]} {row.placement.state}"
        if row.decode is not None:
            low, high = (digits(v, significant=2) for v in (row.decode.low, row.decode.high))
            lines.append(f"predicted {low}–{high} tok/s")
    if size is not None:
        lines.append(f"file {byte_size(size)}")
    if seconds is not None:
        lines.append(f"about {duration(seconds)} a repeat")
    return lines


def _framed(lines: list[str], styles: list[Style], place: Layout, base: Style, *, chosen: bool) -> list[Text]:
    """Lines in the middle of a cell; the chosen one has a bar at both sides."""
    lines = lines[: place.height]
    top = (place.height - len(lines)) // 2
    out = []
    for row in range(place.height):
        inside = place.width - 2
        i = row - top
        text = shorten(lines[i], inside) if 0 <= i < len(lines) else ""
        style = styles[i] if 0 <= i < len(lines) else base
        left, right = ("▌", "▐") if chosen else (" ", " ")
        padding = inside - cell_len(text)
        before = padding // 2
        out.append(Text.assemble((left, base), (" " * before + text + " " * (padding - before), style), (right, base)))
    return out
