"""The map as a widget: arrow keys choose a cell, enter or a click opens it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any, Self

from rich.segment import Segment
from rich.text import Text
from textual import events
from textual.binding import Binding
from textual.geometry import Region, Size
from textual.message import Message
from textual.strip import Strip
from textual.widget import Widget

from zinc_kettle.core.compare import Standing
from zinc_kettle.core.grid import Grid, Slice, grid_of
from zinc_kettle.core.results import StudyResults
from zinc_kettle.present.charts.map import Window, map_panel
from zinc_kettle.present.planned import Planned
from zinc_kettle.tui.draw.map import Layout, Line, beyond_words, draw_map, layout
from zinc_kettle.tui.theme import Palette


@dataclass(frozen=True)
class MapSubject:
    """What the map shows."""

    results: StudyResults
    measure: str
    palette: Palette
    part: int = 0
    """Which slice."""
    rank: Standing = field(default_factory=Standing)
    planned: Mapping[str, Planned] = field(default_factory=dict)
    running: str | None = None
    """Key of the cell that is being measured."""

    @property
    def grid(self) -> Grid:
        """The study's layout."""
        return grid_of(self.results)

    @property
    def here(self) -> Slice:
        """The slice that is shown."""
        return self.grid.slices[self.part]


def map_lines(subject: MapSubject, place: Layout, origin: tuple[int, int], cursor: str | None) -> list[Line]:
    """The part of a slice that is in sight from `origin` on.

    Args:
        subject: What the map shows.
        place: Where its cells stand.
        origin: First row and column in sight.
        cursor: Key of the chosen cell.
    """
    here = subject.here
    at = Window(*origin, place.rows, place.columns)
    panel = map_panel(subject.results, subject.measure, subject.part, at=at, rank=subject.rank,
                      planned=subject.planned, running=subject.running)  # fmt: skip
    column = here.columns.factor
    counted = column is not None and subject.results.study.factors[column].type == "number"
    return draw_map(
        panel, place, subject.palette, cursor=cursor, beyond=beyond_words(here, place, origin), counted=counted
    )


class MapView(Widget, can_focus=True):
    """Draws one slice of a study."""

    BINDINGS = [  # noqa: RUF012
        Binding("up,k", "move(-1,0)", show=False),
        Binding("down,j", "move(1,0)", show=False),
        Binding("left,h", "move(0,-1)", show=False),
        Binding("right,l", "move(0,1)", show=False),
    ]
    DEFAULT_CSS = "MapView { height: 1fr; width: 1fr; }"

    class Moved(Message):
        """Another cell was chosen."""

    class Opened(Message):
        """The chosen cell is to be opened."""

    def __init__(self) -> None:
        super().__init__(id="map")
        self._subject: MapSubject | None = None
        self.cursor = (0, 0)
        self._origin = (0, 0)
        self._strips: list[Strip] | None = None
        """The lines as they are drawn; None until they are needed again."""
        self._size_drawn = Size(0, 0)

    def show(self, subject: MapSubject) -> None:
        """Draw this from now on."""
        self._subject = replace(subject, part=subject.part % len(subject.grid.slices))
        rows = self._rows
        self.cursor = (min(self.cursor[0], len(rows) - 1), min(self.cursor[1], len(rows[0]) - 1))
        self._draw_changes()

    def mark_running(self, key: str | None) -> None:
        """Another cell is being measured; nothing is drawn where it is the same one."""
        if self._subject is not None and self._subject.running != key:
            self._subject = replace(self._subject, running=key)
            self._draw_changes()

    @property
    def _rows(self) -> tuple[tuple[str | None, ...], ...]:
        """Keys of the slice's cells."""
        return () if self._subject is None else self._subject.here.keys

    @property
    def chosen(self) -> str | None:
        """Key of the cell under the cursor."""
        rows = self._rows
        return rows[self.cursor[0]][self.cursor[1]] if rows else None

    def _place(self) -> Layout:
        assert self._subject is not None
        return layout(self._subject.here, self.size.width, self.size.height)

    def render(self) -> Text:
        """A hint where there is no map."""
        return Text("reading the study …")

    def refresh(self, *regions: Region, **more: Any) -> Self:
        """Draw it again: all of it, or some regions."""
        if not regions:
            self._strips = None
        return super().refresh(*regions, **more)

    def render_line(self, y: int) -> Strip:
        """One line of the map."""
        if self._subject is None:
            return super().render_line(y)
        if self._strips is None or self._size_drawn != self.size:
            self._strips = self._draw(self._subject)
        return self._strips[y]

    def _draw(self, subject: MapSubject) -> list[Strip]:
        place = self._place()
        self._size_drawn = self.size
        self._origin = place.follow(self._origin, self.cursor)
        lines = map_lines(subject, place, self._origin, self.chosen)
        base, width, height = self.rich_style, self.size.width, self.size.height
        return [
            Strip(Segment(text, base + style) for text, style in line).adjust_cell_length(width, base)
            for line in (*lines[:height], *([[]] * (height - len(lines))))
        ]

    def _draw_changes(self) -> None:
        """Draw the lines that are no longer what is shown."""
        before = self._strips
        if before is None or self._subject is None or self._size_drawn != self.size:
            self.refresh()
            return
        self._strips = self._draw(self._subject)
        changed = [y for y, (old, new) in enumerate(zip(before, self._strips, strict=True)) if old != new]
        if changed:
            self.refresh(*(Region(0, y, self.size.width, 1) for y in changed))

    def action_move(self, down: int, right: int) -> None:
        """Move the cursor, staying inside."""
        rows = self._rows
        if rows:
            row = min(max(0, self.cursor[0] + down), len(rows) - 1)
            column = min(max(0, self.cursor[1] + right), len(rows[0]) - 1)
            self._move_to(row, column)

    def _move_to(self, row: int, column: int) -> None:
        self.cursor = (row, column)
        self._draw_changes()
        self.post_message(self.Moved())

    def on_click(self, event: events.Click) -> None:
        """Choose a cell; a second click on it opens it."""
        rows = self._rows
        if not rows:
            return
        top, left = self._origin
        place = self._place()
        seen = place.hit(event.x, event.y, min(place.rows, len(rows) - top), min(place.columns, len(rows[0]) - left))
        if seen is None:
            return
        hit = (seen[0] + top, seen[1] + left)
        again = hit == self.cursor
        self._move_to(*hit)
        if again:
            self.post_message(self.Opened())
