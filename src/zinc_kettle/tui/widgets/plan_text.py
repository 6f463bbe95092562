"""A plan to read and to move in; what is edited is edited where it stands, by the screen it is on."""

from __future__ import annotations

from collections.abc import Sequence

from rich.text import Text
from textual import events
from textual.binding import Binding
from textual.message import Message
from textual.widgets import Static

from zinc_kettle.present.plan_lines import PlanLine
from zinc_kettle.tui.draw.plan import Page, Placed, draw_plan
from zinc_kettle.tui.theme import Palette


class PlanText(Static, can_focus=True):
    """The lines of a plan with a cursor."""

    BINDINGS = [  # noqa: RUF012
        Binding("up,k", "move(-1)", show=False),
        Binding("down,j", "move(1)", show=False),
        Binding("home", "move(-1000)", show=False),
        Binding("end", "move(1000)", show=False),
    ]

    class Moved(Message):
        """Another line was chosen."""

    class Chosen(Message):
        """The selected line is to be changed."""

    def __init__(self) -> None:
        super().__init__(id="text")
        self.lines: Sequence[PlanLine] = ()
        self.cursor = 0
        self._page = Page(Text(), ())

    @property
    def line(self) -> PlanLine | None:
        """The selected line."""
        return self.lines[self.cursor] if self.cursor < len(self.lines) else None

    @property
    def place(self) -> Placed | None:
        """Where it stands."""
        return self._page.places[self.cursor] if self.cursor < len(self._page.places) else None

    def show(self, lines: Sequence[PlanLine], width: int, height: int, palette: Palette) -> None:
        """Draw these lines; the cursor stays on what it was on."""
        path = self.line.path if self.line is not None else None
        kind = self.line.kind if self.line is not None else None
        self.lines = lines
        if path is not None:
            self.cursor = next((i for i, n in enumerate(lines) if (n.path, n.kind) == (path, kind)), self.cursor)
        self.cursor = min(self.cursor, max(0, len(lines) - 1))
        self._page = draw_plan(lines, width, height, self.cursor, palette)
        self.update(self._page.text)

    def action_move(self, by: int) -> None:
        """Move the cursor."""
        self.go(self.cursor + by)

    def go(self, line: int) -> None:
        """Move the cursor to a line."""
        self.cursor = min(max(0, line), max(0, len(self.lines) - 1))
        self.post_message(self.Moved())

    def on_click(self, event: events.Click) -> None:
        """Choose a line; a second click changes it."""
        hit = self._page.line_at(event.y)
        if hit is None:
            return
        again = hit == self.cursor
        self.go(hit)
        if again:
            self.post_message(self.Chosen())
