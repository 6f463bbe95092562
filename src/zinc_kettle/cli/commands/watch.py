"""`watch`: look on while a study is measured in another terminal."""

from __future__ import annotations

import time
from pathlib import Path
from typing import Annotated

import typer

from zinc_kettle.app.build import open_store
from zinc_kettle.app.live_status import read_glance
from zinc_kettle.cli import output
from zinc_kettle.cli.commands.show import tell
from zinc_kettle.cli.options import StoreOption
from zinc_kettle.cli.screen import on_terminal, show
from zinc_kettle.config import places
from zinc_kettle.errors import UsageError
from zinc_kettle.present.values import left_text
from zinc_kettle.session import progress as p
from zinc_kettle.store.reading import find, open_run, running

LOOK_S = 1.0


def watch_run(place: str, store_path: Path | None) -> None:
    """Show a run as it is measured elsewhere: on the map, or in lines where there is no terminal.

    Raises:
        UsageError: No such study or run; or none is named, and not one is being measured.
    """
    where = places(store_path)
    store = open_store(where)
    if place:
        run_id = find(store, place)
    else:
        now = running(store)
        if len(now) != 1:
            what = "no study is being measured" if not now else f"{len(now)} studies are being measured"
            raise UsageError(what, remedy="name one: zinc-kettle watch STUDY")
        run_id = now[0]
    if on_terminal():
        show(where, [], run_id)
    said = ""
    while open_run(store, run_id).run.state == "running":
        events = read_glance(where.store, run_id)
        line = "; ".join(filter(None, map(_line, events)))
        if line and line != said:
            output.note(line)
            said = line
        time.sleep(LOOK_S)
    tell(open_run(store, run_id))


def _line(event: p.Event) -> str:
    if isinstance(event, p.Progress):
        return f"{event.done} of {event.repeats} repeats, {left_text(event.left_s)}"
    return "paused" if isinstance(event, p.Paused) else ""


EXAMPLES = (
    "zinc-kettle watch",
    "zinc-kettle watch which-rig",
)


def command(
    study: Annotated[str, typer.Argument(help="STUDY, or STUDY:RUN; else the one that is running.")] = "",
    store: StoreOption = None,
) -> None:
    """Follow a study that is being measured in another terminal."""
    watch_run(study, store)
