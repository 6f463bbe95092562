"""The shelf: studies that are ready, and studies that were measured."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.widgets import Footer, OptionList, Static
from textual.widgets.option_list import Option

from zinc_kettle.errors import KettleError
from zinc_kettle.tui.actions import bindings
from zinc_kettle.tui.bridge import ShelfEntry, host
from zinc_kettle.tui.station import Station
from zinc_kettle.tui.widgets.stations import Stations

if TYPE_CHECKING:
    from zinc_kettle.present.view import StudyView

MARKS = {"measured": "●", "running": "◐", "stopped": "◐", "planned": "○"}


PREVIEW_ROWS = 8
"""Under this a map has no room for its cells."""
HINT = (
    "A kept study can be walked through, a ready one is measured here with r. Any other study file runs with "
    "zinc-kettle run FILE and then stands here too."
)


class StudyList(OptionList):
    """The list; it says in the footer what enter does."""

    BINDINGS = [Binding("enter", "select", "open", tooltip="Open the study's map.")]  # noqa: RUF012


class ShelfScreen(Station):
    """Lists studies; enter opens one."""

    BINDINGS = bindings("shelf")
    CSS_PATH = Path(__file__).parent / "screen.tcss"
    HELP_FILE = Path(__file__).parent / "help.md"

    def __init__(self) -> None:
        super().__init__()
        self._entries: list[ShelfEntry] = []
        self._views: dict[str, StudyView] = {}

    def compose(self) -> ComposeResult:
        """Station line, title, list, footer."""
        yield Stations("Shelf")
        yield Static("Reading the shelf …", id="title")
        yield StudyList(id="studies")
        yield Static(id="preview")
        yield Static(id="hint")
        yield Footer()

    def on_mount(self) -> None:
        """Read the store after the first paint, so that the screen is there at once."""
        self.query_one(Stations).show(self.palette)
        self.call_after_refresh(self.call_after_refresh, self.action_reload)

    def on_screen_resume(self) -> None:
        """Coming back: figures may have changed."""
        if self._entries:
            self.action_reload()

    def action_reload(self) -> None:
        """Read the store and the study files again."""
        options = self.query_one(OptionList)
        chosen = options.highlighted
        try:
            self._entries = host(self).desk.shelf()
        except KettleError as error:
            self.query_one("#title", Static).update(f"The shelf cannot be read. {error}")
            return
        self._views.clear()
        options.clear_options()
        options.add_options([Option(self._line(entry), id=str(i)) for i, entry in enumerate(self._entries)])
        if self._entries:
            options.highlighted = min(chosen or 0, len(self._entries) - 1)
            options.focus()
        self._title()
        self.query_one(Stations).show(self.palette)

    def redraw(self) -> None:
        """Draw again in the theme of now."""
        self.action_reload()

    def _title(self) -> None:
        ready = sum(1 for e in self._entries if e.ready)
        kept = len(self._entries) - ready
        if not self._entries:
            text = (
                "The shelf is empty. Put a study file (docs/study-files.md) into the studies folder, run one with "
                "zinc-kettle run FILE, or see the demo: zinc-kettle demo"
            )
        else:
            text = f"Studies: {kept} kept, {ready} ready to run"
        self.query_one("#title", Static).update(Text(text, f"bold {self.palette.ink}"))
        self.query_one("#hint", Static).update(HINT if self._entries else "")

    def _line(self, entry: ShelfEntry) -> Text:
        p = self.palette
        mark = "✕" if entry.trouble else ("○" if entry.ready else MARKS.get(entry.state, "○"))
        state = "not usable" if entry.trouble else ("ready to run" if entry.ready else entry.state)
        out = Text(no_wrap=True, overflow="ellipsis")
        out.append(f" {mark} ", p.failure if entry.trouble else p.ink)
        out.append(entry.question, f"bold {p.ink}")
        out.append(f"   {state}" + (f", {entry.when}" if entry.when else ""), p.muted)
        if entry.simulated:
            out.append("  SIMULATED", f"bold {p.caution}")
        detail = entry.trouble or entry.answer
        out.append(f"\n   {detail}", p.failure if entry.trouble else (p.copper if _has_answer(entry) else p.muted))
        out.append(f"\n   {entry.where}\n", p.muted)
        return out

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        """Open the chosen study."""
        entry = self._entries[event.option_index]
        if entry.trouble:
            self.notify(entry.trouble, title="This study file cannot be used", severity="error")
            return
        host(self).open_study(entry)

    def on_option_list_option_highlighted(self, _event: OptionList.OptionHighlighted) -> None:
        """Show the map of the study one is on."""
        self.call_after_refresh(self._preview_chosen)

    def on_resize(self) -> None:
        """The preview is drawn to the room there is."""
        self.call_after_refresh(self._preview_chosen)

    def _preview_chosen(self) -> None:
        """Once the list has its size: the preview has what room is left."""
        chosen = self.query_one(OptionList).highlighted
        if chosen is not None and chosen < len(self._entries):
            self._preview(self._entries[chosen])

    def _preview(self, entry: ShelfEntry) -> None:
        # Imported late: drawing a map needs what the first paint does not wait for.
        from zinc_kettle.tui.screens.shelf.preview import preview

        panel = self.query_one("#preview", Static)
        room = panel.content_size
        if entry.trouble or room.height < PREVIEW_ROWS:
            panel.update("")
            return
        try:
            if entry.key not in self._views:
                from zinc_kettle.present.view import StudyView

                self._views[entry.key] = StudyView(host(self).desk.open(entry))
        except KettleError as error:
            panel.update(str(error))
            return
        panel.update(preview(self._views[entry.key], room.width, room.height, self.palette))

    def action_open(self) -> None:
        """Open the chosen study."""
        self.query_one(OptionList).action_select()


def _has_answer(entry: ShelfEntry) -> bool:
    return not entry.ready and "tok/s" in entry.answer
