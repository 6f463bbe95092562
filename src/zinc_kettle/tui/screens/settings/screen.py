"""What a person has set, and where each value is from."""

from __future__ import annotations

from rich.text import Text
from textual.app import ComposeResult
from textual.widgets import Footer, Input, OptionList, Static

from zinc_kettle.core.text import neutralise
from zinc_kettle.errors import KettleError
from zinc_kettle.present.settings import Row
from zinc_kettle.tui.actions import bindings
from zinc_kettle.tui.choices import ChoiceRow, Choices
from zinc_kettle.tui.chooser import Choice
from zinc_kettle.tui.host import host
from zinc_kettle.tui.station import Station
from zinc_kettle.tui.widgets.station_line import Stations

TITLE_ROOM, VALUE_ROOM = 16, 44


class SettingsScreen(Station):
    """A line each; enter changes one."""

    BINDINGS = bindings("settings")
    AUTO_FOCUS = "#rows"

    def __init__(self) -> None:
        super().__init__()
        self._rows: list[Row] = []
        self._changing = ""

    def widgets(self) -> ComposeResult:
        """Title, the lines, and an explanation of the selected one."""
        yield Stations("settings")
        yield Static(id="title")
        yield Choices(id="rows")
        yield Static(id="about")
        yield Input(id="line", compact=True)
        yield Footer()

    def on_mount(self) -> None:
        """Read them."""
        self.redraw()

    def draw(self) -> None:
        """Draw everything."""
        p = self.palette
        self.query_one(Stations).show(p)
        self.query_one("#title", Static).update(Text("What is set, and where is that from?", f"bold {p.ink}"))
        try:
            self._rows = host(self).services.settings()
        except KettleError as error:
            self.query_one("#about", Static).update(Text(str(error), p.failure))
            return
        self.query_one(Choices).show([ChoiceRow(row.title, self._line(row), row.meaning) for row in self._rows])

    def _line(self, row: Row) -> Text:
        p = self.palette
        out = Text(no_wrap=True, overflow="ellipsis")
        out.append(f" {row.title.ljust(TITLE_ROOM)}", p.muted)
        out.append(f"{row.value.ljust(VALUE_ROOM)} ", f"bold {p.ink}" if row.setting is not None else p.ink)
        return out.append(row.origin, p.muted)

    @property
    def _row(self) -> Row | None:
        key = self.query_one(Choices).chosen
        return next((row for row in self._rows if row.title == key), None)

    def on_option_list_option_highlighted(self, _event: OptionList.OptionHighlighted) -> None:
        """Explain the selected line."""
        row, p = self._row, self.palette
        if row is not None:
            out = Text(f"{row.title}: {row.meaning}.", p.ink)
            out.append("  enter changes it" if row.setting is not None else "", p.muted)
            self.query_one("#about", Static).update(out)

    def on_option_list_option_selected(self, _event: OptionList.OptionSelected) -> None:
        """Change it."""
        row = self._row
        if row is None or row.setting is None:
            return
        self._changing = row.key
        if row.setting.choices:
            choices = [Choice(word, word) for word in row.setting.choices]
            self.choose(f"{row.title}: {row.meaning}", choices, self._take)
            return
        self.open_line(f"{row.title}; empty restores the default, escape cancels")

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Take what was typed."""
        self.close_line()
        self._take(neutralise(event.value, keep_newlines=False))

    def _take(self, text: str) -> None:
        try:
            host(self).services.set_preference(self._changing, text)
        except KettleError as error:
            self.notify(str(error), severity="error", timeout=10)
            return
        if self._changing == "screen.theme":
            host(self).wear(text or host(self).services.theme())
        self.redraw()

    def clipboard_text(self) -> str:
        """What is set, tab-separated."""
        return "\n".join(f"{row.title}\t{row.value}\t{row.origin}" for row in self._rows)

    def action_back(self) -> None:
        """Put the line away, or go back."""
        if not self.close_line():
            self.app.pop_screen()
