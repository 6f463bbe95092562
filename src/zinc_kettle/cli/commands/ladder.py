"""`ladder`: hold each of a chain of changes against the one before it, and against the first."""

from __future__ import annotations

from typing import Annotated

import typer

from zinc_kettle.cli.commands.duel import tell_ladder
from zinc_kettle.cli.options import SIDE, JsonOption, MeasureOption, OutOption, StoreOption

EXAMPLES = (
    "zinc-kettle ladder last-weeks-settings",
    "zinc-kettle ladder which-rig@rig=petrel which-rig@rig=gannet which-rig@rig=cormorant",
)


def command(
    rungs: Annotated[list[str], typer.Argument(help=f"{SIDE}; of a study alone one setting changes after the other.")],
    measure: MeasureOption = "",
    out: OutOption = None,
    store: StoreOption = None,
    as_json: JsonOption = False,
) -> None:
    """Compare each of a chain of changes with the one before it, and with the first."""
    tell_ladder(rungs, measure, store, as_json=as_json, out=out or ())
