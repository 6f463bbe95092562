"""`unpack`: check somebody else's bundle and put it on the shelf beside your own studies."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from zinc_kettle.cli.commands.pack import unpack_bundle
from zinc_kettle.cli.options import StoreOption

EXAMPLES = ("zinc-kettle unpack which-rig.kettle --as pilots",)


def command(
    file: Annotated[Path, typer.Argument(help="A bundle, NAME.kettle.")],
    name: Annotated[str, typer.Option("--as", help="Its name on your shelf; that of the file without it.")] = "",
    store: StoreOption = None,
) -> None:
    """Check a bundle and add its studies to the shelf, read-only, beside your own."""
    unpack_bundle(file, name, store)
