"""`show`: the figures of a kept run, without measuring anything."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Annotated

import typer

from zinc_kettle.app.build import open_store, shipped_stores
from zinc_kettle.app.side_names import Sides
from zinc_kettle.cli import output
from zinc_kettle.cli.options import RUN, JsonOption, StoreOption
from zinc_kettle.config import places
from zinc_kettle.core.results import StudyResults
from zinc_kettle.present.breakdown import split_rows
from zinc_kettle.present.dates import day_and_time
from zinc_kettle.present.duel import worked_line
from zinc_kettle.present.findings import MOST_FAILURES, known_measure
from zinc_kettle.present.json import cell_json
from zinc_kettle.present.table import COLUMN_SETS, conclusions, result_rows


def show_run(
    place: str, store_path: Path | None, *, as_json: bool, time_split: bool = False, columns: Sequence[str] = ()
) -> None:
    """Print a kept run.

    Raises:
        UsageError: There is no such study or run, or no such measure.
    """
    said = [name.strip() for of in columns for name in of.split(",") if name.strip()]
    names = tuple(known_measure(name) for one in said for name in COLUMN_SETS.get(one, (one,)))
    where = places(store_path)
    store = open_store(where)
    sides = Sides(where, lambda: store, shipped=lambda: shipped_stores(where))
    results = sides.results(place)
    if as_json:
        for cell in results.cells:
            output.json_line(cell_json(results, cell))
        return
    run = results.run
    when = day_and_time(run.created_s)
    output.line(
        f"{results.study.name}, run {run.number}, {when}, {run.state}" + ("  SIMULATED" if run.simulated else "")
    )
    if time_split:
        output.line()
        output.table(*split_rows(results))
        return
    tell(results, names)
    for cell in [cell for cell in results.cells if cell.state == "failed"][:MOST_FAILURES]:
        before = sides.last_worked(results, cell)
        if before is not None:
            output.line(f"{cell.title}: {worked_line(before)}.")


def tell(results: StudyResults, names: tuple[str, ...] = ()) -> None:
    """Print the question, a table, the answer and the findings."""
    output.line(results.study.question)
    output.line()
    output.table(*result_rows(results, names or None))
    output.line()
    for text in conclusions(results):
        output.line(text)


EXAMPLES = (
    "zinc-kettle show which-rig",
    "zinc-kettle show which-rig:2 --json",
    "zinc-kettle show which-rig --columns durations",
    "zinc-kettle show which-rig --columns decode,ttft,latency,power",
    "zinc-kettle show pilots::which-rig",
)


def command(
    study: Annotated[str, typer.Argument(help=f"{RUN}.")],
    store: StoreOption = None,
    as_json: JsonOption = False,
    columns: Annotated[
        list[str] | None,
        typer.Option(help="Measures, with commas; or a set: durations, machine."),
    ] = None,
    time: Annotated[bool, typer.Option("--time", help="Where the time of a token goes, cell by cell.")] = False,
) -> None:
    """Show the figures of a study that was measured, without measuring anything."""
    show_run(study, store, as_json=as_json, time_split=time, columns=columns or ())
