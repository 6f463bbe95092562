"""`pack` and `unpack`: runs in one file for another copy of the tool, and back."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Annotated, Optional

import typer

from zinc_kettle.app.build import open_store
from zinc_kettle.app.packing import LEFT_OUT, hidden_words, known_keys, pack
from zinc_kettle.app.unpacking import unpack
from zinc_kettle.cli import output
from zinc_kettle.cli.options import RUN, StoreOption
from zinc_kettle.config import places
from zinc_kettle.core.names import NAME_HINT, is_name, name_from
from zinc_kettle.core.problem import nearest
from zinc_kettle.core.units import byte_size, plural
from zinc_kettle.errors import UsageError
from zinc_kettle.store.reading import find, open_run


def pack_runs(named: Sequence[str], out: Path | None, without: Sequence[str], store_path: Path | None) -> None:
    """Write runs into a bundle.

    Raises:
        UsageError: No such run, one is running, or the file cannot be written.
    """
    for word in without:
        if word not in LEFT_OUT:
            raise UsageError(f"{word!r} cannot be left out", remedy=nearest(word, LEFT_OUT))
    where = places(store_path)
    store = open_store(where)
    ids = list(dict.fromkeys(find(store, name) for name in named))
    studies = [open_run(store, run_id).study for run_id in ids]
    file = out or Path(f"{name_from(studies[0].name, otherwise='bundle')}.kettle")
    keys = known_keys(where, studies)
    found = pack(store, ids, file, without=without, words=hidden_words(where), secrets=keys)
    output.line(str(found.path))
    counted = f"{plural(found.runs, 'run')}, {plural(found.repeats, 'repeat')}, {plural(found.requests, 'request')}"
    output.note(f"{counted}, {byte_size(found.size)}; checksum {found.digest[:16]}")
    left = [word for word in LEFT_OUT if word not in without]
    if left:
        output.note(f"It has the {' and the '.join(left)}; --without {left[0]} leaves them here.")


def unpack_bundle(file: Path, name: str, store_path: Path | None) -> None:
    """Check a bundle and put it on the shelf, beside one's own.

    Raises:
        BundleError: It is damaged, or cannot be trusted.
        UsageError: There is one of that name.
    """
    chosen = name or name_from(file.stem, otherwise="bundle")
    if not is_name(chosen):
        raise UsageError(f"{chosen[:80]!r} is no name for a bundle", remedy=NAME_HINT)
    found = unpack(file, places(store_path).others / chosen)
    for run in found.runs:
        output.line(f"{found.name}::{run}")
    output.note(f"checksum {found.digest[:16]}; somebody else's: compare it as {found.name}::{found.runs[0]}")
    if found.left_out:
        output.note(f"Left out by who packed it: {', '.join(found.left_out)}.")


EXAMPLES = ("zinc-kettle pack which-rig --without answers --out which-rig.kettle",)


def command(
    studies: Annotated[list[str], typer.Argument(help=f"{RUN}; several go into one bundle.")],
    out: Annotated[Optional[Path], typer.Option("--out", "-o", help="File to write, NAME.kettle.")] = None,  # noqa: UP045
    without: Annotated[
        Optional[list[str]],  # noqa: UP045
        typer.Option("--without", help="prompts or answers: what stays here; may be given twice."),
    ] = None,
    store: StoreOption = None,
) -> None:
    """Pack runs into one file to share; host names, paths and keys are left out."""
    pack_runs(studies, out, without or (), store)
