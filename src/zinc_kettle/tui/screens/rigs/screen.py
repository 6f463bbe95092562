"""The machines, what is known of each, and where it is known from."""

from __future__ import annotations

from rich.text import Text
from textual.app import ComposeResult
from textual.containers import Horizontal, VerticalScroll
from textual.widgets import Digits, Footer, Input, OptionList, Static

from zinc_kettle.core.rig import Rig
from zinc_kettle.core.units import plural
from zinc_kettle.errors import KettleError
from zinc_kettle.tui.actions import bindings
from zinc_kettle.tui.choices import ChoiceRow, Choices
from zinc_kettle.tui.draw.rig import about, headline, rig_line
from zinc_kettle.tui.host import host
from zinc_kettle.tui.station import Station
from zinc_kettle.tui.widgets.station_line import Stations

HINT = "The rig file names machines reached over SSH or by an address; docs/rigs.md explains how. "
ADDED = "desk = http://127.0.0.1:8080, key OFFICE_KEY    or on paper: heron = 64 GB, 60 GB/s, card 24 GB 936 GB/s"
EXAMPLE = "bandwidth = 51.2 GB/s, data sheet    (bandwidth, price, idle_w, power_limit_w, case, note …)"


class RigsScreen(Station):
    """Lists rigs; the chosen one's page stands beside."""

    LINE = ("#type", "#rigs")
    BINDINGS = bindings("rigs")
    AUTO_FOCUS = "#rigs"

    def __init__(self) -> None:
        super().__init__()
        self._rigs: list[Rig] = []
        self._asking: set[str] = set()
        self._probe_next: set[str] = set()
        self._adding = False
        self._failed: dict[str, str] = {}
        """What went wrong when a rig was last asked; a notice alone is gone too soon."""

    def widgets(self) -> ComposeResult:
        """List, page, a line to type in."""
        yield Stations("rigs")
        yield Static(id="title")
        with Horizontal(id="body"):
            yield Choices(id="rigs")
            with VerticalScroll(id="page", can_focus=False):
                with Horizontal(id="headline"):
                    yield Digits("", id="number")
                    yield Static(id="unit")
                yield Static(id="about")
        yield Static(HINT, id="hint")
        yield Input(placeholder=EXAMPLE, id="type")
        yield Footer()

    def on_mount(self) -> None:
        """Show what is known; ask those of whom nothing is known and that answer at once."""
        self.redraw()
        for rig in self._rigs:
            if rig.reach in {"here", "rehearsal"}:
                self._ask(rig.name, probe=False)

    def on_screen_resume(self) -> None:
        """Coming back from another station, where another rig may have been chosen."""
        self.redraw()
        self.query_one(Choices).choose(host(self).rig)

    def on_resize(self) -> None:
        """Facts are drawn to the width."""
        self.call_after_refresh(self.redraw)

    def draw(self) -> None:
        """Draw everything."""
        options = self.query_one(Choices)
        try:
            self._rigs = host(self).services.rigs.all()
        except KettleError as error:
            self.query_one("#title", Static).update(Text(str(error), self.palette.failure))
            self.query_one(Stations).show(self.palette)
            return
        host(self).rig_count = len(self._rigs)
        width = options.content_size.width or 36
        lines = [rig_line(rig, self.palette, rig.name in self._asking, width) for rig in self._rigs]
        named = [ChoiceRow(rig.name, line) for rig, line in zip(self._rigs, lines, strict=True)]
        options.show(named, choose=host(self).rig)
        simulated, paper = sum(rig.simulated for rig in self._rigs), sum(rig.on_paper for rig in self._rigs)
        text = f"Rigs: {plural(len(self._rigs) - simulated - paper, 'machine')}"
        text += (f", {simulated} simulated" if simulated else "") + (f", {paper} on paper" if paper else "")
        self.query_one("#title", Static).update(Text(text, f"bold {self.palette.ink}"))
        self._page()
        self.query_one(Stations).show(self.palette)

    @property
    def chosen(self) -> Rig | None:
        """The selected rig."""
        name = self.query_one(Choices).chosen
        return next((rig for rig in self._rigs if rig.name == name), None)

    def _page(self) -> None:
        rig, p = self.chosen, self.palette
        if rig is None:
            return
        number, unit, what = headline(rig)
        self.query_one("#headline").display = bool(number)
        self.query_one("#number", Digits).update(number)
        words = Text(f"{unit}\n", f"bold {p.ink}")
        words.append(f"{rig.name}\n", p.ink)
        words.append(what, p.muted)
        self.query_one("#unit", Static).update(words)
        panel = self.query_one("#about", Static)
        page = about(rig, p, max(40, self.query_one("#page").scrollable_content_region.width))
        failed = self._failed.get(rig.name)
        panel.update(Text.assemble((f"✕ {failed}\n\n", p.failure), page) if failed and not rig.trouble else page)

    def on_option_list_option_highlighted(self, _event: OptionList.OptionHighlighted) -> None:
        """Show the page of the selected rig."""
        if self.chosen is not None:
            host(self).rig = self.chosen.name
        self._page()

    # actions
    def action_probe(self) -> None:
        """Measure what the rig can do."""
        if self.chosen is not None:
            if host(self).run_state is not None and host(self).run_state.active:  # type: ignore[union-attr]
                self.notify("A study is running; probing now would disturb it.", severity="warning")
                return
            self._ask(self.chosen.name, probe=True)

    def action_ask(self) -> None:
        """Gather its facts again."""
        if self.chosen is not None:
            self._ask(self.chosen.name, probe=False)

    def _ask(self, name: str, *, probe: bool) -> None:
        if name in self._asking:
            # A probe waits until the facts are there; asking twice for the same would only take longer.
            if probe:
                self._probe_next.add(name)
            return
        self._asking.add(name)
        self.work(self._asked(name, probe=probe), group=f"rig-{name}", exclusive=False)
        self.redraw()

    async def _asked(self, name: str, *, probe: bool) -> None:
        services = host(self).services
        try:
            await (services.rigs.probe(name) if probe else services.rigs.gather(name))
            self._failed.pop(name, None)
        except KettleError as error:
            self._failed[name] = str(error)
            self.notify(str(error), title=name, severity="error", timeout=12)
        finally:
            self._asking.discard(name)
        if name in self._probe_next:
            self._probe_next.discard(name)
            self._ask(name, probe=True)
        if self.stands:
            self.redraw()

    def gave_up(self, said: str) -> None:
        """On the page of the selected rig."""
        self._failed[host(self).rig] = said

    def action_type_fact(self) -> None:
        """Open the line to type a fact in."""
        self._open_line(EXAMPLE, adding=False)

    def action_add_rig(self) -> None:
        """Open the line to type an address or a data sheet in."""
        self._open_line(ADDED, adding=True)

    def _open_line(self, example: str, *, adding: bool) -> None:
        self._adding = adding
        self.open_line(example)

    def action_plan_here(self) -> None:
        """Plan a study on the selected rig."""
        rig = self.chosen
        if rig is None:
            return
        if rig.on_paper:
            self.notify(f"Nothing can be measured on {rig.name}: it is on paper. 3 shows what fits there.")
            return
        held = {} if rig.reach == "here" else {"rig": rig.name}
        host(self).plan_from("template:users" if rig.reach == "url" else "ask", held)

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Write the fact, or the new rig, into the rig file."""
        rig, services = self.chosen, host(self).services
        if rig is not None and event.value.strip():
            try:
                if self._adding:
                    added = services.rigs.add(event.value)
                    host(self).rig = added.name
                    self._ask(added.name, probe=False)
                else:
                    services.rigs.type_fact(rig.name, event.value)
            except KettleError as error:
                self.notify(str(error), title="Not written", severity="error", timeout=12)
                return
        self.close_line()
        self.redraw()
        self.query_one(Choices).choose(host(self).rig)

    def clipboard_text(self) -> str:
        """All that is known of the selected rig."""
        rig = self.chosen
        return "" if rig is None else f"{rig.name}\n\n{self.panel_text('about')}"

    def action_back(self) -> None:
        """Close the line, or go back where one came from."""
        if not self.close_line():
            host(self).back("shelf")
