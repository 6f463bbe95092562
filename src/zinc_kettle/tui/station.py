"""What all stations have in common."""

from __future__ import annotations

from pathlib import Path
from typing import ClassVar

from textual.screen import Screen

from zinc_kettle.tui.theme import PALETTES, Palette


class Station(Screen[None]):
    """A screen of the tool: it can be drawn anew at any time, and explained."""

    HELP_FILE: ClassVar[Path]

    @property
    def palette(self) -> Palette:
        """Colours of the theme now."""
        return PALETTES[self.app.theme]

    def redraw(self) -> None:
        """Draw everything as it stands now; also after a change of theme."""
        raise NotImplementedError
