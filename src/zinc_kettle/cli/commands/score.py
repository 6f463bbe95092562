"""`score`: how fast configurations are over the tasks of the suite, on one scale."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Annotated, Optional

import typer

from zinc_kettle.app.build import open_store, shipped_stores
from zinc_kettle.app.charting import preferences
from zinc_kettle.app.export import write
from zinc_kettle.app.planning import MOST_NAME
from zinc_kettle.app.rig_service import RigService
from zinc_kettle.app.scoring import contenders, scored_runs, shipped_reference
from zinc_kettle.app.side_names import Sides
from zinc_kettle.cli import output
from zinc_kettle.cli.commands.lineup import tell_ranking
from zinc_kettle.cli.commands.new import new_study
from zinc_kettle.cli.commands.run import run_study
from zinc_kettle.cli.options import JsonOption, OutOption, StoreOption
from zinc_kettle.config import places
from zinc_kettle.core.compare.score import Reference, reference_of
from zinc_kettle.core.compare.scoreboard import best_of_each, scoreboard
from zinc_kettle.core.names import name_from
from zinc_kettle.errors import UsageError
from zinc_kettle.present.charts.lineup import lineup_chart
from zinc_kettle.present.lineup import lineup_json

EXAMPLES = (
    "zinc-kettle score --model brine-250m",
    "zinc-kettle score bundles/ --by rig",
)
OF = ("rig", "model", "quantization", "engine")


def tell_scores(
    names: Sequence[str], by: str, against: str, store_path: Path | None, *, as_json: bool, out: Sequence[Path]
) -> None:
    """Print the scores of runs, or draw them.

    Raises:
        UsageError: Nothing has one, or something named is not there.
    """
    if by and by not in OF:
        raise UsageError(f"scores are not told by {by!r}", remedy=", ".join(OF))
    where = places(store_path)
    store = open_store(where)
    sides = Sides(where, lambda: store, shipped=lambda: shipped_stores(where))
    rigs = {rig.name: rig for rig in RigService(where, lambda: store).all()}
    reference = _chosen(against, sides) if against else shipped_reference()
    found = scoreboard(contenders(scored_runs(names, store, sides), rigs), reference)
    found = best_of_each(found, by) if by else found
    pace = preferences(where).pace
    if out:
        for file in write(lineup_chart(found, pace), out):
            output.line(str(file))
        return
    if as_json:
        output.json_line(lineup_json(found))
        return
    tell_ranking(found, pace)


def _chosen(name: str, sides: Sides) -> Reference:
    try:
        return reference_of(sides.results(name), name)
    except ValueError as error:
        raise UsageError(f"{name} cannot be a reference", why=str(error)) from error


def _name(held: Sequence[str]) -> str:
    """A name for the study of a score: another level is another study."""
    about = [Path(level.partition("=")[2]).name.removesuffix(".gguf") for level in held]
    return name_from("-".join(["score", *about]), otherwise="score", longest=MOST_NAME)


def command(
    of: Annotated[
        Optional[list[str]],  # noqa: UP045
        typer.Argument(help="STUDY[:RUN], bundles, or folders of bundles; without any, all of your own runs."),
    ] = None,
    model: Annotated[str, typer.Option("--model", help="Measure this model first, over the tasks of the suite.")] = "",
    hold: Annotated[Optional[list[str]], typer.Option("--hold", help="With --model: factor=level.")] = None,  # noqa: UP045
    by: Annotated[str, typer.Option("--by", help="Only the best of each rig, model, quantization or engine.")] = "",
    against: Annotated[str, typer.Option("--against", help="STUDY[:RUN] that has 100, in place of our own.")] = "",
    out: OutOption = None,
    store: StoreOption = None,
    as_json: JsonOption = False,
) -> None:
    """Score configurations over six tasks on one scale: your runs, and bundles of others."""
    names = list(of or ())
    if hold and not model:
        raise UsageError("--hold goes with --model", remedy="score --model FILE --hold rig=NAME")
    if model:
        held = [f"model={model}", *(hold or [])]
        file = new_study("score", [], held, _name(held), None, store, again=True)
        if run_study(file, store, as_json=False, fresh=False, told=not as_json):
            raise typer.Exit(1)
        names.append(file.name.removesuffix(".study.toml"))
    tell_scores(names, by, against, store, as_json=as_json, out=out or ())
