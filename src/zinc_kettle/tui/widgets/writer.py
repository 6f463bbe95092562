"""A place to write a few sentences, over a station."""

from __future__ import annotations

from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.screen import ModalScreen
from textual.widgets import Static, TextArea

from zinc_kettle.tui.standing import Standing


class Writer(Standing, ModalScreen[str | None]):
    """Asks for a text; gives it, or None where it was left as it is.

    Args:
        title: What it is for.
        text: What there is.
    """

    BINDINGS = [  # noqa: RUF012
        Binding("ctrl+s", "keep", "keep", priority=True),
        Binding("escape", "cancel", "cancel", priority=True),
    ]
    DEFAULT_CSS = """
    Writer { align: center middle; background: $background 60%; }
    Writer > Vertical {
        width: 86%; max-width: 96; height: 60%; min-height: 10; background: $panel; padding: 1 2; border: round $border;
    }
    Writer #writer-title { height: auto; text-style: bold; }
    Writer TextArea { height: 1fr; border: none; background: $surface; margin: 1 0; padding: 0 1; }
    Writer #writer-hint { height: 1; color: $text-muted; }
    """

    def __init__(self, title: str, text: str) -> None:
        super().__init__()
        self._title = title
        self._text = text

    def compose(self) -> ComposeResult:
        """Title, text, how to leave."""
        with Vertical():
            yield Static(self._title, id="writer-title", markup=False)
            yield TextArea(self._text, soft_wrap=True, tab_behavior="focus", id="writer-text")
            yield Static(
                "^s keeps it, escape leaves it as it was; Markdown: **strong**, *emphasis*, - lists",
                id="writer-hint",
                markup=False,
            )

    def on_mount(self) -> None:
        """Write at the end."""
        area = self.query_one(TextArea)
        area.move_cursor(area.document.end)
        area.focus()

    def action_keep(self) -> None:
        """Give it."""
        self.dismiss(self.query_one(TextArea).text)

    def action_cancel(self) -> None:
        """Leave it."""
        self.dismiss(None)
