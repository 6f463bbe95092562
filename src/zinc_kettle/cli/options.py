"""Options that several commands have."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Optional

import typer

RUN = "STUDY, or STUDY:RUN for a run that is not the newest"
SIDE = "STUDY[:RUN][@factor=level,…]"


def _given_before(context: typer.Context, store: Optional[Path]) -> Path | None:  # noqa: UP045
    """The store that is named behind the command, else the one named before it."""
    return store or context.obj


StoreOption = Annotated[
    Optional[Path],  # noqa: UP045 - typer reads the annotation at run time
    typer.Option(
        "--store",
        metavar="PATH",
        help="The store to use instead of the one in the data folder.",
        callback=_given_before,
    ),
]
JsonOption = Annotated[bool, typer.Option("--json", help="JSON Lines on standard output; see docs/output.md.")]
OutOption = Annotated[
    Optional[list[Path]],  # noqa: UP045
    typer.Option("--out", "-o", help="Draw it into this file; .svg or .pdf; may be given twice."),
]
MeasureOption = Annotated[
    str, typer.Option("--measure", help="Which measure, see docs/output.md; the study's own without it.")
]
