"""`probe`: facts of a rig, who uses it now, its memory bandwidth and arithmetic rate."""

from __future__ import annotations

import asyncio
from pathlib import Path
from typing import Annotated, Optional

import typer

from zinc_kettle.app.build import rig_book
from zinc_kettle.app.rigbook import RigBook
from zinc_kettle.cli import output
from zinc_kettle.cli.options import JsonOption, StoreOption
from zinc_kettle.config import places
from zinc_kettle.core.rig import Rig
from zinc_kettle.present.rig_rows import busy_line, fact_rows, probe_rows, rig_record


def probe_rig(name: str | None, store_path: Path | None, *, facts_only: bool, as_json: bool) -> int:
    """Gather, probe and print; returns the exit code.

    Args:
        name: A rig of the rig file; None for this machine.
        store_path: Another store than the one in the data folder.
        facts_only: Gather facts and load nothing.
        as_json: JSON Lines on standard output.
    """
    book = rig_book(places(store_path))
    rig = asyncio.run(_ask(book, book.plan(name).name, facts_only=facts_only))
    if as_json:
        output.json_line(rig_record(rig))
    else:
        _tell(rig)
    return 1 if rig.trouble else 0


async def _ask(book: RigBook, name: str, *, facts_only: bool) -> Rig:
    try:
        if facts_only or book.plan(name).reach in {"url", "rehearsal"}:
            return await book.gather(name)
        output.note("Probing takes a few seconds. Close other programs first, or they are measured too.")
        return await book.probe(name)
    finally:
        await book.close()


def _tell(rig: Rig) -> None:
    output.line(f"{rig.name} ({rig.address})" + ("  SIMULATED" if rig.simulated else ""))
    if rig.trouble:
        output.line(f"✕ {rig.trouble}")
    output.table(["fact", "value", "from"], fact_rows(rig))
    output.line()
    output.line(busy_line(rig))
    rows = probe_rows(rig)
    if rows:
        output.line()
        output.table(["probe", "threads", "median", "range of windows"], rows)


EXAMPLES = (
    "zinc-kettle probe",
    "zinc-kettle probe gannet --json",
)


def command(
    rig: Annotated[Optional[str], typer.Argument(help="A rig from the rig file; this machine by default.")] = None,  # noqa: UP045
    facts_only: Annotated[
        bool, typer.Option("--facts-only", help="Only gather facts; put no load on the machine.")
    ] = False,
    store: StoreOption = None,
    as_json: JsonOption = False,
) -> None:
    """Gather a rig's facts and measure its memory bandwidth and arithmetic rate."""
    raise typer.Exit(probe_rig(rig, store, facts_only=facts_only, as_json=as_json))
