"""What fits on a rig, and how fast it may run; every control answers at once."""

from __future__ import annotations

from rich.text import Text
from textual.app import ComposeResult
from textual.containers import Horizontal, Vertical, VerticalScroll
from textual.widgets import Digits, Footer, Input, OptionList, Static

from zinc_kettle.core.fit.sizing import LaunchSettings
from zinc_kettle.core.preferences import Pace
from zinc_kettle.core.rig import Rig
from zinc_kettle.core.units import byte_size, digits, plural
from zinc_kettle.errors import KettleError
from zinc_kettle.present.fit_across import Across, kind_text
from zinc_kettle.present.fit_rows import FILTERS, SORTS, Candidate, FitRow, chosen_rows
from zinc_kettle.tui.actions import binding_for, bindings
from zinc_kettle.tui.choices import ChoiceRow, Choices
from zinc_kettle.tui.draw.fit import (
    across_heads,
    across_line,
    changed,
    controls,
    controls_line,
    detail_text,
    heads,
    line,
    other_pace,
)
from zinc_kettle.tui.host import host
from zinc_kettle.tui.station import Station
from zinc_kettle.tui.widgets.station_line import Stations

EMPTY = (
    "No models in the model folder. Put GGUF files there, or make one: zinc-kettle synth brine-250m --quantization Q4_0"
)


COPY_WIDTH = 120
"""Of lines that are copied."""


class ModelList(Choices):
    """The list; left and right belong to the what-if controls."""

    BINDINGS = [binding_for("fit", "less", "screen.less"), binding_for("fit", "more", "screen.more")]  # noqa: RUF012


class FitScreen(Station):
    """Models against one rig's memory."""

    BINDINGS = bindings("fit")
    LINE = ("#line", "#models")
    AUTO_FOCUS = "#models"

    def __init__(self) -> None:
        super().__init__()
        self._wish = LaunchSettings()
        self._threads = 0
        self._control = 0
        self._rows: list[FitRow] = []
        self._rig: Rig | None = None
        self._all: list[FitRow] = []
        self._trouble = ""
        self._own = Pace()
        self._pace: float | None = self._own.rate
        self._only = 0
        self._sort = 0
        self._everywhere: Candidate | None = None
        """The model that is shown on every rig, in place of the models of one."""
        self._across: list[Across] = []

    def widgets(self) -> ComposeResult:
        """Rig, controls, models, the chosen one in detail."""
        yield Stations("fit")
        yield Static(id="title")
        yield Static(id="controls")
        yield Static(id="heads")
        yield ModelList(id="models")
        with Horizontal(id="below"):
            with Vertical(id="headline"):
                yield Digits("", id="number")
                yield Static(id="unit")
            with VerticalScroll(id="detail", can_focus=False):
                yield Static(id="text")
        yield Input(id="line")
        yield Footer()

    def on_mount(self) -> None:
        """Draw what is known; ask the rig where nothing is."""
        self.query_one("#line", Input).display = False
        self._load()

    def on_screen_resume(self) -> None:
        """Another rig may have been chosen, or probed."""
        self._load()

    def on_resize(self) -> None:
        """Bars are drawn to the width."""
        self.call_after_refresh(self.redraw)

    def _load(self) -> None:
        self.work(self._read(), group="fit")

    def gave_up(self, said: str) -> None:
        """In place of what fits."""
        self._trouble = said

    async def _read(self) -> None:
        app = host(self)
        try:
            self._rig = await app.services.rigs.ready(app.rig)
            own = app.services.preferences().pace
            if own != self._own:
                self._own, self._pace = own, own.rate
        except KettleError as error:
            self.gave_up(str(error))
            self.notify(str(error), severity="error", timeout=12)
            self.redraw()
            return
        self._trouble = ""
        self._threads = min(self._threads or self._rig.cores, int(self._rig.number("hardware_threads") or 1024))
        if self.stands:
            self.redraw()
        measuring = app.run_state is not None and app.run_state.active
        if not measuring and await app.services.rigs.probe_unasked(app.rig):
            self._rig = await app.services.rigs.ready(app.rig)
            if self.stands:
                self.redraw()

    def draw(self) -> None:
        """Compute and draw everything again; this is what a control's change does."""
        rig, p = self._rig, self.palette
        self.query_one(Stations).show(p)
        if rig is None:
            told = Text(self._trouble, p.failure) if self._trouble else Text("Gathering the rig's facts …", p.muted)
            self.query_one("#title", Static).update(told)
            return
        try:
            self._all = host(self).services.rigs.fit(rig.name, self._wish, self._threads, self._pace)
        except KettleError as error:
            self.notify(str(error), severity="error")
            return
        self._rows = chosen_rows(self._all, FILTERS[self._only], SORTS[self._sort])
        self._title(rig)
        options = self.query_one(ModelList)
        width = options.content_size.width or self.size.width - 4
        if self._everywhere is not None:
            self._across = host(self).services.rigs.across(self._everywhere, self._wish, self._pace)
            self.query_one("#heads", Static).update(across_heads(width))
            options.show([ChoiceRow(a.rig.name, across_line(a, p, width)) for a in self._across])
            self._detail()
            return
        self.query_one("#heads", Static).update(heads(width))
        best = next((r.candidate.key for r in self._rows if r.best), "")
        lines = [ChoiceRow(row.candidate.key, line(row, p, width)) for row in self._rows]
        options.show(lines, choose=best, nothing=Text(self._nothing))
        self._detail()

    @property
    def _nothing(self) -> str:
        return f"Nothing here is {FILTERS[self._only]}; v shows all." if self._all else EMPTY

    def _title(self, rig: Rig) -> None:
        p = self.palette
        if self._everywhere is not None:
            out = Text(f"{self._everywhere.name} on every rig", f"bold {p.ink}")
            out.append("   whose memory is known; measured, predicted, and on paper", p.muted)
            self.query_one("#title", Static).update(out)
            return
        memories = ", ".join(f"{d.name} {byte_size(d.capacity_bytes)}" for d in rig.devices()) or "memory not known"
        out = Text(f"What fits on {'this machine' if rig.reach == 'here' else rig.name}?", f"bold {p.ink}")
        known = rig.number("physical_cores") or rig.number("hardware_threads")
        out.append(f"   {memories}" + (f" · {plural(rig.cores, 'core')}" if known else ""), p.muted)
        looked = [f"only {FILTERS[self._only]}"] if self._only else []
        looked += [SORTS[self._sort]] if self._sort else []
        if looked:
            out.append(f"   {', '.join(looked)}", p.ink)
        if kind := kind_text(rig):
            out.append(f"   {kind}", f"bold {p.caution}")
        self.query_one("#title", Static).update(out)

    @property
    def _chosen(self) -> FitRow | None:
        key = self.query_one(ModelList).chosen
        if self._everywhere is not None:
            return next((a.row for a in self._across if a.rig.name == key), None)
        return next((row for row in self._rows if row.candidate.key == key), None)

    def _layers(self) -> int | None:
        row = self._chosen
        return row.candidate.shape.layers if row and row.candidate.shape else None

    def _detail(self) -> None:
        rig, row, p = self._shown_rig, self._chosen, self.palette
        if rig is None:
            return
        items = controls(self._wish, self._threads, rig, self._layers(), self._pace)
        self._control = min(self._control, len(items) - 1)
        self.query_one("#controls", Static).update(controls_line(items, self._control, p))
        if row is None:
            self.query_one("#text", Static).update("")
            return
        more = host(self).services.rigs.detail(rig.name, row, self._wish, self._all, self._threads)
        self.query_one("#text", Static).update(detail_text(row, rig, more, p))
        number, words = "", Text()
        if row.decode is not None:
            number = digits(row.decode.value, significant=2)
            low, high = (digits(v, significant=2) for v in (row.decode.low, row.decode.high))
            words.append("tok/s decode, predicted\n", f"bold {p.ink}")
            words.append(f"{low}–{high} · {row.decode.origin}\n", p.muted)
            if row.prefill is not None:
                words.append(f"prefill about {digits(row.prefill.value, significant=2)} tok/s\n", p.muted)
            words.append("with the context half full", p.muted)
        else:
            words.append(row.reason or "no prediction for what does not fit", p.muted)
        self.query_one("#number", Digits).update(number)
        self.query_one("#number").display = bool(number)
        self.query_one("#unit", Static).update(words)

    @property
    def _shown_rig(self) -> Rig | None:
        """The rig of the selected line."""
        if self._everywhere is None:
            return self._rig
        key = self.query_one(ModelList).chosen
        return next((a.rig for a in self._across if a.rig.name == key), self._rig)

    def on_option_list_option_highlighted(self, _event: OptionList.OptionHighlighted) -> None:
        """Show the selected model."""
        self._detail()

    # actions
    def action_next_control(self) -> None:
        """Choose the next control."""
        self._choose(1)

    def action_previous_control(self) -> None:
        """Choose the control before."""
        self._choose(-1)

    def _choose(self, step: int) -> None:
        if self._rig is not None:
            count = len(controls(self._wish, self._threads, self._rig, self._layers(), self._pace))
            self._control = (self._control + step) % count
            self._detail()

    def action_less(self) -> None:
        """Lower the selected control by one step."""
        self._change(-1)

    def action_more(self) -> None:
        """One step more."""
        self._change(1)

    def _change(self, step: int) -> None:
        if self._rig is None:
            return
        name = controls(self._wish, self._threads, self._rig, self._layers(), self._pace)[self._control].name
        if name == "pace":
            self._pace = other_pace(self._pace, step, self._own.rate)
            self.redraw()
            return
        self._wish, self._threads = changed(name, step, self._wish, self._threads, self._rig, self._layers())
        self.redraw()

    def action_only_what(self) -> None:
        """Show all, what fits, or what fits and keeps the pace."""
        self._only = (self._only + 1) % len(FILTERS)
        self.redraw()

    def action_sort(self) -> None:
        """Another order."""
        self._sort = (self._sort + 1) % len(SORTS)
        self.redraw()

    def action_plan_model(self) -> None:
        """Plan a study of the selected model."""
        row, rig = self._chosen, self._shown_rig
        if row is None or rig is None or not row.candidate.levels:
            return
        if rig.on_paper:
            self.notify(f"Nothing can be measured on {rig.name}: it is on paper.")
            return
        held = {**row.candidate.levels, **({} if rig.reach == "here" else {"rig": rig.name})}
        host(self).plan_from("ask", held)

    def action_everywhere(self) -> None:
        """Show the selected model on every rig; again: all models of the selected one."""
        row = self._chosen
        if self._everywhere is not None:
            chosen = self._shown_rig
            self._everywhere = None
            if chosen is not None:
                host(self).rig = chosen.name
            self._load()
        elif row is not None and row.candidate.shape is not None:
            self._everywhere = row.candidate
            self.work(self._read_everywhere(), group="fit")

    async def _read_everywhere(self) -> None:
        await host(self).services.rigs.ready_everywhere()
        if self.stands:
            self.redraw()

    def action_say_model(self) -> None:
        """Open the line for a model that is only said."""
        self.open_line("a model on paper, such as 70b at 4 bits, or 8b Q4_K_M; enter shows it, escape cancels")

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Put it among the models."""
        if event.value.strip():
            try:
                key = host(self).services.rigs.on_paper(event.value.strip())
            except KettleError as error:
                self.notify(str(error), severity="error", timeout=12)
                return
            self.redraw()
            self.query_one(ModelList).choose(key)
        self.close_line()

    def action_next_rig(self) -> None:
        """Show the next rig."""
        app = host(self)
        try:
            names = [rig.name for rig in app.services.rigs.all()]
        except KettleError as error:
            self.notify(str(error), severity="error", timeout=12)
            return
        if len(names) < 2:
            self.notify("There is only this rig. On Rigs, n adds an engine's address; docs/rigs.md tells of machines.")
            return
        app.rig = names[(names.index(app.rig) + 1) % len(names)] if app.rig in names else names[0]
        self._threads = 0
        self._load()

    def clipboard_text(self) -> str:
        """What fits, and the selected model."""
        lines = "\n".join(line(row, self.palette, COPY_WIDTH).plain.rstrip() for row in self._rows)
        return f"{self.panel_text('title', 'controls')}\n\n{heads(COPY_WIDTH)}\n{lines}\n\n{self.panel_text('text')}"

    def action_back(self) -> None:
        """Close the line, or go back where one came from."""
        if self.close_line():
            return
        if self._everywhere is not None:
            self._everywhere = None
            self.redraw()
        else:
            host(self).back("shelf")
