"""The map as a widget: arrow keys choose a cell, enter or a click opens it."""

from __future__ import annotations

from dataclasses import replace
from typing import Any, Self

from rich.segment import Segment
from rich.text import Text
from textual import events
from textual.binding import Binding
from textual.geometry import Region, Size
from textual.message import Message
from textual.strip import Strip
from textual.widget import Widget

from zinc_kettle.tui.draw.map_page import Cursor, MapPage, MapSubject


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
        self.cursor: Cursor = (0, 0, 0)
        self._origin = (0, 0)
        self._strips: list[Strip] | None = None
        """The lines as they are drawn; None until they are needed again."""
        self._size_drawn = Size(0, 0)

    def show(self, subject: MapSubject) -> None:
        """Draw this from now on."""
        self._subject = subject
        self.cursor = self._page.inside(self.cursor)
        self._draw_changes()

    def mark_running(self, key: str | None) -> None:
        """Another cell is being measured; nothing is drawn where it is the same one."""
        if self._subject is not None and self._subject.running != key:
            self._subject = replace(self._subject, running=key)
            self._draw_changes()

    @property
    def _page(self) -> MapPage:
        assert self._subject is not None
        return MapPage(self._subject, self.size.width, self.size.height)

    @property
    def whole(self) -> bool:
        """True where every slice is in sight."""
        return self._subject is None or self._page.whole

    @property
    def chosen(self) -> str | None:
        """Key of the cell under the cursor; None where the design has none there."""
        return None if self._subject is None else self._page.key(self._page.inside(self.cursor))

    def choose(self, key: str) -> None:
        """Put the cursor on a cell."""
        if self._subject is None:
            return
        for part, here in enumerate(self._subject.grid.slices):
            for row, keys in enumerate(here.keys):
                if key in keys:
                    self._move_to((part, row, keys.index(key)))
                    return

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
            self._strips = self._draw()
        return self._strips[y]

    def _draw(self) -> list[Strip]:
        page = self._page
        self._size_drawn = self.size
        self.cursor = page.inside(self.cursor)
        self._origin = page.follow(self._origin, self.cursor)
        lines = page.lines(self._origin, self.cursor)
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
        self._strips = self._draw()
        changed = [y for y, (old, new) in enumerate(zip(before, self._strips, strict=True)) if old != new]
        if changed:
            self.refresh(*(Region(0, y, self.size.width, 1) for y in changed))

    def action_move(self, down: int, right: int) -> None:
        """Move the cursor, staying inside."""
        if self._subject is not None:
            self._move_to(self._page.moved(self.cursor, down, right))

    def _move_to(self, cursor: Cursor) -> None:
        self.cursor = cursor
        self._draw_changes()
        self.post_message(self.Moved())

    def on_click(self, event: events.Click) -> None:
        """Choose a cell; a second click on it opens it."""
        hit = None if self._subject is None else self._page.hit(event.x, event.y, self._origin)
        if hit is None:
            return
        again = hit == self.cursor
        self._move_to(hit)
        if again:
            self.post_message(self.Opened())
