"""The map as a widget: arrow keys choose a cell, enter or a click opens it."""

from __future__ import annotations

from dataclasses import replace

from rich.text import Text
from textual import events
from textual.binding import Binding
from textual.message import Message
from textual.widget import Widget

from zinc_kettle.present.view import CellView, Grid
from zinc_kettle.tui.draw.heatmap import Layout, Look, draw, layout


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
        self._grid: Grid | None = None
        self._look: Look | None = None
        self._slice = 0
        self.cursor = (0, 0)
        self._origin = (0, 0)

    def show(self, grid: Grid, look: Look, part: int) -> None:
        """Draw this grid from now on."""
        self._grid, self._look, self._slice = grid, look, part % len(grid.slices)
        rows = self._grid.slices[self._slice].rows
        self.cursor = (min(self.cursor[0], len(rows) - 1), min(self.cursor[1], len(rows[0]) - 1))
        self.refresh()

    def mark_running(self, index: int | None) -> None:
        """Another cell is being measured; nothing is drawn where it is the same one."""
        if self._look is not None and self._look.running != index:
            self._look = replace(self._look, running=index)
            self.refresh()

    @property
    def chosen(self) -> CellView | None:
        """The cell under the cursor."""
        if self._grid is None:
            return None
        return self._grid.slices[self._slice].rows[self.cursor[0]][self.cursor[1]]

    def choose(self, index: int) -> None:
        """Put the cursor on a cell of the plan, if it is in this slice."""
        if self._grid is None:
            return
        for r, row in enumerate(self._grid.slices[self._slice].rows):
            for c, cell in enumerate(row):
                if cell.cell.index == index:
                    self.cursor = (r, c)

    def _place(self) -> Layout:
        assert self._grid is not None
        return layout(self._grid, self.size.width, self.size.height)

    def render(self) -> Text:
        """The map; a hint where there is none."""
        if self._grid is None or self._look is None:
            return Text("reading the study …")
        chosen = self.chosen
        look = replace(self._look, cursor=chosen.cell.index if chosen else None)
        place = self._place()
        self._origin = place.follow(self._origin, self.cursor)
        return draw(self._grid, self._grid.slices[self._slice], place, look, self._origin)

    def action_move(self, down: int, right: int) -> None:
        """Move the cursor, staying inside."""
        if self._grid is None:
            return
        rows = self._grid.slices[self._slice].rows
        row = min(max(0, self.cursor[0] + down), len(rows) - 1)
        column = min(max(0, self.cursor[1] + right), len(rows[0]) - 1)
        self._move_to(row, column)

    def _move_to(self, row: int, column: int) -> None:
        self.cursor = (row, column)
        self.refresh()
        self.post_message(self.Moved())

    def on_click(self, event: events.Click) -> None:
        """Choose a cell; a second click on it opens it."""
        if self._grid is None:
            return
        rows = self._grid.slices[self._slice].rows
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
