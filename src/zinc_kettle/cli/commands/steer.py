"""`steer`: decisions about a run, also one that another terminal is measuring."""

from __future__ import annotations

import time
from pathlib import Path
from typing import Annotated

import typer

from zinc_kettle.app.build import open_store
from zinc_kettle.cli import output
from zinc_kettle.cli.options import RUN, StoreOption
from zinc_kettle.config import places
from zinc_kettle.core.checks.steering import parse_levels, steer
from zinc_kettle.core.problem import Problem, nearest
from zinc_kettle.core.run.decisions import WISHES, OnFailure
from zinc_kettle.errors import UsageError
from zinc_kettle.store.reading import find, open_run


def steer_run(place: str, wish: str, what: str, count: int, store_path: Path | None) -> None:
    """Enter a decision into the log of a run; whoever measures it looks there before each repeat.

    Raises:
        UsageError: No such study or run, or the decision makes no sense for it.
    """
    chosen = WISHES.get(wish)
    if chosen is None:
        raise UsageError(f"a run cannot be told to {wish!r}", remedy=nearest(wish, WISHES))
    store = open_store(places(store_path))
    run_id = find(store, place)
    results = open_run(store, run_id)
    levels = {} if chosen is OnFailure else parse_levels(results, what)
    if isinstance(levels, Problem):
        raise _wrong(levels)
    found = steer(results, chosen, levels, count=count, at_s=time.time(), step=store.last_step(run_id), text=what)
    if isinstance(found, Problem):
        raise _wrong(found)
    store.decide(run_id, found)
    output.line(f"{results.study.name}, run {results.run.number}: {found.told}")
    if results.run.state != "running":
        output.note("it is not running now; this holds when it is taken up again")


def _wrong(problem: Problem) -> UsageError:
    return UsageError(problem.what, why=problem.why, remedy=problem.remedy)


EXAMPLES = (
    "zinc-kettle steer which-rig pause",
    "zinc-kettle steer which-rig more rig=gannet --count 4",
)


def command(
    study: Annotated[str, typer.Argument(help=f"{RUN}.")],
    wish: Annotated[
        str,
        typer.Argument(help=f"{', '.join(WISHES)}; stop-after ends with this block."),
    ],
    what: Annotated[
        str,
        typer.Argument(
            help="factor=level,… : the cells that are meant, or the new level; of on-failure: go-on, again or ask."
        ),
    ] = "",
    count: Annotated[int, typer.Option("--count", help="Of more: how many further repeats.")] = 2,
    store: StoreOption = None,
) -> None:
    """Steer a run while it is measured, here or in another terminal; every decision is kept."""
    steer_run(study, wish, what, count, store)
