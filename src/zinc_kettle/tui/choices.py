"""A list to choose from, which can be narrowed to the lines that have certain words.

It also survives having no room: the library's list wraps its lines to the width it has, which fails for a width of
nothing, and looks for the line of the chosen entry, which is not there while the list has no room.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import ClassVar

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Horizontal
from textual.widgets import Footer, Input, Label, OptionList
from textual.widgets.option_list import Option

from zinc_kettle.core.units import plural

NOTHING = "Nothing here has these words; escape shows everything again."


@dataclass(frozen=True, slots=True)
class ChoiceRow:
    """One line of a list."""

    key: str
    """What it is known by, once in the list; empty for a heading, which cannot be chosen."""
    text: Text
    also: str = ""
    """Further words it is found by, which are not to be read in it."""

    def has(self, words: Sequence[str]) -> bool:
        """True where it has all the words, in small letters."""
        said = f"{self.text.plain} {self.also}".lower()
        return all(word in said for word in words)


class Choices(OptionList):
    """A list of lines, in which one stays on a line however the lines around it change."""

    DEFAULT_CSS = """
    Choices { min-width: 12; text-wrap: nowrap; text-overflow: ellipsis; }
    Choices:focus { border: none; background-tint: transparent; }
    Choices > .option-list--option-highlighted, Choices:focus > .option-list--option-highlighted {
        background: $panel; color: $foreground; text-style: none;
    }
    """
    BINDINGS = [Binding("escape", "show_everything", "show everything", show=False)]  # noqa: RUF012
    MARKED: ClassVar[bool] = False
    """Whether a mark stands before the selected line; for lists in which a colour alone would not be seen."""

    def __init__(self, *, id: str) -> None:
        super().__init__(id=id)
        self._given: tuple[ChoiceRow, ...] = ()
        self._shown: tuple[ChoiceRow, ...] = ()
        self._nothing = Text()
        self._words: tuple[str, ...] = ()
        self._marked = ""
        self._filter: FilterLine | None = None

    @property
    def chosen(self) -> str:
        """Key of the selected line; empty on none."""
        at = self.highlighted
        return self._shown[at].key if at is not None and at < len(self._shown) else ""

    @property
    def count(self) -> tuple[int, int]:
        """How many lines are shown, and how many there are."""
        return sum(bool(line.key) for line in self._shown), sum(bool(line.key) for line in self._given)

    def show(self, lines: Sequence[ChoiceRow], *, choose: str = "", nothing: Text | None = None) -> None:
        """Show lines.

        Args:
            lines: All there are.
            choose: Key of the line to stand on where one stands on none.
            nothing: What to say where there are none.
        """
        self._given, self._nothing = tuple(lines), nothing or Text()
        wanted = tuple(line for line in self._given if not self._words or (line.key and line.has(self._words)))
        before = self._shown
        self._shown = wanted
        if wanted and [line.key for line in wanted] == [line.key for line in before]:
            for at, line in enumerate(wanted):
                # Texts that differ in nothing but their own style are equal to the library.
                if line.text != before[at].text or line.text.style != before[at].text.style:
                    self._write(at)
            return
        at = self.highlighted or 0
        chosen = before[at].key if self.highlighted is not None and at < len(before) else ""
        empty = Text(NOTHING) if self._given else self._nothing
        self.clear_options()  # tells nobody that one stands on nothing now
        self.add_options(
            [Option(self._prompt(line), disabled=not line.key) for line in wanted] or [Option(empty, disabled=True)]
        )
        self.choose(chosen) or self.choose(choose) or self._near(at)
        if self._filter is not None:
            self._filter.tell()

    def choose(self, key: str) -> bool:
        """Stand on a line; False where there is none of that key."""
        at = next((i for i, line in enumerate(self._shown) if key and line.key == key), None)
        if at is not None:
            self.highlighted = at
        return at is not None

    def _near(self, at: int) -> bool:
        """Stand on the line nearest to a place."""
        ready = [i for i, line in enumerate(self._shown) if line.key]
        if ready:
            self.highlighted = min(ready, key=lambda i: abs(i - at))
        return bool(ready)

    def _prompt(self, line: ChoiceRow) -> Text:
        if not self.MARKED:
            return line.text
        here = bool(line.key) and line.key == self._marked
        text = line.text.copy()
        if here:
            text.stylize("bold")
        out = Text("▸ " if here else "  ", no_wrap=text.no_wrap, overflow=text.overflow)
        return out.append_text(text)

    def _write(self, at: int) -> None:
        self.replace_option_prompt_at_index(at, self._prompt(self._shown[at]))

    def watch_highlighted(self, highlighted: int | None) -> None:
        """The mark goes along."""
        super().watch_highlighted(highlighted)
        if self.MARKED and self.chosen != self._marked:
            before, self._marked = self._marked, self.chosen
            for at, line in enumerate(self._shown[: self.option_count]):
                if line.key and line.key in {before, self._marked}:
                    self._write(at)

    # narrowing
    def look_for(self, said: str) -> None:
        """Show only lines that have all of these words; all lines for none."""
        words = tuple(said.lower().split())
        if words != self._words:
            self._words = words
            self.show(self._given, nothing=self._nothing)

    async def open_filter(self) -> None:
        """Ask for words, in a line above the footer; the next key already goes there."""
        if self._filter is None:
            self._filter = FilterLine(self)
            await self.screen.mount(self._filter, before=self.screen.query_one(Footer))
        for line in self._filter.query(Input):  # none where the station is being taken away
            self.screen.set_focus(line)

    def close_filter(self) -> None:
        """Show everything again."""
        if self._filter is not None:
            self._filter.remove()
            self._filter = None
        self.look_for("")
        self.screen.set_focus(self)

    def action_show_everything(self) -> None:
        """Show everything again."""
        self.close_filter()

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Where nothing is narrowed, escape is the station's."""
        return self._filter is not None if action == "show_everything" else super().check_action(action, parameters)

    def action_page_up(self) -> None:
        """A page up."""
        if self.scrollable_content_region:
            super().action_page_up()  # type: ignore[no-untyped-call]

    def action_page_down(self) -> None:
        """A page down."""
        if self.scrollable_content_region:
            super().action_page_down()  # type: ignore[no-untyped-call]


class FilterLine(Horizontal):
    """The words a list is narrowed to, and how many of its lines have them."""

    DEFAULT_CSS = """
    FilterLine { height: 1; margin: 0 2; background: $surface; }
    FilterLine Label { width: auto; color: $text-muted; padding: 0 1; }
    FilterLine Input { width: 1fr; border: none; background: $surface; }
    """
    BINDINGS = [  # noqa: RUF012
        Binding("escape", "close", "show everything"),
        Binding("enter", "go", show=False, priority=True),
        Binding("down", "move(1)", show=False, priority=True),
        Binding("up", "move(-1)", show=False, priority=True),
    ]

    def __init__(self, options: Choices) -> None:
        super().__init__()
        self._options = options

    def compose(self) -> ComposeResult:
        """What it is, the words, how many have them."""
        yield Label("filter")
        yield Input(placeholder="words to look for; enter goes to the list, escape shows everything", compact=True)
        yield Label(id="count")

    def on_mount(self) -> None:
        """All lines are still shown."""
        self.tell()

    def tell(self) -> None:
        """Say how many lines are shown."""
        if self.is_mounted:
            shown, there = self._options.count
            self.query_one("#count", Label).update(f"{shown} of {plural(there, 'line')}")

    def on_input_changed(self, event: Input.Changed) -> None:
        """Narrow the list."""
        event.stop()
        self._options.look_for(event.value)

    def action_go(self) -> None:
        """To the list, with what was found; the next key already goes there."""
        self.screen.set_focus(self._options)

    def action_move(self, by: int) -> None:
        """Another line of the list, while one types."""
        if by > 0:
            self._options.action_cursor_down()
        else:
            self._options.action_cursor_up()

    def action_close(self) -> None:
        """Show everything again."""
        self._options.close_filter()
