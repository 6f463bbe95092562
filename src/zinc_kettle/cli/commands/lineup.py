"""`lineup`: rigs, models, quantizations or settings from best to worst."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Optional

import typer

from zinc_kettle.app.build import open_store, shipped_stores
from zinc_kettle.app.charting import preferences
from zinc_kettle.app.entrants import appearances, entrants_of, rig_of
from zinc_kettle.app.export import write
from zinc_kettle.app.rig_service import RigService
from zinc_kettle.app.scoring import contenders, shipped_reference
from zinc_kettle.app.side_names import Sides
from zinc_kettle.cli import output
from zinc_kettle.cli.options import JsonOption, MeasureOption, OutOption, StoreOption
from zinc_kettle.config import places
from zinc_kettle.core.compare.lineup import PERS, Entrant, Lineup, Per, lineup
from zinc_kettle.core.compare.scoreboard import scoreboard
from zinc_kettle.core.compare.speed_index import index
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.preferences import Pace, Preferences
from zinc_kettle.core.problem import nearest
from zinc_kettle.core.results import StudyResults
from zinc_kettle.core.rig import Rig
from zinc_kettle.core.text import capitalised
from zinc_kettle.errors import UsageError
from zinc_kettle.formats.reported import read_reported
from zinc_kettle.present.answer import main_measure
from zinc_kettle.present.charts.lineup import index_chart, lineup_chart
from zinc_kettle.present.findings import known_measure
from zinc_kettle.present.lineup import (
    INDEX_HEADS,
    REPORTED,
    heads,
    index_json,
    index_rows,
    lineup_json,
    lineup_rows,
    money_line,
    page,
    ranks_of,
    reported_rows,
    verdict,
)
from zinc_kettle.store.store import KettleStore


@dataclass(frozen=True)
class LineupOptions:
    """What is to be lined up, and how."""

    by: str
    measure: str
    per: str
    reference: str
    """Whom an index is against; empty for none."""
    about: str
    """Whose page is wanted; empty for none."""
    others: Path | None = None
    """CSV file of somebody else's figures."""


def tell_lineup(
    named: Sequence[str], asked: LineupOptions, store_path: Path | None, *, as_json: bool, out: Sequence[Path]
) -> None:
    """Print a lineup, an index, or a page; or draw it.

    Raises:
        UsageError: No such study, factor, measure or entrant.
    """
    where = places(store_path)
    store = open_store(where)
    finder = Sides(where, lambda: store, shipped=lambda: shipped_stores(where))
    runs = [finder.results(name) for name in named]
    rigs = {rig.name: rig for rig in RigService(where, lambda: store).all()}
    entrants = entrants_of(runs, asked.by, rigs)
    if asked.reference:
        _tell_index(entrants, asked.reference, as_json=as_json, out=out)
        return
    own = preferences(where)
    name = asked.measure or main_measure(runs[0].study)
    found = _scores(runs, rigs) if asked.per == "score" else _found(entrants, name, asked.per, own)
    others = () if asked.others is None else read_reported(asked.others)
    if asked.about:
        _tell_page(found, asked.about, rigs, store)
    elif out:
        _told(write(lineup_chart(found, own.pace, others), out))
    elif as_json:
        output.json_line(lineup_json(found))
    else:
        tell_ranking(found, own.pace)
        told = reported_rows(others, name)
        if told:
            output.line()
            output.line(f"{capitalised(REPORTED)}:")
            output.table(("what", "at", MEASURES[name].title, "by"), told)


def tell_ranking(found: Lineup, pace: Pace) -> None:
    """Print who leads, the order with its brackets, what it rests on, and who is not in it."""
    output.line(f"{capitalised(verdict(found))}.")
    output.line()
    output.table(heads(found), lineup_rows(found))
    output.line()
    output.line(f"In one bracket: no clear difference. {money_line(found, pace)}.")
    for left in found.left:
        output.line(f"not ranked: {left.entrant.name}: {left.reason}")


def _found(entrants: Sequence[Entrant], measure: str, per: str, own: Preferences) -> Lineup:
    known_measure(measure)
    of: Per | None = next((p for p in PERS if p == per), None)
    if of is None:
        raise UsageError(f"a lineup cannot be per {per!r}", remedy="price, watt, device, cost or score")
    try:
        return lineup(entrants, measure, per=of, money=own.money, pace=own.pace.rate)
    except ValueError as error:
        raise UsageError(str(error), remedy="--measure decode or throughput") from error


def _scores(runs: Sequence[StudyResults], rigs: dict[str, Rig]) -> Lineup:
    found = scoreboard(contenders(runs, rigs), shipped_reference())
    if not found.groups:
        raise UsageError("nothing here has a score", remedy="zinc-kettle score --model FILE measures what has one")
    return found


def _tell_index(entrants: Sequence[Entrant], reference: str, *, as_json: bool, out: Sequence[Path]) -> None:
    held = _named(reference, entrants)
    found = index(entrants, held)
    if out:
        _told(write(index_chart(found, held.name), out))
    elif as_json:
        output.json_line(index_json(found, held.name))
    else:
        output.line(f"How many times as fast as {held.name}: geometric mean of ratios over the cells both share.")
        output.line()
        output.table(INDEX_HEADS, index_rows(found))


def _named(name: str, entrants: Sequence[Entrant]) -> Entrant:
    found = next((e for e in entrants if e.name == name), None)
    if found is None:
        raise UsageError(f"{name!r} is not in this lineup", remedy=nearest(name, [e.name for e in entrants]))
    return found


def _tell_page(found: Lineup, name: str, rigs: dict[str, Rig], store: KettleStore) -> None:
    ranked = [p for g in found.groups for p in g.places]
    entrant = _named(name, [p.entrant for p in ranked])
    place = next(p for p in ranked if p.entrant is entrant)
    seen = appearances(store, entrant.side)
    for line in page(place, found, rig_of(entrant.side, rigs), ranks_of(entrant, ranked), seen):
        output.line(line)


def _told(files: Sequence[Path]) -> None:
    for file in files:
        output.line(str(file))


EXAMPLES = (
    "zinc-kettle lineup which-rig --by rig --per cost",
    "zinc-kettle lineup which-rig --index petrel",
)


def command(
    studies: Annotated[list[str], typer.Argument(help="STUDY[:RUN], one or more.")],
    by: Annotated[
        str, typer.Option("--by", help="The factor whose levels are lined up: rig, model, quantization, a setting.")
    ] = "",
    measure: MeasureOption = "",
    per: Annotated[str, typer.Option("--per", help="price, watt, device, cost (of a million tokens) or score.")] = "",
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
    """Rank rigs, models, quantizations or settings; those not clearly different share a bracket."""
    asked = LineupOptions(by, measure, per, reference, about, others)
    tell_lineup(studies, asked, store, as_json=as_json, out=out or ())
