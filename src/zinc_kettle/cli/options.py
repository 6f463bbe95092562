"""Options that several commands have."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Optional

import typer

StoreOption = Annotated[
    Optional[Path],  # noqa: UP045 - typer reads the annotation at run time
    typer.Option("--store", metavar="PATH", help="The store to use instead of the one in the data folder."),
]
JsonOption = Annotated[bool, typer.Option("--json", help="JSON Lines on standard output; see docs/output.md.")]
OutOption = Annotated[
    Optional[list[Path]],  # noqa: UP045
    typer.Option("--out", "-o", help="Draw it into this file; .svg or .pdf; may be given twice."),
]
MeasureOption = Annotated[
    str, typer.Option("--measure", help="Which measure, see docs/output.md; the study's own without it.")
]
