"""Commands that answer: duel, ladder, capacity, chart, lineup."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Optional

import typer

from zinc_kettle.cli.options import JsonOption, MeasureOption, OutOption, StoreOption

PLACE = "STUDY[:RUN][@factor=level,…]"


def duel(
    context: typer.Context,
    a: Annotated[str, typer.Argument(help=f"{PLACE}: what the other is held against; FILE.db::STUDY of other stores.")],
    b: Annotated[str, typer.Argument(help="The same, of the other side.")],
    measure: MeasureOption = "",
    prompts: Annotated[bool, typer.Option("--prompts", help="Prompt by prompt, too.")] = False,
    out: OutOption = None,
    store: StoreOption = None,
    as_json: JsonOption = False,
) -> None:
    """Hold B against A: what differs, and what it made of each measure."""
    from zinc_kettle.cli.duel import tell_duel

    tell_duel(a, b, measure, store or context.obj, as_json=as_json, prompts=prompts, out=out or ())


def ladder(
    context: typer.Context,
    rungs: Annotated[list[str], typer.Argument(help=f"{PLACE}; of a study alone one setting changes after the other.")],
    measure: MeasureOption = "",
    out: OutOption = None,
    store: StoreOption = None,
    as_json: JsonOption = False,
) -> None:
    """Hold each of a chain of changes against the one before it, and against the first."""
    from zinc_kettle.cli.duel import tell_ladder

    tell_ladder(rungs, measure, store or context.obj, as_json=as_json, out=out or ())


def capacity(
    context: typer.Context,
    study: Annotated[str, typer.Argument(help="STUDY, or STUDY:RUN for a run that is not the newest.")],
    store: StoreOption = None,
    as_json: JsonOption = False,
) -> None:
    """Say how much load a study found that keeps its promise, and which loads it tried."""
    from zinc_kettle.cli.capacity import tell_capacity

    raise typer.Exit(tell_capacity(study, store or context.obj, as_json=as_json))


def chart(
    context: typer.Context,
    study: Annotated[str, typer.Argument(help="STUDY, or STUDY:RUN for a run that is not the newest.")],
    out: OutOption = None,
    folder: Annotated[Optional[Path], typer.Option("--all", help="Write every chart as SVG and PDF into it.")] = None,  # noqa: UP045
    measure: MeasureOption = "",
    kind: Annotated[str, typer.Option("--kind", help="Which kind; see docs/charts.md.")] = "map",
    cell: Annotated[str, typer.Option("--cell", help="factor=level,… for kinds that show one cell.")] = "",
    factor: Annotated[str, typer.Option("--factor", help="The factor a curve runs over.")] = "",
    others: Annotated[
        Optional[Path],  # noqa: UP045
        typer.Option("--with", help="CSV of somebody else's figures, drawn beside; see docs/charts.md."),
    ] = None,
    hide: Annotated[Optional[list[str]], typer.Option("--hide", help="A series to leave out.")] = None,  # noqa: UP045
    log: Annotated[str, typer.Option("--log", help="x, y or xy: axes to draw by the other scale.")] = "",
    window: Annotated[str, typer.Option("--range", help="LOW..HIGH: the part of the x axis to draw.")] = "",
    listing: Annotated[bool, typer.Option("--list", help="List the kinds this run allows, and exit.")] = False,
    store: StoreOption = None,
) -> None:
    """Draw a study as SVG or PDF."""
    from zinc_kettle.cli.chart import Wanted, draw_chart, list_charts

    wanted = Wanted(measure, kind, cell, factor, others, tuple(hide or ()), log, window)
    if listing:
        list_charts(study, wanted, store or context.obj)
    else:
        draw_chart(study, out or (), folder, wanted, store or context.obj)


def lineup(
    context: typer.Context,
    studies: Annotated[list[str], typer.Argument(help="STUDY[:RUN], one or more.")],
    by: Annotated[
        str, typer.Option("--by", help="The factor whose levels are lined up: rig, model, quantization, a setting.")
    ] = "",
    measure: MeasureOption = "",
    per: Annotated[str, typer.Option("--per", help="price, watt or cost (of a million tokens).")] = "",
    reference: Annotated[str, typer.Option("--index", help="Index of all against this one.")] = "",
    about: Annotated[str, typer.Option("--about", help="All that is known of this one.")] = "",
    others: Annotated[
        Optional[Path],  # noqa: UP045
        typer.Option("--with", help="CSV of somebody else's figures, shown beside and not ranked; see docs/charts.md."),
    ] = None,
    out: OutOption = None,
    store: StoreOption = None,
    as_json: JsonOption = False,
) -> None:
    """Line up rigs, models, quantizations or settings from best to worst; what is alike stands in one bracket."""
    from zinc_kettle.cli.lineup import Asked, tell_lineup

    asked = Asked(by, measure, per, reference, about, others)
    tell_lineup(studies, asked, store or context.obj, as_json=as_json, out=out or ())
