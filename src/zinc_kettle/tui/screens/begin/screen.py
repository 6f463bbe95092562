"""The first page of a first start: first steps, and a check of this machine."""

from __future__ import annotations

import asyncio
import textwrap
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from rich.text import Text
from textual.app import ComposeResult
from textual.containers import VerticalScroll
from textual.widgets import Footer, OptionList, Static

from zinc_kettle.tui.actions import binding_for, bindings
from zinc_kettle.tui.choices import ChoiceRow, Choices
from zinc_kettle.tui.host import host
from zinc_kettle.tui.station import Station
from zinc_kettle.tui.widgets.station_line import Stations

if TYPE_CHECKING:
    from zinc_kettle.core.health import Check

TITLE = (
    "Zinc Kettle measures how fast language models run on your machines, and says how sure it is.\nWhat comes first?"
)
ROOM = 26
"""For what a start is called."""
NAME = 21
"""For what a check is called."""


class Starts(Choices):
    """The list; a mark stands before the one that is chosen."""

    MARKED = True
    BINDINGS = [binding_for("begin", "choose", "select")]  # noqa: RUF012


class BeginScreen(Station):
    """Ways to begin, and a look at the machine."""

    BINDINGS = bindings("begin")
    AUTO_FOCUS = "#starts"

    def __init__(self) -> None:
        super().__init__()
        self._trouble = ""
        self._checks: Sequence[Check] = ()

    def widgets(self) -> ComposeResult:
        """What it is, ways to begin, the machine."""
        yield Stations("begin")
        yield Static(id="title")
        yield Starts(id="starts")
        with VerticalScroll(id="page", can_focus=False):
            yield Static(id="machine")
        yield Footer()

    def on_mount(self) -> None:
        """Show the ways; look at the machine meanwhile."""
        self.redraw()
        self.work(self._look(), group="look")

    def on_resize(self) -> None:
        """Lines are folded to the width."""
        self.call_after_refresh(self.redraw)

    async def _look(self) -> None:
        self._checks = await asyncio.to_thread(host(self).services.checks)
        if self.stands:
            self.redraw()

    def gave_up(self, said: str) -> None:
        """In place of what was found."""
        self._trouble = said

    @property
    def _ways(self) -> tuple[tuple[str, str, Callable[[], None]], ...]:
        """What can be done first, what it brings, and what does it."""
        app = host(self)
        return (
            (
                "Measure a model of yours",
                "finds the model files here and makes a plan, which you can change",
                self.action_measure_model,
            ),
            (
                "Plan from a question",
                "which quantization, how many threads, which rig, how many people",
                self.action_new_plan,
            ),
            (
                "Look at finished studies",
                "of a made-up harbour office, each measured by this tool",
                lambda: app.go("shelf"),
            ),
            (
                "Say what you need",
                "the speed you read at, prices and hours, units, light or dark",
                lambda: app.go("settings"),
            ),
        )

    def draw(self) -> None:
        """Draw everything."""
        p = self.palette
        self.query_one(Stations).show(p)
        self.query_one("#title", Static).update(Text(TITLE, f"bold {p.ink}"))
        lines = []
        for place, (name, about, _) in enumerate(self._ways):
            line = Text(name.ljust(ROOM), p.ink, no_wrap=True, overflow="ellipsis")
            lines.append(ChoiceRow(str(place), line.append(about, p.muted)))
        self.query_one(Starts).show(lines)
        self.query_one("#machine", Static).update(self._machine())

    def _machine(self) -> Text:
        p = self.palette
        out = Text("What can this machine do?\n\n", f"bold {p.ink}")
        if self._trouble:
            return out.append(self._trouble, p.failure)
        if not self._checks:
            return out.append("Looking …", p.muted)
        room = self.query_one("#page").scrollable_content_region.width - NAME - 3
        colours = {"good": p.ink, "limited": p.caution, "missing": p.muted, "broken": p.failure}
        for check in self._checks:
            out.append(f"{check.mark} ", colours[check.state])
            out.append(check.name.ljust(NAME), p.ink)
            found = f"\n{' ' * (NAME + 3)}".join(textwrap.wrap(check.found, max(20, room)))
            out.append(f" {found}\n", p.muted if check.state == "missing" else p.ink)
            for line in textwrap.wrap(check.remedy, max(20, room)):
                out.append(f"{' ' * (NAME + 3)}{line}\n", p.muted)
        return out

    def on_option_list_option_selected(self, _event: OptionList.OptionSelected) -> None:
        """Run the selected action."""
        chosen = self.query_one(Starts).chosen
        if chosen:
            self._ways[int(chosen)][2]()

    def action_new_plan(self) -> None:
        """Plan a study from a question."""
        host(self).plan_from("ask", {})

    def action_measure_model(self) -> None:
        """Find the models on this machine, and plan a measurement of one."""
        from zinc_kettle.tui.widgets.model_chooser import ask_for_model

        ask_for_model(self)

    def clipboard_text(self) -> str:
        """What was found of the machine, as text."""
        return self._machine().plain

    def action_back(self) -> None:
        """Go to the shelf."""
        host(self).go("shelf")
