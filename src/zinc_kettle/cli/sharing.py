"""Commands that pass results on, and that look after what is kept: report, table, pack, unpack, gate, doctor, bin."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Optional

import typer

from zinc_kettle.cli.options import JsonOption, MeasureOption, StoreOption

RUN = "STUDY, or STUDY:RUN for a run that is not the newest"


def report(
    context: typer.Context,
    studies: Annotated[Optional[list[str]], typer.Argument(help="STUDY[:RUN], any number.")] = None,  # noqa: UP045
    out: Annotated[
        Optional[list[Path]],  # noqa: UP045
        typer.Option("--out", "-o", help="File to write: .html, .md or .pdf; may be given several times."),
    ] = None,
    duels: Annotated[
        Optional[list[str]],  # noqa: UP045
        typer.Option("--duel", help="'A B': two sides as duel takes them; may be given several times."),
    ] = None,
    lineup: Annotated[Optional[list[str]], typer.Option("--lineup", help="A study that is lined up.")] = None,  # noqa: UP045
    by: Annotated[str, typer.Option("--by", help="Of the lineup: the factor.")] = "",
    measure: MeasureOption = "",
    title: Annotated[str, typer.Option("--title", help="Its title; the first question without it.")] = "",
    without: Annotated[
        Optional[list[str]],  # noqa: UP045
        typer.Option("--without", help="A section to leave out, see --list; may be given several times."),
    ] = None,
    words: Annotated[
        Optional[list[str]],  # noqa: UP045
        typer.Option("--words", help="SECTION=TEXT: your own words below a section; =TEXT at the beginning."),
    ] = None,
    name: Annotated[str, typer.Option("--name", help="Which kept report; named after its first study.")] = "",
    listing: Annotated[bool, typer.Option("--list", help="List its sections, and exit.")] = False,
    store: StoreOption = None,
) -> None:
    """Write one page to hand on: question, answer, charts, method, machines, cautions, how to repeat it."""
    from zinc_kettle.cli.report import Asked, make_report
    from zinc_kettle.errors import UsageError

    pairs = []
    for pair in duels or ():
        sides = pair.split()
        if len(sides) != 2:
            raise UsageError(f"--duel {pair!r}: a duel has two sides", remedy="--duel 'STUDY:1 STUDY:2'")
        pairs.append((sides[0], sides[1]))
    asked = Asked(studies or (), pairs, lineup or (), by, measure, title, without or (), words or (), name)
    make_report(asked, out or (), listing, store or context.obj)


def table(
    context: typer.Context,
    studies: Annotated[list[str], typer.Argument(help=f"{RUN}; several make one table.")],
    of: Annotated[
        str, typer.Option("--of", help="cells, repeats, requests or tokens: what a row stands for.")
    ] = "cells",
    long: Annotated[bool, typer.Option("--long", help="A row for each measure, not a column.")] = False,
    out: Annotated[
        Optional[Path],  # noqa: UP045
        typer.Option("--out", "-o", help="File to write: .csv, .jsonl or .parquet; else CSV on standard output."),
    ] = None,
    store: StoreOption = None,
) -> None:
    """Write cells, repeats, requests or tokens as CSV, JSON Lines or Parquet; columns are in docs/tables.md."""
    from zinc_kettle.cli.table import tell_table

    tell_table(studies, of, out, store or context.obj, long=long)


def pack(
    context: typer.Context,
    studies: Annotated[list[str], typer.Argument(help=f"{RUN}; several go into one bundle.")],
    out: Annotated[Optional[Path], typer.Option("--out", "-o", help="File to write, NAME.kettle.")] = None,  # noqa: UP045
    without: Annotated[
        Optional[list[str]],  # noqa: UP045
        typer.Option("--without", help="prompts or answers: what stays here; may be given twice."),
    ] = None,
    store: StoreOption = None,
) -> None:
    """Write runs into one file, for another copy of the tool; host names, paths and keys stay here."""
    from zinc_kettle.cli.bundle import pack_runs

    pack_runs(studies, out, without or (), store or context.obj)


def unpack(
    context: typer.Context,
    file: Annotated[Path, typer.Argument(help="A bundle, NAME.kettle.")],
    name: Annotated[str, typer.Option("--as", help="Its name on your shelf; that of the file without it.")] = "",
    store: StoreOption = None,
) -> None:
    """Check somebody else's bundle and put it on the shelf beside your own studies."""
    from zinc_kettle.cli.bundle import unpack_bundle

    unpack_bundle(file, name, store or context.obj)


def gate(
    context: typer.Context,
    study: Annotated[str, typer.Argument(help="A study file, to be measured, or STUDY[:RUN][@levels] that is kept.")],
    against: Annotated[
        str, typer.Option("--against", help="STUDY[:RUN][@levels], NAME::STUDY, FILE.kettle::STUDY, or @levels.")
    ],
    worse_than: Annotated[str, typer.Option("--worse-than", help="What may be lost of each measure.")] = "3%",
    measures: Annotated[
        Optional[list[str]],  # noqa: UP045
        typer.Option("--measure", help="What is guarded; may be given several times. The study's own without it."),
    ] = None,
    more_failures: Annotated[
        str, typer.Option("--more-failures", help="How much the share of failed requests may grow.")
    ] = "1%",
    most: Annotated[
        int,
        typer.Option("--most", min=0, max=10_000, help="The most repeats of each cell; 4 times the plan's without."),
    ] = 0,
    unsettled: Annotated[
        str, typer.Option("--unsettled", help="fail (3) or pass (0, with a warning): where it is not settled.")
    ] = "fail",
    junit: Annotated[Optional[Path], typer.Option("--junit", help="Write JUnit XML into this file.")] = None,  # noqa: UP045
    markdown: Annotated[Optional[Path], typer.Option("--markdown", help="Write a summary into it.")] = None,  # noqa: UP045
    store: StoreOption = None,
    as_json: JsonOption = False,
) -> None:
    """Let a new build through or not: 0 not worse, 1 worse, 3 not settled; measures until it is known."""
    from zinc_kettle.cli.gate import Asked, run_gate
    from zinc_kettle.core.validate import nearest
    from zinc_kettle.errors import UsageError

    if unsettled not in {"fail", "pass"}:
        raise UsageError(
            f"--unsettled {unsettled}: it either fails or passes", remedy=nearest(unsettled, ("fail", "pass"))
        )
    asked = Asked(against, worse_than, measures or (), most, unsettled == "pass", junit, markdown, more_failures)
    raise typer.Exit(run_gate(study, asked, store or context.obj, as_json=as_json))


def doctor(
    context: typer.Context,
    driver: Annotated[
        bool, typer.Option("--driver", help="Test the driver's stamps, too; takes a few seconds.")
    ] = False,
    bundle: Annotated[
        Optional[Path],  # noqa: UP045
        typer.Option("--bundle", help="Write a report for a bug into this .zip: versions, checks, the log, no names."),
    ] = None,
    adopt: Annotated[
        Optional[Path],  # noqa: UP045
        typer.Option("--adopt", metavar="STORE", help="Check a store that was not made here, and make it yours."),
    ] = None,
    store: StoreOption = None,
    as_json: JsonOption = False,
) -> None:
    """Say what of this machine the tool can use, and what to do about the rest."""
    from zinc_kettle.cli.doctor import adopt_store, tell_doctor

    if adopt is not None:
        raise typer.Exit(adopt_store(adopt))
    raise typer.Exit(tell_doctor(store or context.obj, driver=driver, bundle=bundle, as_json=as_json))


def remove(
    context: typer.Context,
    study: Annotated[str, typer.Argument(help=RUN)],
    store: StoreOption = None,
) -> None:
    """Throw a run away; it is kept in the bin for 30 days."""
    from zinc_kettle.cli.bin import remove_run

    remove_run(study, store or context.obj)


def restore(
    context: typer.Context,
    study: Annotated[str, typer.Argument(help=f"{RUN}; without it, what is in the bin is listed.")] = "",
    store: StoreOption = None,
) -> None:
    """Take a run back that was thrown away."""
    from zinc_kettle.cli.bin import restore_run

    restore_run(study, store or context.obj)


def settings(
    context: typer.Context,
    changes: Annotated[Optional[list[str]], typer.Argument(help="KEY=VALUE; KEY= makes it usual again.")] = None,  # noqa: UP045
    store: StoreOption = None,
    as_json: JsonOption = False,
) -> None:
    """Say what is set (pace, money, theme, folders) and where that is from; or set it."""
    from zinc_kettle.cli.settings import tell_settings

    tell_settings(changes or (), store or context.obj, as_json=as_json)
