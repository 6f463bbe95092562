"""A list to search in, over a station: what is chosen is explained below it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.screen import ModalScreen
from textual.widgets import Input, OptionList, Static
from textual.widgets.option_list import Option

from zinc_kettle.tui.choices import Choices
from zinc_kettle.tui.standing import Standing
from zinc_kettle.tui.theme import PALETTES


@dataclass(frozen=True, slots=True)
class Choice:
    """One entry of a chooser."""

    key: str
    """What is given back."""
    head: str
    beside: str = ""
    """Beside it, dim."""
    about: str = ""
    """Below the list while it is selected; its words are searched, too."""


class Chooser(Standing, ModalScreen[str | None]):
    """Asks for one of a list; gives its key, or None where nothing was chosen.

    Args:
        title: What is asked.
        choices: What there is.
        free: Take what was typed where nothing in the list has it.
    """

    BINDINGS = [  # noqa: RUF012
        Binding("escape", "cancel", "cancel"),
        Binding("down", "move(1)", show=False, priority=True),
        Binding("up", "move(-1)", show=False, priority=True),
        Binding("pagedown", "move(10)", show=False, priority=True),
        Binding("pageup", "move(-10)", show=False, priority=True),
    ]
    DEFAULT_CSS = """
    Chooser { align: center middle; background: $background 60%; }
    Chooser > Vertical {
        width: 86%; max-width: 104; height: 80%; background: $panel; padding: 1 2; border: round $border;
    }
    Chooser #chooser-title { height: auto; text-style: bold; }
    Chooser #chooser-search { height: 1; border: none; background: $surface; padding: 0 1; margin: 1 0; }
    Chooser #chooser-list { height: 1fr; border: none; background: $panel; padding: 0; text-wrap: wrap; }
    Chooser #chooser-list > .option-list--option-highlighted { background: $background; }
    Chooser #chooser-about { height: auto; min-height: 3; max-height: 6; margin-top: 1; color: $text-muted; }
    """

    def __init__(self, title: str, choices: Sequence[Choice], *, free: bool = False) -> None:
        super().__init__()
        self._title = title
        self._choices = list(choices)
        self._shown: list[Choice] = []
        self._free = free

    def compose(self) -> ComposeResult:
        """Title, search, list, explanation."""
        with Vertical():
            yield Static(self._title, id="chooser-title")
            yield Input(placeholder="type to search; enter chooses, escape cancels", id="chooser-search", compact=True)
            yield Choices(id="chooser-list")
            yield Static(id="chooser-about")

    def on_mount(self) -> None:
        """Everything, before anything is typed."""
        self.query_one("#chooser-list").can_focus = False
        self._search("")
        self.set_focus(self.query_one(Input))

    def on_input_changed(self, event: Input.Changed) -> None:
        """Show what has the words."""
        self._search(event.value)

    def _search(self, said: str) -> None:
        words = said.lower().split()
        self._shown = [c for c in self._choices if all(w in f"{c.head} {c.beside} {c.about}".lower() for w in words)]
        # Names that begin with what is typed come first.
        self._shown.sort(key=lambda c: not c.head.lower().startswith(said.lower()))
        palette, options = PALETTES[self.app.theme], self.query_one("#chooser-list", OptionList)
        width = max([len(c.head) for c in self._shown], default=0)
        options.clear_options()
        lines = []
        for choice in self._shown:
            line = Text(choice.head.ljust(min(width, 34)), f"bold {palette.ink}", no_wrap=True, overflow="ellipsis")
            line.append(f"  {choice.beside}", palette.muted)
            lines.append(Option(line))
        options.add_options(lines or [Option(Text(self._nothing(said), palette.muted), disabled=True)])
        options.highlighted = 0 if lines else None
        self._explain()

    def _nothing(self, said: str) -> str:
        return f"enter takes {said!r} as it is typed" if self._free and said.strip() else "nothing has these words"

    def on_option_list_option_highlighted(self, _event: OptionList.OptionHighlighted) -> None:
        """Explain the selected entry."""
        self._explain()

    def _explain(self) -> None:
        at = self.query_one("#chooser-list", OptionList).highlighted
        about = self._shown[at].about if at is not None and at < len(self._shown) else ""
        self.query_one("#chooser-about", Static).update(Text(about))

    def action_move(self, by: int) -> None:
        """Another entry."""
        options = self.query_one("#chooser-list", OptionList)
        if self._shown:
            options.highlighted = min(max(0, (options.highlighted or 0) + by), len(self._shown) - 1)

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Choose."""
        at = self.query_one("#chooser-list", OptionList).highlighted
        if self._shown and at is not None:
            self.dismiss(self._shown[at].key)
        elif self._free and event.value.strip():
            self.dismiss(event.value.strip())

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        """A click on an entry."""
        if event.option_index < len(self._shown):
            self.dismiss(self._shown[event.option_index].key)

    def action_cancel(self) -> None:
        """Nothing."""
        self.dismiss(None)
