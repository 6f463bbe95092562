"""Commands that pass results on: table, pack, unpack."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Optional

import typer

from zinc_kettle.cli.options import StoreOption

RUN = "STUDY, or STUDY:RUN for a run that is not the newest"


def table(
    context: typer.Context,
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
    from zinc_kettle.cli.table import tell_table

    tell_table(studies, of, out, store or context.obj, long=long)


def pack(
    context: typer.Context,
    studies: Annotated[list[str], typer.Argument(help=f"{RUN}; several go into one bundle.")],
    out: Annotated[Optional[Path], typer.Option("--out", "-o", help="File to write, NAME.kettle.")] = None,  # noqa: UP045
    without: Annotated[
        Optional[list[str]],  # noqa: UP045
        typer.Option("--without", help="prompts or answers: what stays here; may be given twice."),
    ] = None,
    store: StoreOption = None,
) -> None:
    """Write runs into one file, for another copy of the tool; host names, paths and keys stay here."""
    from zinc_kettle.cli.bundle import pack_runs

    pack_runs(studies, out, without or (), store or context.obj)


def unpack(
    context: typer.Context,
    file: Annotated[Path, typer.Argument(help="A bundle, NAME.kettle.")],
    name: Annotated[str, typer.Option("--as", help="Its name on your shelf; that of the file without it.")] = "",
    store: StoreOption = None,
) -> None:
    """Check somebody else's bundle and put it on the shelf beside your own studies."""
    from zinc_kettle.cli.bundle import unpack_bundle

    unpack_bundle(file, name, store or context.obj)
