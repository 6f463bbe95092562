"""`restore`: take a run back that was thrown away."""

from __future__ import annotations

from typing import Annotated

import typer

from zinc_kettle.cli.commands.remove import restore_run
from zinc_kettle.cli.options import RUN, StoreOption

EXAMPLES = (
    "zinc-kettle restore",
    "zinc-kettle restore which-rig:2",
)


def command(
    study: Annotated[str, typer.Argument(help=f"{RUN}; without it, what is in the bin is listed.")] = "",
    store: StoreOption = None,
) -> None:
    """Restore a deleted run."""
    restore_run(study, store)
