"""The whole map of a study: one slice, or several beside each other where there is room for them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property

from rich.cells import cell_len
from rich.style import Style

from zinc_kettle.core.compare.cells import Ranking
from zinc_kettle.core.grid import Axes, Grid, Slice, grid_of
from zinc_kettle.core.results import StudyResults
from zinc_kettle.core.text import shorten
from zinc_kettle.present.charts.map import Window, map_panel
from zinc_kettle.present.planned import Planned
from zinc_kettle.present.strip import strip_of
from zinc_kettle.tui.draw.map import GAP, HEADS, MIN_CELL, MIN_ROWS, Layout, Pieces, beyond_words, draw_map, layout
from zinc_kettle.tui.draw.strip import AXIS, LEAST, LEAST_ROWS, WORDS, draw_strip, strip_columns
from zinc_kettle.tui.theme import Palette

BETWEEN = 2
"""Columns between two slices beside each other."""
TALL_STRIP = 28
"""A strip in more rows than this only stretches its axis."""
MOST_PANES = 24

Cursor = tuple[int, int, int]
"""Slice, row and column of the chosen cell."""
Origin = tuple[int, int]
"""First row and column in sight, of a slice that is larger than its room."""


@dataclass(frozen=True)
class MapSubject:
    """What the map shows."""

    results: StudyResults
    measure: str
    palette: Palette
    part: int = 0
    """Which slice, where they are shown one by one."""
    rank: Ranking = field(default_factory=Ranking)
    planned: Mapping[str, Planned] = field(default_factory=dict)
    running: str | None = None
    """Key of the cell that is being measured."""
    by: Axes | None = None
    """The factors that span it; the usual ones where none are named."""
    further: tuple[str, ...] = ()
    """Measures a large cell shows besides."""

    @property
    def grid(self) -> Grid:
        """The study's layout."""
        return grid_of(self.results, self.by)


@dataclass(frozen=True)
class Pane:
    """One slice on the page."""

    part: int
    left: int
    top: int
    width: int
    height: int
    place: Layout
    title: bool
    """True where its title stands above it."""
    alone: bool = False
    """True where no other is in sight: then it may be larger than its room, and is seen through a window."""


@dataclass(frozen=True)
class MapPage:
    """A study's map in a room."""

    subject: MapSubject
    width: int
    height: int

    @cached_property
    def panes(self) -> tuple[Pane, ...]:
        """The slices that are shown, as large as the room allows; one where all of them do not fit."""
        parts = self.subject.grid.slices
        count = len(parts)
        best: tuple[int, int, int] | None = None
        for across in range(1, min(count, MOST_PANES) + 1) if 1 < count <= MOST_PANES else ():
            down = -(-count // across)
            width, height = (self.width - BETWEEN * (across - 1)) // across, self.height // down
            if all(self._fits(part, width, height - 1) for part in parts):
                area = self._cell_area(parts[0], width, height - 1)
                if best is None or area > best[0]:
                    best = (area, across, down)
        if best is None:
            shown = self.subject.part % count
            height = min(self.height, TALL_STRIP) if self._strip(parts[shown]) else self.height
            titled = count > 1
            place = layout(parts[shown], self.width, height - int(titled))
            return (Pane(shown, 0, 0, self.width, height, place, title=titled, alone=True),)
        _, across, down = best
        width, height = (self.width - BETWEEN * (across - 1)) // across, self.height // down
        out = []
        for i, part in enumerate(parts):
            row, column = divmod(i, across)
            place = layout(part, width, height - 1)
            out.append(Pane(i, column * (width + BETWEEN), row * height, width, height, place, title=True))
        return tuple(out)

    @property
    def whole(self) -> bool:
        """True where every slice is in sight."""
        return len(self.panes) == len(self.subject.grid.slices)

    @cached_property
    def _drawable(self) -> bool:
        """False for a plan of which nothing is predicted: an axis without a point says nothing."""
        subject = self.subject
        fits = any(p.fit is not None and p.fit.decode is not None for p in subject.planned.values())
        begun = subject.running is not None or subject.results.run.state != "planned"
        return begun or (fits and subject.measure == "decode")

    def _strip(self, part: Slice) -> bool:
        return self._drawable and len(part.rows.labels) == 1 and part.columns.factor is not None

    def _fits(self, part: Slice, width: int, height: int) -> bool:
        if self._strip(part):
            return width >= AXIS + LEAST * len(part.columns.labels) and height > LEAST_ROWS + WORDS
        label = layout(part, width, height).label
        wide = label + len(part.columns.labels) * (MIN_CELL + GAP)
        return width >= wide and height >= HEADS + len(part.rows.labels) * (MIN_ROWS + GAP)

    def _cell_area(self, part: Slice, width: int, height: int) -> int:
        if self._strip(part):
            return strip_columns(len(part.columns.labels), width)[1] * height
        place = layout(part, width, height)
        return place.width * place.height

    # cells
    def key(self, cursor: Cursor) -> str | None:
        """The cell at a place."""
        part, row, column = cursor
        return self.subject.grid.slices[part].keys[row][column]

    def inside(self, cursor: Cursor) -> Cursor:
        """The place, or the nearest there is."""
        shown = [pane.part for pane in self.panes]
        part = cursor[0] if cursor[0] in shown else shown[0]
        keys = self.subject.grid.slices[part].keys
        return part, min(cursor[1], len(keys) - 1), min(cursor[2], len(keys[0]) - 1)

    def moved(self, cursor: Cursor, down: int, right: int) -> Cursor:
        """One cell further; over the edge of a slice into the one beside it."""
        part, row, column = self.inside(cursor)
        keys = self.subject.grid.slices[part].keys
        row, column = row + down, column + right
        if 0 <= row < len(keys) and 0 <= column < len(keys[0]):
            return part, row, column
        here = next(pane for pane in self.panes if pane.part == part)
        beside = self._beside(here, down, right)
        if beside is None:
            return part, min(max(0, row), len(keys) - 1), min(max(0, column), len(keys[0]) - 1)
        theirs = self.subject.grid.slices[beside.part].keys
        last = len(theirs) - 1, len(theirs[0]) - 1
        row = 0 if down > 0 else last[0] if down < 0 else min(row, last[0])
        column = 0 if right > 0 else last[1] if right < 0 else min(column, last[1])
        return beside.part, row, column

    def _beside(self, here: Pane, down: int, right: int) -> Pane | None:
        if right:
            row = [p for p in self.panes if p.top == here.top and (p.left - here.left) * right > 0]
            return min(row, key=lambda p: abs(p.left - here.left), default=None)
        column = [p for p in self.panes if p.left == here.left and (p.top - here.top) * down > 0]
        return min(column, key=lambda p: abs(p.top - here.top), default=None)

    def hit(self, x: int, y: int, origin: Origin) -> Cursor | None:
        """The cell at a place of the page."""
        for pane in self.panes:
            inside_x, inside_y = x - pane.left, y - pane.top - int(pane.title)
            if not (0 <= inside_x < pane.width and 0 <= inside_y < pane.height - int(pane.title)):
                continue
            part = self.subject.grid.slices[pane.part]
            top, left = origin if pane.alone else (0, 0)
            if self._strip(part):
                shown, each = strip_columns(len(part.columns.labels), pane.width)
                column = (inside_x - AXIS) // each
                found = (0, column) if 0 <= column < min(shown, len(part.columns.labels) - left) else None
            else:
                place = pane.place
                rows = min(place.rows, len(part.keys) - top)
                found = place.hit(inside_x, inside_y, rows, min(place.columns, len(part.keys[0]) - left))
            if found is not None:
                return pane.part, found[0] + top, found[1] + left
        return None

    def follow(self, origin: Origin, cursor: Cursor) -> Origin:
        """The first row and column in sight, moved as little as keeps the cursor in sight."""
        if len(self.panes) > 1:
            return 0, 0
        pane = self.panes[0]
        part = self.subject.grid.slices[pane.part]
        if not self._strip(part):
            return pane.place.follow(origin, cursor[1:])
        shown, _ = strip_columns(len(part.columns.labels), pane.width)
        return 0, min(max(origin[1], cursor[2] - shown + 1), cursor[2])

    # drawing
    def lines(self, origin: Origin, cursor: Cursor | None) -> list[Pieces]:
        """The page, line by line."""
        chosen = None if cursor is None else self.key(self.inside(cursor))
        here = None if cursor is None else self.inside(cursor)[0]
        rows: list[Pieces] = []
        for top in sorted({pane.top for pane in self.panes}):
            row = [pane for pane in self.panes if pane.top == top]
            drawn = [self._pane(p, origin, chosen if p.part == here else None) for p in row]
            for y in range(max(len(lines) for lines in drawn)):
                rows.append(_beside([lines[y] if y < len(lines) else [] for lines in drawn], row))
        return rows

    def _pane(self, pane: Pane, origin: Origin, cursor: str | None) -> list[Pieces]:
        subject, height = self.subject, pane.height - int(pane.title)
        part = subject.grid.slices[pane.part]
        at = origin if pane.alone else (0, 0)
        if self._strip(part):
            strip = strip_of(
                subject.results,
                subject.measure,
                part,
                rank=subject.rank,
                planned=subject.planned,
                running=subject.running,
            )
            lines = draw_strip(strip, pane.width, height, subject.palette, first=at[1], cursor=cursor)
        else:
            lines = self._boxes(pane, part, at, cursor)
        if not pane.title:
            return lines
        count = len(subject.grid.slices)
        which = f"   slice {pane.part + 1} of {count}" if pane.alone else ""
        title = shorten(part.title + which, pane.width - 1)
        full = [*lines[:height], *([[]] * (height - len(lines)))]
        return [[(title, Style(color=subject.palette.ink, bold=True))], *full]

    def _boxes(self, pane: Pane, part: Slice, at: Origin, cursor: str | None) -> list[Pieces]:
        subject, place = self.subject, pane.place
        window = Window(*at, place.rows, place.columns)
        panel = map_panel(
            subject.results,
            subject.measure,
            pane.part,
            at=window,
            rank=subject.rank,
            planned=subject.planned,
            running=subject.running,
            by=subject.by,
            further=subject.further,
            room=place.height,
        )
        column = part.columns.factor
        counted = column is not None and subject.results.study.factors[column].type == "number"
        beyond = beyond_words(part, place, at)
        return draw_map(panel, place, subject.palette, cursor=cursor, beyond=beyond, counted=counted)


def _beside(lines: list[Pieces], panes: list[Pane]) -> Pieces:
    """Lines of panes beside each other as one."""
    out: Pieces = []
    for i, (line, pane) in enumerate(zip(lines, panes, strict=True)):
        out += line
        if i + 1 < len(panes):
            used = sum(cell_len(text) for text, _ in line)
            out.append((" " * max(0, panes[i + 1].left - pane.left - used), Style.null()))
    return out
