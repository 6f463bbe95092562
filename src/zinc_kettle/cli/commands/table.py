"""`table`: a run as CSV, JSON Lines or Parquet."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Annotated, Optional, get_args

import typer

from zinc_kettle.app.build import open_store, shipped_stores
from zinc_kettle.app.side_names import Sides
from zinc_kettle.cli import output
from zinc_kettle.cli.options import RUN, StoreOption
from zinc_kettle.config import places
from zinc_kettle.core.problem import nearest
from zinc_kettle.core.units import plural
from zinc_kettle.errors import UsageError
from zinc_kettle.formats.tables import write_table, write_to
from zinc_kettle.present.tables import Of, table


def tell_table(named: Sequence[str], of: str, out: Path | None, store_path: Path | None, *, long: bool) -> None:
    """Write runs as a table into a file, or as CSV on standard output.

    Raises:
        UsageError: No such study or kind of table, or the file cannot be written.
    """
    kinds: tuple[Of, ...] = get_args(Of)
    kind = next((k for k in kinds if k == of), None)
    if kind is None:
        raise UsageError(f"there is no table of {of!r}", remedy=nearest(of, kinds))
    where = places(store_path)
    store = open_store(where)
    finder = Sides(where, lambda: store, shipped=lambda: shipped_stores(where))
    found = table([finder.results(name) for name in named], kind, long=long)
    if out is None:
        write_to(found, sys.stdout.buffer, ".csv")
        sys.stdout.buffer.flush()
        return
    rows = write_table(found, out)
    output.line(str(out))
    output.note(f"{plural(rows, 'row')}, {plural(len(found.columns), 'column')}; docs/tables.md says what they mean")


EXAMPLES = (
    "zinc-kettle table which-rig --of requests --out requests.parquet",
    "zinc-kettle table which-rig --long",
)


def command(
    studies: Annotated[list[str], typer.Argument(help=f"{RUN}; several make one table.")],
    of: Annotated[
        str, typer.Option("--of", help="cells, repeats, requests or tokens: what a row stands for.")
    ] = "cells",
    long: Annotated[bool, typer.Option("--long", help="A row for each measure, not a column.")] = False,
    out: Annotated[
        Optional[Path],  # noqa: UP045
        typer.Option("--out", "-o", help="File to write: .csv, .jsonl or .parquet; else CSV on standard output."),
    ] = None,
    store: StoreOption = None,
) -> None:
    """Write cells, repeats, requests or tokens as CSV, JSON Lines or Parquet; columns are in docs/tables.md."""
    tell_table(studies, of, out, store, long=long)
