"""Charts as text: panels of marks on axes, in braille, blocks and characters, in the theme's colours.

Draws everything core.chart describes but grids of cells, which have a cursor and a window of their own (tui.draw.map).
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence
from dataclasses import dataclass

from rich.cells import cell_len
from rich.text import Text

from zinc_kettle.core.chart import (
    Axis,
    Band,
    Bars,
    Chart,
    Label,
    Line,
    Panel,
    Points,
    Rule,
    Spans,
    Steps,
    Tone,
    extent,
    positions,
)
from zinc_kettle.core.text import shorten
from zinc_kettle.core.units import digits, with_unit
from zinc_kettle.tui.draw.canvas import Canvas
from zinc_kettle.tui.theme import Palette

LABEL_ROOM = 9
"""Characters left of a plot for the numbers of its y axis."""
NAME_ROOM = 11
"""Characters left of rows for their names."""
SPAN_MARKS: dict[Tone, str] = {"waiting": "▒", "busy": "█", "failure": "█"}
DOT, HOLLOW, OVER = "●", "○", "│"


def tone_colour(tone: Tone, series: int, palette: Palette) -> str:
    """The theme's colour of a mark."""
    if tone == "series":
        return palette.series[series % len(palette.series)]
    plain = {
        "ink": palette.ink, "muted": palette.muted, "faint": palette.faint, "best": palette.copper,
        "caution": palette.caution, "failure": palette.failure, "waiting": palette.muted, "busy": palette.ink,
    }  # fmt: skip
    return plain[tone]


def draw_chart(chart: Chart, width: int, height: int, palette: Palette) -> Text:
    """A chart of plots under each other, with its title, its legend and its notes.

    Args:
        chart: What to draw.
        width: Room, in characters.
        height: Room, in lines.
        palette: The theme's colours.
    """
    out = Text(no_wrap=True)
    out.append(f"{shorten(chart.title, width)}\n", f"bold {palette.ink}")
    out.append(f"{shorten(chart.subtitle, width)}\n", palette.muted)
    each = max(4, (height - 4) // max(1, len(chart.panels)) - 1)
    for panel in chart.panels:
        out.append_text(draw_panel(panel, width, each, palette))
        out.append("\n")
    out.append(shorten(" · ".join(chart.notes), width), palette.muted)
    return out


def draw_panel(panel: Panel, width: int, height: int, palette: Palette, *, titled: bool = True) -> Text:
    """One panel in so many characters; says why where there is nothing to draw.

    Args:
        panel: What to draw; no grid of cells.
        width: Characters across.
        height: Lines, the title's and the x axis's not counted.
        palette: The theme's colours.
        titled: Put the panel's title above it.
    """
    out = Text(no_wrap=True)
    if titled and panel.title:
        out.append(f"{shorten(panel.title, width)}\n", palette.muted)
    if not panel.marks:
        out.append(panel.empty or "nothing to draw", palette.muted)
    elif any(isinstance(mark, Spans) for mark in panel.marks):
        out.append_text(_rows(panel, width, palette))
    elif panel.y.hidden:
        out.append_text(_strip(panel, width, palette))
    else:
        out.append_text(_plot(panel, width, height, palette))
    return out


@dataclass(frozen=True)
class Scale:
    """From values of an axis to places of a line of characters or dots."""

    low: float
    high: float
    places: int
    log: bool = False

    @classmethod
    def of(cls, axis: Axis, values: Sequence[float], places: int) -> Scale:
        """The scale of an axis on so many places."""
        if axis.scale == "categories":
            return cls(-0.5, len(axis.labels) - 0.5 if axis.labels else 0.5, places)
        low, high = extent(values, axis.low, axis.high)
        return cls(low, high, places, axis.scale == "log" and low > 0)

    def at(self, value: float) -> int:
        """The place of a value, from 0; those outside are put to the ends."""
        low, high = (math.log(self.low), math.log(self.high)) if self.log else (self.low, self.high)
        where = math.log(value) if self.log and value > 0 else value
        share = (where - low) / (high - low) if high > low else 0.5
        return round(min(1.0, max(0.0, share)) * (self.places - 1))


def number(value: float, axis: Axis, *, span: float | None = None) -> str:
    """A number along an axis, with its unit; not finer than the span of the axis asks for."""
    if axis.unit:
        return with_unit(value, axis.unit)
    return digits(value, spread=None if span is None else span / 50)


# a single line of dots
def _strip(panel: Panel, width: int, palette: Palette) -> Text:
    scale = Scale.of(panel.x, positions(panel, "x"), width)
    row: list[tuple[str, str]] = [("·", palette.faint)] * width
    for mark in panel.marks:
        if isinstance(mark, Rule) and mark.axis == "x":
            row[scale.at(mark.at)] = (OVER, tone_colour(mark.tone, 0, palette))
    for mark in panel.marks:
        if isinstance(mark, Points):
            _strip_points(mark, scale, row, palette)
    out = Text(no_wrap=True)
    for char, colour in row:
        out.append(char, colour)
    left, right = number(scale.low, panel.x), number(scale.high, panel.x)
    out.append("\n" + left + right.rjust(max(1, width - len(left))), palette.muted)
    return out


def _strip_points(mark: Points, scale: Scale, row: list[tuple[str, str]], palette: Palette) -> None:
    counts: dict[int, int] = {}
    for i, value in enumerate(mark.x):
        place = scale.at(value)
        counts[place] = counts.get(place, 0) + 1
        char = HOLLOW if i in mark.hollow else (DOT if counts[place] == 1 else str(min(9, counts[place])))
        colour = palette.caution if i in mark.hollow else tone_colour(mark.tone, mark.series, palette)
        row[place] = (char, colour)


# lying bars in rows
def _rows(panel: Panel, width: int, palette: Palette) -> Text:
    labels = {round(m.y): m for m in panel.marks if isinstance(m, Label)}
    said = max((cell_len(m.text.split(" ▲")[0]) for m in labels.values()), default=0)
    room = max(8, width - NAME_ROOM - said - 2)
    scale = Scale.of(panel.x, positions(panel, "x"), room)
    out = Text(no_wrap=True)
    for row, name in enumerate(panel.y.labels):
        out.append(shorten(name, NAME_ROOM - 1).ljust(NAME_ROOM), palette.muted)
        used = 0
        for mark in panel.marks:
            if isinstance(mark, Spans):
                used = _row_of(mark, row, scale, used, out, palette)
        if row in labels:
            label = labels[row]
            out.append(f" {label.text}", tone_colour(label.tone, 0, palette))
        out.append("\n")
    kinds = {m.tone: m for m in panel.marks if isinstance(m, Spans) and m.name}
    out.append("  ".join(f"{SPAN_MARKS.get(m.tone, '█')} {m.name}" for m in kinds.values()), palette.muted)
    return out


def _row_of(mark: Spans, row: int, scale: Scale, used: int, out: Text, palette: Palette) -> int:
    """Append a row's bars of one mark; returns the place they end at."""
    for where, start, end in zip(mark.row, mark.start, mark.end, strict=True):
        if where == row:
            first = max(used, scale.at(start))
            last = max(first + (1 if end > start and mark.tone == "waiting" else 0), scale.at(end))
            out.append(" " * (first - used))
            out.append(SPAN_MARKS.get(mark.tone, "█") * (last - first), tone_colour(mark.tone, 0, palette))
            used = last
    return used


# plots
def _plot(panel: Panel, width: int, height: int, palette: Palette) -> Text:
    plot = _Plot(panel, max(4, width - LABEL_ROOM), max(2, height), palette)
    for mark in panel.marks:
        plot.draw(mark)
    return plot.text()


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

    def _dot(self, x: float, y: float) -> tuple[int, int]:
        return self._x.at(x), self._canvas.height - 1 - self._y.at(y)

    def _stroke(self, x0: int, y0: int, x1: int, y1: int, colour: str) -> None:
        steps = max(abs(x1 - x0), abs(y1 - y0), 1)
        for i in range(steps + 1):
            x, y = round(x0 + (x1 - x0) * i / steps), round(y0 + (y1 - y0) * i / steps)
            self._canvas.dot(x, y)
            self._colours[x // 2, y // 4] = colour

    def _path(self, xs: Sequence[float], ys: Sequence[float], colour: str) -> None:
        dots = [self._dot(x, y) for x, y in zip(xs, ys, strict=True)]
        for (x0, y0), (x1, y1) in itertools.pairwise(dots):
            self._stroke(x0, y0, x1, y1, colour)
        if len(dots) == 1:
            self._stroke(*dots[0], *dots[0], colour)

    def draw(self, mark: object) -> None:
        """Draw one mark."""
        if isinstance(mark, Line):
            self._path(mark.x, mark.y, tone_colour(mark.tone, mark.series, self._palette))
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
        elif isinstance(mark, Label):
            self._write(*self._dot(mark.x, mark.y), f" {mark.text}", tone_colour(mark.tone, 0, self._palette))

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
            self._chars[column // 2, row // 4] = HOLLOW if i in mark.hollow else DOT, colour

    def _rule(self, mark: Rule) -> None:
        colour = tone_colour(mark.tone, 0, self._palette)
        if mark.axis == "x":
            column = self._x.at(mark.at)
            self._stroke(column, 0, column, self._canvas.height - 1, colour)
            self._write(column, 0, mark.label, colour)
        else:
            row = self._canvas.height - 1 - self._y.at(mark.at)
            self._stroke(0, row, self._canvas.width - 1, row, colour)
            self._write(0, row, mark.label, colour)

    def _write(self, x: int, y: int, text: str, colour: str) -> None:
        for i, char in enumerate(text):
            if x // 2 + i < self._canvas.columns:
                self._chars[x // 2 + i, y // 4] = char, colour

    def text(self) -> Text:
        """The plot with the numbers of its axes and a legend of its series."""
        out = Text(no_wrap=True)
        lines, last = self._canvas.lines(), self._canvas.rows - 1
        span = self._y.high - self._y.low
        for row, line in enumerate(lines):
            value = self._y.high if row == 0 else (self._y.low if row == last else None)
            said = "" if value is None else number(value, self._panel.y, span=span)
            out.append(shorten(said, LABEL_ROOM - 1).rjust(LABEL_ROOM - 1) + " ", self._palette.muted)
            for column, char in enumerate(line):
                shown, colour = self._chars.get(
                    (column, row), (char, self._colours.get((column, row), self._palette.ink))
                )
                out.append(shown, colour)
            if row < last:
                out.append("\n")
        if not self._panel.x.hidden:
            out.append(f"\n{' ' * LABEL_ROOM}{self._x_labels()}", self._palette.muted)
        out.append_text(self._legend())
        return out

    def _x_labels(self) -> str:
        axis, columns = self._panel.x, self._canvas.columns
        if axis.scale != "categories":
            left, right = (number(v, axis, span=self._x.high - self._x.low) for v in (self._x.low, self._x.high))
            return left + right.rjust(max(1, columns - len(left)))
        line = [" "] * columns
        for i, name in enumerate(axis.labels):
            text = f"{name} {axis.title}" if i == 0 and axis.title else name
            start = min(max(0, self._x.at(i) // 2 - len(text) // 2), columns - len(text))
            if start >= 0 and all(char == " " for char in line[max(0, start - 1) : start + len(text)]):
                line[start : start + len(text)] = text
        return "".join(line).rstrip()

    def _legend(self) -> Text:
        names = {m.name: m.series for m in self._panel.marks if isinstance(m, (Line, Steps, Points, Bars)) and m.name}
        out = Text()
        if names:
            out.append(f"\n{' ' * LABEL_ROOM}")
        for name, series in names.items():
            out.append(f"{DOT} ", tone_colour("series", series, self._palette))
            out.append(f"{name}   ", self._palette.muted)
        return out
