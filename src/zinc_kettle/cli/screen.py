"""Opens the screen."""

from __future__ import annotations

import asyncio
import contextlib
import io
import math
import signal
import sys
import time
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from rich.console import Console

from zinc_kettle.cli import output
from zinc_kettle.cli.signals import ending_signals
from zinc_kettle.config import Places, places
from zinc_kettle.config.log import log_text
from zinc_kettle.core.text import neutralise
from zinc_kettle.errors import UsageError

if TYPE_CHECKING:
    from zinc_kettle.app.services import Services
    from zinc_kettle.tui.app import KettleApp

MOST_ENDS, ENDS_WITHIN_S = 3, 30.0
"""A screen that ends with an error so often within this time would only go on doing so."""
SIGNALLED = 128
"""Added to a signal's number, as shells tell that a program ended by it."""
ONCE_MORE_S = 2.0
TRACE_WIDTH = 120
"""Of what is written into the log."""


def open_screen(store: Path | None, models: Sequence[Path] = ()) -> None:
    """Open the screen with the person's own studies.

    Raises:
        UsageError: There is no terminal to open it on.
    """
    if not on_terminal():
        raise UsageError(
            "the screen needs a terminal",
            remedy="zinc-kettle run FILE works without one; zinc-kettle --help lists every command",
        )
    show(replace(places(store), more_models=tuple(models)), [])


def on_terminal() -> bool:
    """True when both ends are a terminal."""
    return sys.stdin.isatty() and sys.stdout.isatty()


def show(where: Places, extra: list[Path], run_id: str = "", *, walk: bool = False) -> None:
    """Run the application until the person leaves it, with a run open where one is named, or with the guided walk."""
    from zinc_kettle.app.display import speak
    from zinc_kettle.app.services import Services

    speak(where)
    sys.exit(asyncio.run(_show(Services(where, extra_studies=extra), where.log, run_id, walk=walk)))


class _Leaving:
    """Leaves the screen as a person would when the system asks the tool to end, and gives the terminal back."""

    def __init__(self) -> None:
        self.app: KettleApp | None = None
        self.number = 0
        """The signal that came; 0 while none has."""
        loop = asyncio.get_running_loop()
        for number in ending_signals():
            if number is not signal.SIGINT:  # on the screen that is a key
                with contextlib.suppress(NotImplementedError):
                    loop.add_signal_handler(number, self._leave, int(number))

    def _leave(self, number: int) -> None:
        from zinc_kettle.tui.app import STOP_LIMIT_S

        if self.app is None:
            return
        if not self.number:
            self.app.call_later(self.app.action_leave)
            # Should the screen be too busy to hear it, it ends all the same.
            asyncio.get_running_loop().call_later(STOP_LIMIT_S + ONCE_MORE_S, self.app.exit)
        self.number = number


async def _show(services: Services, log: Path, run_id: str, *, walk: bool) -> int:
    """Show the screen; should it end with an error, write that down and show a new one while the run continues."""
    from zinc_kettle.tui.app import STOP_LIMIT_S, KettleApp
    from zinc_kettle.tui.runner import Runner

    runner, notice, ended_s = Runner(), "", [-math.inf] * (MOST_ENDS - 1)
    if run_id:
        runner.results = services.studies.open_run(run_id)
    leaving = _Leaving()
    while True:
        app = leaving.app = KettleApp(services, runner, notice, walk=walk and not notice)
        told = io.StringIO()
        app.error_console = Console(file=told, width=TRACE_WIDTH, no_color=True)
        code = await app.run_async()
        if leaving.number or not app.return_code:
            return SIGNALLED + leaving.number if leaving.number else code or 0
        last = _last_line(told.getvalue())
        log_text(log, told.getvalue())
        ended_s = [*ended_s[1:], time.monotonic()]
        if ended_s[-1] - ended_s[0] < ENDS_WITHIN_S:
            await runner.stopped(STOP_LIMIT_S)
            output.note(f"the screen kept failing: {last}; details are in {log}")
            return 1
        going_on = "The run continues. " if runner.active else ""
        notice = f"{last}. {going_on}Details are in {log}."


def _last_line(text: str) -> str:
    lines = [
        line.strip() for line in text.splitlines() if line.strip() and not line.startswith(("│", "╭", "╰", "NOTE"))
    ]
    return neutralise(lines[-1], keep_newlines=False)[:200] if lines else "an unexpected error"
