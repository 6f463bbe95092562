"""The line across the top: stations, with a word on the state of each."""

from __future__ import annotations

from rich.text import Text
from textual.widgets import Static

from zinc_kettle.tui.host import host
from zinc_kettle.tui.stations import STATIONS, station
from zinc_kettle.tui.theme import Palette


class Stations(Static):
    """Names the stations; the one we are in is marked."""

    DEFAULT_CSS = """
    Stations { dock: top; height: 1; width: 100%; background: $panel; }
    """

    def __init__(self, here: str) -> None:
        super().__init__(id="stations")
        self._here = station(here)

    def show(self, palette: Palette) -> None:
        """Draw for the app's state now: with a word on each where there is room, at least with every key."""
        width = self.app.size.width
        for brand, words, names in (
            (True, True, True),
            (False, True, True),
            (False, False, True),
            (False, False, False),
        ):
            out = self._line(palette, brand=brand, words=words, names=names)
            if out.cell_len <= width:
                break
        self.update(out, layout=False)

    def _line(self, palette: Palette, *, brand: bool, words: bool, names: bool) -> Text:
        app = host(self.screen)
        out = Text(" zinc kettle " if brand else "", style=f"bold {palette.ink}", no_wrap=True, overflow="ellipsis")
        for kind in STATIONS:
            if not kind.key:
                continue
            here = kind.name in (self._here.name, self._here.within)
            out.append("  " if brand or names else " ", palette.faint)
            said = f" {kind.key} {kind.title} " if names or here else f" {kind.key} "
            out.append(said, f"bold {palette.paper} on {palette.muted}" if here else palette.ink)
            word = app.rig if kind.name == "fit" and here else kind.word(app)
            if word and (words or here):
                out.append(f" {word}", palette.muted)
        if self._here.within:
            out.append(f"  ▸ {self._here.title}", f"bold {palette.ink}")
        if app.results is not None and app.results.run.origin:
            out.append(f"  FROM {app.results.run.origin}", f"bold {palette.caution}")
        if app.results is not None and app.results.run.simulated:
            out.append("  SIMULATED", f"bold {palette.caution}")
        return out
