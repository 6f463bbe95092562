"""What all stations have in common."""

from __future__ import annotations

import inspect
from collections.abc import Callable, Coroutine, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar

from textual.app import ComposeResult
from textual.css.query import NoMatches
from textual.geometry import Size
from textual.screen import Screen
from textual.widgets import Input, Static

from zinc_kettle.core.names import file_stem
from zinc_kettle.core.text import shorten
from zinc_kettle.errors import KettleError
from zinc_kettle.tui.choices import Choices
from zinc_kettle.tui.chooser import Choice, Chooser
from zinc_kettle.tui.standing import Standing
from zinc_kettle.tui.theme import PALETTES, Palette

if TYPE_CHECKING:
    from zinc_kettle.core.results import CellResults

MOST_SAID = 200
UNFORESEEN = "Something unexpected happened"


LEAST = Size(50, 14)
"""Under this nothing of ours can be read, and drawing libraries meet widths of nothing."""
TOO_SMALL = "too-small"
"""Class of every screen while the terminal is under LEAST: all of it is hidden but the words that say so."""
EVERY_SCREEN_CSS = f"""
Screen {{ overflow: hidden; }}
Screen.{TOO_SMALL} > * {{ display: none; }}
TooSmall {{ display: none; width: 100%; height: 100%; }}
Screen.{TOO_SMALL} > TooSmall {{ display: block; }}
"""
"""Of all screens. What is too long for one scrolls inside it: a bar at the side of all of it would make lines that are
drawn to the width shorter, with which it is not needed, and so on for ever."""


class TooSmall(Static):
    """Says that the terminal is too small to show anything, and how large it must be."""

    def __init__(self) -> None:
        super().__init__(f"The terminal is too small. Zinc Kettle needs {LEAST.width} by {LEAST.height} characters.")


def is_too_small(size: Size) -> bool:
    """True for a terminal in which nothing can be shown."""
    return size.width < LEAST.width or size.height < LEAST.height


class Station(Standing, Screen[None]):
    """A screen of the tool: it can be drawn again at any time, and explained.

    Its style sheet and its help stand beside its module, as screen.tcss and help.md.
    """

    FOLDER: ClassVar[Path]

    def __init_subclass__(cls, **more: Any) -> None:
        """Find what stands beside the screen's module."""
        super().__init_subclass__(**more)
        cls.FOLDER = Path(inspect.getfile(cls)).parent
        cls.CSS_PATH = cls.FOLDER / "screen.tcss"

    @classmethod
    def help_text(cls) -> str:
        """Its explanation, as Markdown, without its keys."""
        from zinc_kettle.present.reference import filled

        return filled((cls.FOLDER / "help.md").read_text(encoding="utf-8"))

    def compose(self) -> ComposeResult:
        """The station's own widgets, and the words that take their place in a tiny terminal."""
        self.set_class(is_too_small(self.app.size), TOO_SMALL)
        yield TooSmall()
        yield from self.widgets()

    def widgets(self) -> ComposeResult:
        """What is on the station, from top to bottom."""
        raise NotImplementedError

    @property
    def palette(self) -> Palette:
        """Colours of the theme now."""
        return PALETTES[self.app.theme]

    def redraw(self) -> None:
        """Draw everything as it stands now, where there is anything to draw on; also after a change of theme."""
        if not self.stands:
            return
        try:
            self.draw()
        except NoMatches:
            # It is being taken away, part by part, and what draws has not heard of it yet.
            if self.whole:
                raise

    def draw(self) -> None:
        """What a station draws."""
        raise NotImplementedError

    def work(self, work: Coroutine[Any, Any, None], *, group: str, exclusive: bool = True) -> None:
        """Do something beside the screen; whatever goes wrong is shown as a sentence, with its trace in the log.

        Args:
            work: What is to be done.
            group: Of work that stands for each other.
            exclusive: A newer one of the group takes the place of an older.
        """
        self.run_worker(self._watched(work), group=group, exclusive=exclusive, exit_on_error=False)

    async def _watched(self, work: Coroutine[Any, Any, None]) -> None:
        from zinc_kettle.tui.host import host

        try:
            await work
        except KettleError as error:
            said = str(error)
        except Exception as error:  # noqa: BLE001 - the library would only write it down, and the screen wait for ever
            where = host(self).services.write_down(error)
            said = f"{UNFORESEEN}: {type(error).__name__}: {shorten(str(error), MOST_SAID)}. Details are in {where}."
        else:
            return
        if self.stands:
            self.notify(said, title=UNFORESEEN, severity="error", timeout=20)
            self.gave_up(said)
            self.redraw()

    def choose(
        self,
        question: str,
        choices: Sequence[Choice],
        then: Callable[[str], None],
        *,
        otherwise: Callable[[], None] | None = None,
        free: bool = False,
    ) -> None:
        """Ask for one of a list, and go on once this screen has its focus back.

        Args:
            question: What is asked.
            choices: What there is.
            then: What to do with the key of the one that was chosen.
            otherwise: What to do where none was.
            free: Take what was typed where nothing in the list has it.
        """

        def chosen(key: str | None) -> None:
            if key is not None:
                self.call_after_refresh(then, key)
            elif otherwise is not None:
                self.call_after_refresh(otherwise)

        self.app.push_screen(Chooser(question, choices, free=free), chosen)

    LINE: ClassVar[tuple[str, str]] = ("#line", "#rows")
    """The line a person types in, and what has the focus when it is closed; for a station that has one."""

    def open_line(self, placeholder: str, value: str = "") -> None:
        """Open the line to type in."""
        line = self.query_one(self.LINE[0], Input)
        line.placeholder, line.value, line.display = placeholder, value, True
        line.focus()

    def close_line(self) -> bool:
        """Close it; False where it was closed."""
        line = self.query_one(self.LINE[0], Input)
        shown = bool(line.display)
        line.value, line.display = "", False
        self.query_one(self.LINE[1]).focus()
        return shown

    def gave_up(self, said: str) -> None:
        """Show what went wrong where a result was to stand; called before a redraw."""

    def show_cell(self, key: str) -> None:
        """Stand on a cell; for a station that shows cells."""

    def figure(self) -> tuple[str, CellResults | None] | None:
        """The measure a person looks at, and the cell they stand on; None where it is no single one."""
        return None

    def clipboard_text(self) -> str:
        """What is shown, as text; empty for a station that has nothing to copy."""
        return ""

    def panel_text(self, *names: str) -> str:
        """What some of its panels say, as text, one below the other."""
        panels = (str(self.query_one(f"#{name}", Static).content).strip("\n") for name in names)
        return "\n\n".join(text for text in panels if text)

    def export_command(self) -> tuple[list[str], str] | None:
        """The command that draws what is shown, and a name for its files; None where there is nothing to draw."""
        return None

    async def action_filter(self) -> None:
        """Narrow the list to lines that have certain words."""
        await self.query_one(Choices).open_filter()

    def action_copy(self) -> None:
        """Copy what is shown as text."""
        from zinc_kettle.tui.host import host

        host(self).copy(self.clipboard_text())

    def action_export(self) -> None:
        """Write what is shown as SVG and PDF."""
        self.work(self._export(), group="export")

    async def _export(self) -> None:
        from zinc_kettle.tui.host import host

        wanted = self.export_command()
        if wanted is None:
            self.notify("There is nothing to draw yet.", severity="warning")
            return
        self.notify("Drawing …", timeout=2)
        command, name = wanted
        try:
            written = await host(self).services.comparisons.draw(command, file_stem(name))
        except KettleError as error:
            self.notify(str(error), title="The chart was not written", severity="error")
            return
        self.notify("\n".join(str(path) for path in written), title="Exported", timeout=8)

    def cells_changed(self) -> None:
        """A cell of the running study has changed; a station that draws much may draw less than all of it."""
        self.redraw()
