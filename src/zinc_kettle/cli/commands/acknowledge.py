"""`acknowledge`: a person's reason why a caution is no worry."""

from __future__ import annotations

import time
from pathlib import Path
from typing import Annotated

import typer

from zinc_kettle.app.build import open_store
from zinc_kettle.cli import output
from zinc_kettle.cli.cells import cells_of
from zinc_kettle.cli.options import RUN, StoreOption
from zinc_kettle.config import places
from zinc_kettle.core.run.decisions import Acknowledge
from zinc_kettle.core.text import neutralise
from zinc_kettle.core.units import plural
from zinc_kettle.errors import UsageError
from zinc_kettle.store.reading import find, open_run


def acknowledge_caution(place: str, caution: str, note: str, cell: str, store_path: Path | None) -> None:
    """Keep the reason with each of the named cells that has the caution.

    Raises:
        UsageError: No such study, run or cell, no reason, or none of the cells has the caution.
    """
    reason = neutralise(note.strip(), keep_newlines=False)
    if not reason:
        raise UsageError("there is no reason", remedy='--note "the fan was off", for instance')
    store = open_store(places(store_path))
    results = open_run(store, find(store, place))
    cells = [c for c in cells_of(results, cell) if caution in {x.code for x in c.cautions}]
    if not cells:
        there = sorted({x.code for c in results.cells for x in c.cautions})
        remedy = f"there are: {', '.join(there)}" if there else "there are no cautions"
        raise UsageError(f"no cell has the caution {caution!r}", remedy=remedy)
    for found in cells:
        decision = Acknowledge(time.time(), found.cell.levels, caution=caution, reason=reason)
        store.decide(results.run.run_id, decision)
    output.line(f"{caution} acknowledged in {plural(len(cells), 'cell')}: {reason}")


EXAMPLES = ("zinc-kettle acknowledge which-rig noisy --note 'a shared machine; cells are interleaved'",)


def command(
    study: Annotated[str, typer.Argument(help=f"{RUN}.")],
    caution: Annotated[str, typer.Argument(help="Code of the caution, such as noisy.")],
    note: Annotated[str, typer.Option("--note", help="Why it is no worry.")],
    cell: Annotated[str, typer.Option("--cell", help="factor=level,… for some cells only.")] = "",
    store: StoreOption = None,
) -> None:
    """Acknowledge a caution, with your reason beside it."""
    acknowledge_caution(study, caution, note, cell, store)
