"""The explanation of a station, over it."""

from __future__ import annotations

from textual.app import ComposeResult
from textual.containers import Vertical, VerticalScroll
from textual.screen import ModalScreen
from textual.widgets import Markdown, Static

from zinc_kettle.tui.standing import Standing


class Explanation(Standing, ModalScreen[None]):
    """Shows a station's help and its keys; any of escape, ? and q closes it."""

    BINDINGS = [("escape", "close", "close"), ("question_mark", "close", "close"), ("q", "close", "close")]  # noqa: RUF012
    DEFAULT_CSS = """
    Explanation { align: center middle; background: $background 60%; }
    Explanation > Vertical {
        width: 90%; max-width: 100; height: 85%; background: $panel; padding: 1 2;
        border: round $border;
    }
    Explanation VerticalScroll { height: 1fr; }
    Explanation Markdown { background: $panel; margin: 0; padding: 0; }
    Explanation #close-hint { color: $text-muted; height: 1; margin: 1 0 0 0; }
    """

    def __init__(self, text: str) -> None:
        super().__init__()
        self._text = text

    def compose(self) -> ComposeResult:
        """The text, and how to close it."""
        with Vertical():
            with VerticalScroll():
                yield Markdown(self._text)
            yield Static("escape closes this", id="close-hint")

    def action_close(self) -> None:
        """Close."""
        self.dismiss()
