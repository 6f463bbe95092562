"""A panel of lines, points and bars on two axes, in braille and characters."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass

from rich.cells import cell_len
from rich.text import Text

from zinc_kettle.core.chart import (
    Axis,
    Band,
    Bars,
    Label,
    Line,
    Panel,
    Points,
    Rule,
    Steps,
    numbers_along,
    positions,
    ticks,
)
from zinc_kettle.core.text import shorten
from zinc_kettle.core.units import plain
from zinc_kettle.tui.draw.canvas import Canvas
from zinc_kettle.tui.draw.scale import DOT, HOLLOW, Scale, number, tone_colour
from zinc_kettle.tui.theme import Palette

LABEL_ROOM = 9
"""Characters left of a plot for the numbers of its y axis."""
SPARSE = 3
"""Characters across for each point of a line from which on it is drawn solid; a denser one is drawn in dots."""
SHARED = 0.05
"""Of the characters of a panel's solid lines, so many may be those of several lines: where they cross. A character
shows one line; lines that run together are drawn in dots, of which it shows eight."""
TALL = 8
"""Lines from which on an axis has round numbers; a lower one has its two ends."""


@dataclass(frozen=True, slots=True)
class Cross:
    """A crosshair over a point of a panel."""

    panel: int
    x: float
    y: float


def draw_plot(
    panel: Panel, width: int, height: int, palette: Palette, cross: Cross | None = None, *, legend: bool = True
) -> Text:
    """Draw it.

    Args:
        panel: What to draw.
        width: Characters across, the numbers of the y axis included.
        height: Lines, those of the x axis and of the legend not counted.
        palette: The theme's colours.
        cross: Where a crosshair stands.
        legend: Name its series below it.
    """
    plot = _Plot(panel, max(4, width - LABEL_ROOM), max(2, height), palette)
    for mark in panel.marks:
        if not isinstance(mark, Label):
            plot.draw(mark)
    for mark in panel.marks:
        if isinstance(mark, Label):
            plot.label(mark)
        elif isinstance(mark, Rule) and mark.label:
            plot.rule_label(mark)
    if cross is not None:
        plot.cross(cross)
    return plot.text(legend=legend)


class _Plot:
    """Dots and characters of one panel, each cell with one colour: that of the mark drawn last."""

    def __init__(self, panel: Panel, columns: int, rows: int, palette: Palette) -> None:
        self._panel = panel
        self._palette = palette
        self._canvas = Canvas(columns, rows)
        self._x = Scale.of(panel.x, positions(panel, "x"), self._canvas.width)
        self._y = Scale.of(panel.y, positions(panel, "y"), self._canvas.height)
        self._colours: dict[tuple[int, int], str] = {}
        self._chars: dict[tuple[int, int], tuple[str, str]] = {}
        self._strokes: dict[tuple[int, int], tuple[str, str]] = {}
        """Of solid lines; points and words lie over them."""
        self._whole = self._solid([m for m in panel.marks if isinstance(m, Line) and m.x and not m.dashed])

    def _dot(self, x: float, y: float) -> tuple[int, int]:
        return self._x.at(x), self._canvas.height - 1 - self._y.at(y)

    def _stroke(self, x0: int, y0: int, x1: int, y1: int, colour: str, *, dashed: bool = False) -> None:
        steps = max(abs(x1 - x0), abs(y1 - y0), 1)
        for i in range(steps + 1):
            if dashed and i % 6 > 2:
                continue
            x, y = round(x0 + (x1 - x0) * i / steps), round(y0 + (y1 - y0) * i / steps)
            self._canvas.dot(x, y)
            self._colours[x // 2, y // 4] = colour

    def _path(self, xs: Sequence[float], ys: Sequence[float], colour: str, *, dashed: bool = False) -> None:
        dots = [self._dot(x, y) for x, y in zip(xs, ys, strict=True)]
        for (x0, y0), (x1, y1) in itertools.pairwise(dots):
            self._stroke(x0, y0, x1, y1, colour, dashed=dashed)
        if len(dots) == 1:
            self._stroke(*dots[0], *dots[0], colour)

    def _solid(self, lines: Sequence[Line]) -> dict[int, dict[tuple[int, int], str]]:
        """The characters of lines without gaps, by the line's id: as exact as the points they join, which are whole
        characters. Empty where dots show more."""
        if self._canvas.rows < TALL or any(len(line.x) * SPARSE > self._canvas.columns for line in lines):
            return {}
        found = {id(line): self._bends(line) for line in lines}
        distinct = len(set().union(*found.values()))
        return found if sum(map(len, found.values())) <= (1 + SHARED) * distinct else {}

    def _bends(self, line: Line) -> dict[tuple[int, int], str]:
        out: dict[tuple[int, int], str] = {}
        cells = [(column // 2, row // 4) for column, row in map(self._dot, line.x, line.y)]
        for (left, first), (right, last) in itertools.pairwise(sorted(cells) if cells[0] > cells[-1] else cells):
            step = 1 if right >= left else -1
            columns = range(left, right + step, step)
            rows = [round(first + (last - first) * abs(at - left) / max(1, abs(right - left))) for at in columns]
            for column, row, after in zip(columns, rows, [*rows[1:], last], strict=True):
                out |= _bend(column, row, after)
        return out

    def draw(self, mark: object) -> None:
        """Draw one mark."""
        if isinstance(mark, Line):
            colour = tone_colour(mark.tone, mark.series, self._palette)
            if id(mark) in self._whole:
                self._strokes |= {place: (char, colour) for place, char in self._whole[id(mark)].items()}
            else:
                self._path(mark.x, mark.y, colour, dashed=mark.dashed)
        elif isinstance(mark, Steps):
            self._steps(mark)
        elif isinstance(mark, Points):
            self._points(mark)
        elif isinstance(mark, Bars):
            self._bars(mark)
        elif isinstance(mark, Band):
            for edge in (mark.low, mark.high):
                self._path(mark.x, edge, self._palette.faint)
        elif isinstance(mark, Rule):
            self._rule(mark)

    def label(self, mark: Label) -> None:
        """Write a word beside its point where there is room: right, left, above or below; else leave it out."""
        column, row = (v // d for v, d in zip(self._dot(mark.x, mark.y), (2, 4), strict=True))
        size = cell_len(mark.whole)
        places = (
            (column + 2, row),
            (column - size - 1, row),
            (column - size // 2, row - 1),
            (column - size // 2, row + 1),
        )
        self._place(mark.whole, places, tone_colour(mark.tone, 0, self._palette))

    def cross(self, cross: Cross) -> None:
        """A crosshair: dotted lines through its point, which is drawn last."""
        column, row = self._dot(cross.x, cross.y)
        for other in range(self._canvas.rows):
            self._chars.setdefault((column // 2, other), ("┊", self._palette.muted))
        for other in range(self._canvas.columns):
            self._chars.setdefault((other, row // 4), ("┈", self._palette.muted))
        self._chars[column // 2, row // 4] = "◉", f"bold {self._palette.ink}"

    def _steps(self, mark: Steps) -> None:
        xs = [x for x in mark.x for _ in (0, 1)][1:]
        ys = [y for y in mark.y for _ in (0, 1)][:-1]
        self._path(xs, ys, tone_colour(mark.tone, mark.series, self._palette))

    def _bars(self, mark: Bars) -> None:
        for x, height in zip(mark.x, mark.height, strict=True):
            (left, top), (_, bottom) = self._dot(x, height), self._dot(x, 0.0)
            for column in (left, left + 1):
                self._stroke(column, top, column, bottom, tone_colour("series", mark.series, self._palette))

    def _points(self, mark: Points) -> None:
        colour = tone_colour(mark.tone, mark.series, self._palette)
        for x, low, high in zip(mark.x, mark.low, mark.high, strict=False):
            (column, top), (_, bottom) = self._dot(x, high), self._dot(x, low)
            self._stroke(column, top, column, bottom, colour)
        for i, (x, y) in enumerate(zip(mark.x, mark.y, strict=True)):
            column, row = self._dot(x, y)
            shown = HOLLOW if i in mark.hollow else shape_of(mark.series)
            self._chars[column // 2, row // 4] = shown, colour

    def _rule(self, mark: Rule) -> None:
        colour = tone_colour(mark.tone, 0, self._palette)
        if mark.axis == "x":
            column = self._x.at(mark.at)
            self._stroke(column, 0, column, self._canvas.height - 1, colour, dashed=bool(mark.label))
        else:
            row = self._canvas.height - 1 - self._y.at(mark.at)
            self._stroke(0, row, self._canvas.width - 1, row, colour, dashed=bool(mark.label))

    def rule_label(self, mark: Rule) -> None:
        """The words of a straight line: beside an upright one from the top down, over a level one from the right."""
        size, columns, rows = cell_len(mark.label), self._canvas.columns, self._canvas.rows
        colour = tone_colour(mark.tone, 0, self._palette)
        if mark.axis == "x":
            left = self._x.at(mark.at) // 2 + 1
            left = left if left + size <= columns else left - size - 2
            places = [(left, row) for row in range(rows)]
        else:
            row = (self._canvas.height - 1 - self._y.at(mark.at)) // 4
            over = row - 1 if row else row + 1
            places = [(left, over) for left in range(columns - size, 0, -4)]
        self._place(mark.label, places, colour)

    def _place(self, text: str, places: Sequence[tuple[int, int]], colour: str) -> None:
        """Words at the first place where they cover no others."""
        size = cell_len(text)
        for left, row in places:
            inside = left >= 0 and left + size <= self._canvas.columns and 0 <= row < self._canvas.rows
            if inside and not any((left + i, row) in self._chars for i in range(-1, size + 1)):
                for i, char in enumerate(text):
                    self._chars[left + i, row] = char, colour
                return

    def text(self, *, legend: bool) -> Text:
        """The plot with the numbers of its axes and a legend of its series."""
        out = Text(no_wrap=True)
        lines, last = self._canvas.lines(), self._canvas.rows - 1
        named = self._y_labels()
        if self._panel.y.title:
            out.append(f"{shorten(self._panel.y.title, LABEL_ROOM + self._canvas.columns)}\n", self._palette.muted)
        for row, line in enumerate(lines):
            said = named.get(row, "")
            out.append(shorten(said, LABEL_ROOM - 1).rjust(LABEL_ROOM - 1) + " ", self._palette.muted)
            for column, char in enumerate(line):
                place = column, row
                dots = char, self._colours.get(place, self._palette.ink)
                shown, colour = self._chars.get(place) or self._strokes.get(place) or dots
                out.append(shown, colour)
            if row < last:
                out.append("\n")
        if not self._panel.x.hidden:
            out.append(f"\n{' ' * LABEL_ROOM}{self._x_labels()}", self._palette.muted)
        if legend:
            out.append_text(self._legend())
        return out

    def _y_labels(self) -> dict[int, str]:
        """What stands left of each line: round numbers where there is room, else the two ends."""
        axis, rows, found = self._panel.y, self._canvas.rows, self._y
        if rows < TALL:
            span = found.high - found.low
            return {0: number(found.high, axis, span=span), rows - 1: number(found.low, axis, span=span)}
        at = ticks(found.low, found.high, max(2, rows // 4), log=found.log)
        return {(self._canvas.height - 1 - found.at(v)) // 4: _numbered(v, axis) for v in at}

    def _x_labels(self) -> str:
        axis, columns = self._panel.x, self._canvas.columns
        if axis.scale == "categories":
            return _spread(
                [
                    (self._x.at(i) // 2, f"{name} {axis.title}" if i == 0 and axis.title else name)
                    for i, name in enumerate(axis.labels)
                ],
                columns,
            )
        if self._canvas.rows < TALL and not axis.title:
            left, right = (number(v, axis, span=self._x.high - self._x.low) for v in (self._x.low, self._x.high))
            return left + right.rjust(max(1, columns - len(left)))
        at = numbers_along(axis, self._x.low, self._x.high, max(2, columns // 12), log=self._x.log)
        line = _spread([(self._x.at(v) // 2, _numbered(v, axis)) for v in at], columns)
        return f"{line}\n{' ' * LABEL_ROOM}{axis.title.rjust(columns)}" if axis.title else line

    def _legend(self) -> Text:
        out = Text()
        for line in legend_lines(self._panel, self._canvas.columns):
            out.append(f"\n{' ' * LABEL_ROOM}")
            for name, mark in line:
                dashed = isinstance(mark, Line) and mark.dashed
                out.append(f"{'╌' if dashed else shape_of(mark.series)} ", tone_of(mark, self._palette))
                out.append(f"{name}   ", self._palette.muted)
        return out


def _bend(column: int, row: int, after: int) -> dict[tuple[int, int], str]:
    """A column of a solid line: level, or with a bend into the row it goes on in."""
    if row == after:
        return {(column, row): "─"}
    begins, ends = ("╮", "╰") if after > row else ("╯", "╭")
    between = {(column, at): "│" for at in range(min(row, after) + 1, max(row, after))}
    return {(column, row): begins, (column, after): ends, **between}


_Named = Line | Steps | Points | Bars


def legend_lines(panel: Panel, columns: int) -> list[list[tuple[str, _Named]]]:
    """The names of a panel's series, in as many lines as they take."""
    names = {m.name: m for m in panel.marks if isinstance(m, _Named) and m.name}
    out: list[list[tuple[str, _Named]]] = []
    used = 0
    for name, mark in names.items():
        if not out or used + cell_len(name) + 5 > columns:
            out.append([])
            used = 0
        out[-1].append((name, mark))
        used += cell_len(name) + 5
    return out


def lines_around(panel: Panel, width: int, *, legend: bool) -> int:
    """Lines a panel takes beside its plot: the titles and numbers of its axes, and its legend."""
    x_axis = 0 if panel.x.hidden else 1 + bool(panel.x.title and panel.x.scale != "categories")
    named = len(legend_lines(panel, max(4, width - LABEL_ROOM))) if legend else 0
    return x_axis + bool(panel.y.title) + named


SHAPES = "●■◆▼▲✚✖★"
"""One for each series: told apart without colour, too."""


def shape_of(series: int) -> str:
    """The shape of a series' points."""
    return SHAPES[series % len(SHAPES)] if series else DOT


def tone_of(mark: _Named, palette: Palette) -> str:
    """The colour of a mark in the legend."""
    return tone_colour("series" if isinstance(mark, Bars) else mark.tone, mark.series, palette)


def _numbered(value: float, axis: Axis) -> str:
    """A round number of an axis."""
    return number(value, axis) if axis.unit else plain(value)


def _spread(words: Sequence[tuple[int, str]], columns: int) -> str:
    """Words in a line, each in the middle of its place; those without room are left out."""
    line = [" "] * columns
    for at, text in words:
        start = min(max(0, at - len(text) // 2), columns - len(text))
        if start >= 0 and all(char == " " for char in line[max(0, start - 1) : start + len(text) + 1]):
            line[start : start + len(text)] = text
    return "".join(line).rstrip()
