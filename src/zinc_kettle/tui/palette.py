"""What the palette of commands finds: stations, what can be done here, and everything that has a name."""

from __future__ import annotations

import asyncio
import contextlib
import json
from collections.abc import Callable, Iterator
from functools import partial
from typing import TYPE_CHECKING, Any

from textual.app import SystemCommand
from textual.command import CommandList, CommandPalette
from textual.timer import Timer
from textual.widgets import OptionList
from textual.worker import Worker

from zinc_kettle.core.text import capitalised
from zinc_kettle.errors import KettleError
from zinc_kettle.tui.actions import ACTIONS, EVERYWHERE, JUMPS
from zinc_kettle.tui.stations import STATIONS

if TYPE_CHECKING:
    from textual.screen import Screen

    from zinc_kettle.tui.host import Host

MOST = 200
"""Studies, and model files, it knows by name."""


class Palette(CommandPalette):
    """The library's palette, which may be closed while it still looks for commands: that is no error."""

    DEFAULT_CSS = "Palette SearchIcon { display: none; }  /* many fonts of terminals lack its letter */"

    def run_worker(self, *work: Any, **more: Any) -> Worker[Any]:
        """Work that fails because nothing is there any more to show it on does not end the application."""
        return super().run_worker(*work, **{**more, "exit_on_error": False})

    def set_timer(self, delay: float, callback: Callable[[], Any] | None = None, **more: Any) -> Timer:
        """A countdown to what is shown in its list, or to nothing where that is gone by then."""

        def on_its_list() -> Any:
            return callback() if callback is not None and self.query(CommandList) else None

        return super().set_timer(delay, on_its_list, **more)

    @property
    def is_empty(self) -> bool:
        """True while its list holds nothing, which does not survive a page up or down then."""
        return not any(found.option_count and found.size.height for found in self.query(OptionList))


class Named:
    """What has a name: looked up once for each time the palette is opened, since every key searches it.

    Args:
        app: The application.
    """

    def __init__(self, app: Host) -> None:
        self._app = app
        self.commands: list[SystemCommand] = []

    def look(self) -> None:
        """Look up what is at hand at once."""
        self.commands = [*self._studies(), *self._rigs(), *self._measures()]

    async def find_models(self) -> None:
        """Model files may lie in many folders; they are found while the palette is open already."""
        from zinc_kettle.tui.widgets.model_chooser import FIRST_DESIGN

        found = await asyncio.to_thread(self._app.services.plans.models)
        self.commands += [
            SystemCommand(
                f"model: {m.title}",
                f"Plan to measure it. {m.about}",
                partial(self._app.plan_from, FIRST_DESIGN, json.loads(m.key)),
            )
            for m in found[:MOST]
        ]

    def _studies(self) -> Iterator[SystemCommand]:
        with contextlib.suppress(KettleError):
            for entry in self._app.services.studies.shelf()[:MOST]:
                if not entry.trouble:
                    about = entry.runs[0].answer if entry.runs else entry.about
                    yield SystemCommand(f"study: {entry.question}", about, partial(self._app.open_study, entry))

    def _rigs(self) -> Iterator[SystemCommand]:
        with contextlib.suppress(KettleError):
            for rig in self._app.services.rigs.all():
                yield SystemCommand(f"rig: {rig.name}", "Show what is known of it.", partial(self._show, rig.name))

    def _measures(self) -> Iterator[SystemCommand]:
        from zinc_kettle.core.measures import MEASURES

        for measure in MEASURES.values():
            yield SystemCommand(
                f"explain: {measure.title}",
                f"{capitalised(measure.meaning)}.",
                partial(self._app.explain_measure, measure.name),
            )

    def _show(self, name: str) -> None:
        self._app.rig = name
        self._app.go("rigs")


def commands(app: Host, screen: Screen[Any]) -> Iterator[SystemCommand]:
    """Stations, then what can be done on a screen and everywhere."""
    for kind in STATIONS:
        if kind.key:
            yield SystemCommand(kind.title.lower(), kind.question, partial(app.go, kind.name))
    here = next((kind.name for kind in STATIONS if kind.screen == type(screen).__name__), "")
    for action in (a for a in ACTIONS if a.place in (EVERYWHERE, here)):
        owner = app if action.place == EVERYWHERE else screen
        method = None if action in JUMPS else getattr(owner, f"action_{action.id}", None)
        if method is not None:
            yield SystemCommand(action.title, action.help, method)
