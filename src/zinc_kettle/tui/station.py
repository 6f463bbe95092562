"""What all stations have in common."""

from __future__ import annotations

import inspect
from pathlib import Path
from typing import Any, ClassVar

from textual.app import ComposeResult
from textual.geometry import Size
from textual.screen import Screen
from textual.widgets import Static

from zinc_kettle.tui.theme import PALETTES, Palette

LEAST = Size(50, 14)
"""Under this nothing of ours can be read, and drawing libraries meet widths of nothing."""
TOO_SMALL = "too-small"
"""Class of every screen while the terminal is under LEAST: all of it is hidden but the words that say so."""
TOO_SMALL_CSS = f"""
Screen.{TOO_SMALL} > * {{ display: none; }}
TooSmall {{ display: none; width: 100%; height: 100%; }}
Screen.{TOO_SMALL} > TooSmall {{ display: block; }}
"""


class TooSmall(Static):
    """Says that the terminal is too small to show anything, and how large it must be."""

    def __init__(self) -> None:
        super().__init__(f"The terminal is too small. Zinc Kettle needs {LEAST.width} by {LEAST.height} characters.")


def is_too_small(size: Size) -> bool:
    """True for a terminal in which nothing can be shown."""
    return size.width < LEAST.width or size.height < LEAST.height


class Station(Screen[None]):
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
        """Its explanation, as Markdown."""
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
        """Draw everything as it stands now; also after a change of theme."""
        raise NotImplementedError

    def cells_changed(self) -> None:
        """A cell of the running study has changed; a station that draws much may draw less than all of it."""
        self.redraw()
