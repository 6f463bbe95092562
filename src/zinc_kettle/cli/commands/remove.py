"""`remove` and `restore`: throw a run away, and take it back."""

from __future__ import annotations

import time
from pathlib import Path
from typing import Annotated

import typer

from zinc_kettle.app.bin import empty
from zinc_kettle.app.build import open_store
from zinc_kettle.cli import output
from zinc_kettle.cli.options import RUN, StoreOption
from zinc_kettle.config import places
from zinc_kettle.store.reading import find, shelf
from zinc_kettle.store.store import BIN_DAYS


def remove_run(place: str, store_path: Path | None) -> None:
    """Throw a run away.

    Raises:
        UsageError: There is none.
        RunHeldError: It is being measured.
    """
    where = places(store_path)
    store = open_store(where)
    empty(where, store)
    store.remove(find(store, place), wall_s=time.time())
    output.line(f"thrown away: {place}")
    output.note(f"zinc-kettle restore {place} takes it back, for {BIN_DAYS} days")


def restore_run(place: str, store_path: Path | None) -> None:
    """Take a run back, or list what is in the bin.

    Raises:
        UsageError: There is none of that name.
    """
    store = open_store(places(store_path))
    if place:
        store.restore(find(store, place, binned=True))
        output.line(f"taken back: {place}")
        return
    rows = [(f"{row.name}:{run.number}", row.question) for row in shelf(store, binned=True) for run in row.runs]
    output.table(("run", "question"), rows) if rows else output.line("The bin is empty.")


EXAMPLES = ("zinc-kettle remove which-rig:2",)


def command(
    study: Annotated[str, typer.Argument(help=RUN)],
    store: StoreOption = None,
) -> None:
    """Delete a run; it can be restored for 30 days."""
    remove_run(study, store)
