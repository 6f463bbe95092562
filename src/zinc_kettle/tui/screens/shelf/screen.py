"""The shelf: studies that are ready, and studies that were measured."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.text import Text
from textual.app import ComposeResult
from textual.widgets import Footer, Input, OptionList, Static

from zinc_kettle.app.views import ShelfEntry
from zinc_kettle.core.text import capitalised
from zinc_kettle.errors import KettleError
from zinc_kettle.tui.actions import binding_for, bindings
from zinc_kettle.tui.choices import ChoiceRow, Choices
from zinc_kettle.tui.host import host
from zinc_kettle.tui.station import Station
from zinc_kettle.tui.widgets.station_line import Stations

if TYPE_CHECKING:
    from zinc_kettle.core.results import StudyResults

MARKS = {"measured": "●", "running": "◐", "stopped": "◐", "planned": "○"}


PREVIEW_ROWS = 8
"""Under this a map has no room for its cells."""
HINT = (
    "Open a measured study to explore it, or a ready one to measure it with r. m measures a model of yours, n plans "
    "a study."
)
NEWCOMER = (
    "Nothing is measured here yet: what you see are examples. m finds the model files on this machine and measures one "
    "of them, in three keys: m, enter, r. n plans a study from a question, b says what else there is."
)


class StudyList(Choices):
    """The list; it says in the footer what enter does."""

    BINDINGS = [binding_for("shelf", "open", "select")]  # noqa: RUF012


class ShelfScreen(Station):
    """Lists studies; enter opens one."""

    BINDINGS = bindings("shelf")
    AUTO_FOCUS = "#studies"

    def __init__(self) -> None:
        super().__init__()
        self._entries: list[ShelfEntry] = []
        self._opened: dict[tuple[str, int], StudyResults] = {}
        self._run = 0
        """Which run of the selected study, from the newest."""

    def widgets(self) -> ComposeResult:
        """Station line, title, list, footer."""
        yield Stations("shelf")
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
        """Reload the store and the study files."""
        options = self.query_one(StudyList)
        try:
            self._entries = host(self).services.studies.shelf()
        except KettleError as error:
            self.query_one("#title", Static).update(f"The shelf cannot be read. {error}")
            return
        self._opened.clear()
        options.show([ChoiceRow(e.key, self._line(e), self._also(e)) for e in self._entries], choose=self._first())
        if self._entries:
            if not isinstance(self.focused, Input):  # who types already goes on typing
                options.focus()
            self.call_after_refresh(options.scroll_to_highlight)
        self._title()
        self.query_one(Stations).show(self.palette)

    def _also(self, entry: ShelfEntry) -> str:
        """What a study is found by besides what stands in its line."""
        return f"{entry.name} {self._file(entry)} {entry.runs[0].engine if entry.runs else ''}"

    def _first(self) -> str:
        """Where the shelf opens: on the study measured last, else on one that is ready, else on an example."""

        def rank(entry: ShelfEntry) -> int:
            if entry.example or entry.origin:
                return 2
            return 0 if entry.runs else 1 if entry.ready else 3

        return min(self._entries, key=rank).key if self._entries else ""

    @property
    def _chosen(self) -> ShelfEntry | None:
        key = self.query_one(StudyList).chosen
        return next((e for e in self._entries if e.key == key), None)

    def draw(self) -> None:
        """Draw again in the theme of now."""
        self.action_reload()

    def _title(self) -> None:
        ready = sum(1 for e in self._entries if e.ready)
        kept = sum(1 for e in self._entries if e.runs and not e.example and not e.origin)
        others = sum(1 for e in self._entries if e.origin)
        examples = sum(1 for e in self._entries if e.example)
        if not self._entries:
            text = (
                "The shelf is empty. m measures a model of yours, n plans a study from a question; the demo has more: "
                "zinc-kettle demo"
            )
        else:
            text = f"Studies: {kept} measured or begun, {ready} ready to run"
            text += f", {others} of other people" if others else ""
            text += f", {examples} finished examples" if examples else ""
        self.query_one("#title", Static).update(Text(text, f"bold {self.palette.ink}"))
        own = any(not e.example for e in self._entries)
        self.query_one("#hint", Static).update(HINT if own else NEWCOMER)

    def _line(self, entry: ShelfEntry) -> Text:
        p, last = self.palette, entry.runs[0] if entry.runs else None
        mark, state = ("○", "ready to run") if last is None else (MARKS.get(last.state, "○"), last.state)
        if entry.trouble:
            mark, state = "✕", "not usable"
        out = Text(no_wrap=True, overflow="ellipsis")
        out.append(f" {mark} ", p.failure if entry.trouble else p.ink)
        out.append(entry.question, f"bold {p.ink}")
        out.append(f"  {entry.name}", p.muted)
        detail, colour = entry.about, p.muted
        if last is not None:
            detail, colour = last.answer, p.copper if last.has_answer else p.muted
        if entry.trouble:
            first, *more = entry.trouble.splitlines()
            detail, colour = (f"{len(more) + 1} problems, the first: " if more else "") + first, p.failure
        out.append("\n   ")
        if entry.example:
            out.append("EXAMPLE ", f"bold {p.caution}")
        if entry.origin:
            out.append(f"FROM {entry.origin} ", f"bold {p.caution}")
        if entry.simulated:
            out.append("SIMULATED ", f"bold {p.caution}")
        out.append(detail, colour)
        when = f" {last.when}" if last else ""
        runs = f" in {len(entry.runs)} runs" if len(entry.runs) > 1 else ""
        out.append(f"\n   {state}{when}{runs} · {last.where if last else self._file(entry)}\n", p.muted)
        return out

    @staticmethod
    def _file(entry: ShelfEntry) -> str:
        return f"study file {entry.file.name}" if entry.file is not None else ""

    def on_option_list_option_selected(self, _event: OptionList.OptionSelected) -> None:
        """Open the chosen study."""
        entry = self._chosen
        if entry is None:
            return
        if entry.trouble:
            self.notify(entry.trouble, title="This study file cannot be used", severity="error")
            return
        host(self).open_study(entry, self._run)

    def on_option_list_option_highlighted(self, _event: OptionList.OptionHighlighted) -> None:
        """Show the map of the selected study."""
        self._run = 0
        self.call_after_refresh(self._preview_chosen)

    def on_resize(self) -> None:
        """The preview is drawn to the room there is."""
        self.call_after_refresh(self._preview_chosen)

    def _preview_chosen(self) -> None:
        """Once the list has its size: the preview has what room is left."""
        chosen = self._chosen
        if chosen is None:
            self.query_one("#preview", Static).update("")
        else:
            self._preview(chosen)

    def _preview(self, entry: ShelfEntry) -> None:
        # Imported late: drawing a map needs what the first paint does not wait for.
        from zinc_kettle.tui.screens.shelf.preview import preview, run_lines

        panel = self.query_one("#preview", Static)
        room = panel.content_size
        if entry.trouble or room.height < PREVIEW_ROWS:
            panel.update("")
            return
        try:
            if (entry.key, self._run) not in self._opened:
                self._opened[entry.key, self._run] = host(self).services.studies.open(entry, self._run)
        except KettleError as error:
            panel.update(Text(str(error), self.palette.failure))
            return
        runs = run_lines(entry, self._run, room.width, self.palette)
        below = max(PREVIEW_ROWS, room.height - len(runs.plain.splitlines()))
        shown = preview(self._opened[entry.key, self._run], room.width, below, self.palette)
        panel.update(Text.assemble(runs, shown))

    def action_open(self) -> None:
        """Open the chosen study."""
        self.query_one(StudyList).action_select()

    def clipboard_text(self) -> str:
        """Questions and answers, tab-separated."""
        told = [(e.question, e.runs[0].answer if e.runs else e.about or e.trouble) for e in self._entries]
        return "\n".join("\t".join(line) for line in told)

    def action_throw_away(self) -> None:
        """Throw the chosen run away, or what else is chosen."""
        chosen = self._chosen
        if chosen is None:
            return
        try:
            what = host(self).services.studies.throw_away(chosen, self._run)
        except KettleError as error:
            self.notify(str(error), severity="warning", timeout=8)
            return
        self.action_reload()
        self.notify(f"{capitalised(what)}. u takes it back; it is kept for 30 days.", title="Thrown away", timeout=10)

    def action_take_back(self) -> None:
        """Restore what was deleted last."""
        try:
            what = host(self).services.studies.take_back()
        except KettleError as error:
            self.notify(str(error), severity="error", timeout=12)
            return
        self.action_reload()
        gone = "Nothing was thrown away since the start; zinc-kettle restore lists what is in the bin."
        self.notify(f"Taken back: {what}." if what else gone)

    def action_measure_model(self) -> None:
        """Find the models on this machine, and plan a measurement of one."""
        from zinc_kettle.tui.widgets.model_chooser import ask_for_model

        ask_for_model(self)

    def action_begin(self) -> None:
        """To the first page."""
        host(self).go("begin")

    def action_new_plan(self) -> None:
        """Plan a study from a question."""
        host(self).plan_from("ask", {})

    def action_earlier_run(self) -> None:
        """Choose an earlier run of the selected study."""
        self._choose_run(1)

    def action_later_run(self) -> None:
        """Choose a later run."""
        self._choose_run(-1)

    def _choose_run(self, step: int) -> None:
        chosen = self._chosen
        if chosen is not None:
            runs = chosen.runs
            self._run = min(max(0, self._run + step), max(0, len(runs) - 1))
            self._preview_chosen()
