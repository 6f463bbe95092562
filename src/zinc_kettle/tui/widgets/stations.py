"""The line across the top: stations, with a word on the state of each."""

from __future__ import annotations

from rich.text import Text
from textual.widgets import Static

from zinc_kettle.core.units import plural
from zinc_kettle.tui.bridge import Host, host
from zinc_kettle.tui.theme import Palette


class Stations(Static):
    """Names the stations; the one we are in is marked."""

    DEFAULT_CSS = """
    Stations { dock: top; height: 1; width: 100%; background: $panel; }
    """

    def __init__(self, here: str) -> None:
        super().__init__(id="stations")
        self._here = here

    def show(self, palette: Palette) -> None:
        """Draw for the app's state now."""
        app = host(self.screen)
        out = Text(" zinc kettle ", style=f"bold {palette.ink}", no_wrap=True, overflow="ellipsis")
        stations = (
            ("0", "Shelf", ""), ("1", "Rigs", _rigs_word(app)), ("2", "Fit", app.rig if self._here == "Fit" else ""),
            ("4", "Map", _map_word(app.view, app.run_state)),
        )  # fmt: skip
        for key, name, word in stations:
            here = name == self._here or (self._here == "Cell" and name == "Map")
            style = f"bold {palette.paper} on {palette.muted}" if here else palette.ink
            out.append("  ", palette.faint)
            out.append(f" {key} {name} ", style)
            if word:
                out.append(f" {word}", palette.muted)
        if self._here == "Cell":
            out.append("  ▸ Cell sheet", f"bold {palette.ink}")
        if app.view is not None and app.view.record.simulated:
            out.append("  SIMULATED", f"bold {palette.caution}")
        self.update(out, layout=False)


def _rigs_word(app: Host) -> str:
    return plural(app.rig_count, "rig") if app.rig_count > 1 else ""


def _map_word(view: object, run: object) -> str:
    if view is None:
        return ""  # the first paint comes here, and does not wait for what a map needs
    from zinc_kettle.present.view import StudyView
    from zinc_kettle.tui.run_state import RunState

    if not isinstance(view, StudyView):
        return ""
    done = f"{view.done_repeats} of {view.wanted_repeats} repeats"
    if isinstance(run, RunState) and run.active:
        return f"running, {done}"
    return done
