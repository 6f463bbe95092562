"""`note`: keep a note with a run, or with one of its cells."""

from __future__ import annotations

from typing import Annotated

import typer

from zinc_kettle.cli.commands.answers import keep_note
from zinc_kettle.cli.options import RUN, StoreOption

EXAMPLES = ("zinc-kettle note which-rig 'the window was open' --cell rig=petrel",)


def command(
    study: Annotated[str, typer.Argument(help=f"{RUN}.")],
    text: Annotated[str, typer.Argument(help="The words to keep.")],
    cell: Annotated[str, typer.Option("--cell", help="factor=level,… for a note on one cell.")] = "",
    store: StoreOption = None,
) -> None:
    """Attach a note to a run, or to one of its cells."""
    keep_note(study, text, cell, store)
