"""`report`: one page to hand on."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Annotated, Optional

import typer

from zinc_kettle.app.build import open_store, shipped_stores
from zinc_kettle.app.reporting import Reports, write_report
from zinc_kettle.app.rig_service import RigService
from zinc_kettle.app.side_names import Sides
from zinc_kettle.cli import output
from zinc_kettle.cli.options import MeasureOption, StoreOption
from zinc_kettle.config import places
from zinc_kettle.core.problem import nearest
from zinc_kettle.core.report import ReportPart, ReportPlan
from zinc_kettle.errors import UsageError
from zinc_kettle.present.report.build import BEGINNING


@dataclass(frozen=True)
class ReportOptions:
    """What is asked of a report."""

    studies: Sequence[str] = ()
    duels: Sequence[tuple[str, str]] = ()
    lineup: Sequence[str] = ()
    by: str = ""
    measure: str = ""
    title: str = ""
    without: Sequence[str] = ()
    """Sections to leave out: a section's name for all parts, or the key of one."""
    words: Sequence[str] = ()
    """`SECTION=TEXT`; no section for the beginning."""
    name: str = ""


def make_report(asked: ReportOptions, out: Sequence[Path], listing: bool, store_path: Path | None) -> None:
    """Put a report together, keep how it was put together, and write it.

    Raises:
        UsageError: No such study, side or section, or a file that cannot be written.
    """
    where = places(store_path)
    store = open_store(where)
    reports = Reports(
        where,
        Sides(where, lambda: store, shipped=lambda: shipped_stores(where)),
        lambda _run: store,
        RigService(where, lambda: store).all,
    )
    name = asked.name or _name(asked)
    plan = _changed(reports.plan(name), asked)
    if not plan.parts:
        kept = ", ".join(reports.names())
        raise UsageError(
            "a report of nothing",
            why=f"kept are: {kept}" if kept else "",
            remedy="zinc-kettle report STUDY --out report.html",
        )
    made = reports.document(plan)
    keys = [section.key for section in made.sections if section.key]
    plan = _sections(plan, keys, asked)
    if listing:
        made = reports.document(plan)
        rows = [
            (s.key, s.title, "" if s.shown else "left out", "own words" if s.key in plan.words else "")
            for s in made.sections
            if s.key
        ]
        output.table(("section", "title", "", ""), rows)
        return
    reports.keep(name, plan)
    made = reports.document(plan)
    for file in out or [Path(f"{name}.html")]:
        for written in write_report(made, file):
            output.line(str(written))
    output.note(f"kept as {reports.file(name)}: edit it, and zinc-kettle report --name {name} writes it again")


def _name(asked: ReportOptions) -> str:
    first = next(iter([*asked.studies, *(a for a, _ in asked.duels), *asked.lineup]), "")
    if not first:
        raise UsageError("what is the report about?", remedy="zinc-kettle report STUDY, or --name of one that is kept")
    return re.sub(r"[^\w.-]+", "-", first.partition("@")[0].partition(":")[0]).strip("-.") or "report"


def _changed(plan: ReportPlan, asked: ReportOptions) -> ReportPlan:
    for study in asked.studies:
        plan = plan.with_part(ReportPart("study", (study,), asked.measure))
    for duel in asked.duels:
        plan = plan.with_part(ReportPart("duel", duel, asked.measure))
    if asked.lineup:
        plan = plan.with_part(ReportPart("lineup", tuple(asked.lineup), asked.measure, asked.by))
    return replace(plan, title=asked.title or plan.title)


def _sections(plan: ReportPlan, keys: Sequence[str], asked: ReportOptions) -> ReportPlan:
    for wanted in asked.without:
        plan = replace(plan, left_out=plan.left_out | set(_keys(wanted, keys)))
    for said in asked.words:
        where, equals, text = said.partition("=")
        if not equals:
            raise UsageError(f"--words {said[:40]!r} names no section", remedy="--words answer='We take the second.'")
        key = where.strip() and _keys(where.strip(), keys)[0]
        plan = plan.saying(key or BEGINNING, text)
    return plan


def _keys(wanted: str, keys: Sequence[str]) -> list[str]:
    found = [key for key in keys if wanted in (key, key.rpartition("/")[2])]
    if not found:
        raise UsageError(
            f"there is no section {wanted!r}", remedy=nearest(wanted, [k.rpartition("/")[2] for k in keys])
        )
    return found


EXAMPLES = (
    "zinc-kettle report which-rig --out report.pdf --out report.html",
    "zinc-kettle report which-rig --duel 'which-rig@rig=gannet which-rig@rig=cormorant' --out report.html",
    "zinc-kettle report --name which-rig --words 'answer=We take the second.' --out report.html",
)


def command(
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
    """Write a report: question, answer, charts, method, machines, cautions, how to repeat it."""
    pairs = []
    for pair in duels or ():
        sides = pair.split()
        if len(sides) != 2:
            raise UsageError(f"--duel {pair!r}: a duel has two sides", remedy="--duel 'STUDY:1 STUDY:2'")
        pairs.append((sides[0], sides[1]))
    asked = ReportOptions(studies or (), pairs, lineup or (), by, measure, title, without or (), words or (), name)
    make_report(asked, out or (), listing, store)
