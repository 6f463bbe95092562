"""`capacity`: the largest load that keeps a promise, as a study found it."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from zinc_kettle.app.build import open_store, shipped_stores
from zinc_kettle.app.side_names import Sides
from zinc_kettle.cli import output
from zinc_kettle.cli.options import RUN, JsonOption, StoreOption
from zinc_kettle.config import places
from zinc_kettle.core.search.capacity import UNSETTLED, capacities
from zinc_kettle.core.text import capitalised
from zinc_kettle.errors import UsageError
from zinc_kettle.present.capacity import ENDS, TRIAL_HEADS, found_json, found_text, trial_rows


def tell_capacity(place: str, store_path: Path | None, *, as_json: bool) -> int:
    """Print what a study found, with the loads it tried; returns 3 where it is not settled.

    Raises:
        UsageError: No such study, or one that looks for no limit.
    """
    where = places(store_path)
    store = open_store(where)
    results = Sides(where, lambda: store, shipped=lambda: shipped_stores(where)).results(place)
    study = results.study
    if not study.capacity.factor:
        raise UsageError(
            f"{study.name} looks for no limit",
            why="its study file has no section [capacity]",
            remedy='[capacity] factor = "concurrency", with a [promise]',
        )
    open_ = False
    for name, found in capacities(results).items():
        open_ |= found.end in UNSETTLED
        if as_json:
            output.json_line({"of": name, **found_json(found, study.promise, study.capacity.factor)})
            continue
        said = found_text(found, study.capacity.factor)
        output.line(f"{name + ': ' if name else ''}{capitalised(said) if not name else said}.")
        output.line(f"It ended because {ENDS[found.end]}." if found.end else "The search has not ended.")
        output.line()
        output.table(TRIAL_HEADS, trial_rows(found, study.promise, study.capacity.factor))
        output.line()
    return 3 if open_ else 0


EXAMPLES = ("zinc-kettle capacity how-many-desks --json",)


def command(
    study: Annotated[str, typer.Argument(help=f"{RUN}.")],
    store: StoreOption = None,
    as_json: JsonOption = False,
) -> None:
    """Show the largest load that keeps the promise, and the loads that were tried."""
    raise typer.Exit(tell_capacity(study, store, as_json=as_json))
