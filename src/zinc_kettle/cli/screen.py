"""Opens the screen."""

from __future__ import annotations

import sys
from pathlib import Path

from zinc_kettle.cli import output
from zinc_kettle.config import Places, places
from zinc_kettle.errors import UsageError


def open_screen(store: Path | None) -> None:
    """Open the screen with the person's own studies.

    Raises:
        UsageError: There is no terminal to open it on.
    """
    if not on_terminal():
        raise UsageError(
            "the screen needs a terminal", remedy="zinc-kettle run FILE works without one; zinc-kettle --help has all"
        )
    show(places(store), [])


def on_terminal() -> bool:
    """True when both ends are a terminal."""
    return sys.stdin.isatty() and sys.stdout.isatty()


def show(where: Places, extra: list[Path]) -> None:
    """Run the application."""
    from zinc_kettle.tui.app import KettleApp
    from zinc_kettle.wiring.desk import RealDesk

    app = KettleApp(RealDesk(where, extra_studies=extra))
    code = app.run()
    if app.return_code:
        output.note("the screen ended with an error")
        sys.exit(app.return_code)
    sys.exit(code or 0)
