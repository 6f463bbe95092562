"""`duel` and `ladder`: one side against another, and a chain of changes."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Annotated

import typer

from zinc_kettle.app.build import open_store, shipped_stores
from zinc_kettle.app.export import write
from zinc_kettle.app.side_names import Sides, one_by_one
from zinc_kettle.cli import output
from zinc_kettle.cli.options import SIDE, JsonOption, MeasureOption, OutOption, StoreOption
from zinc_kettle.config import places
from zinc_kettle.core.compare.duel import Duel, duel, ladder, prompt_by_prompt, request_measure
from zinc_kettle.core.compare.sides import Side
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.text import capitalised
from zinc_kettle.core.units import with_unit
from zinc_kettle.errors import UsageError
from zinc_kettle.present.answer import main_measure
from zinc_kettle.present.charts.duel import duel_chart, ladder_chart, prompts_chart
from zinc_kettle.present.duel import (
    VERDICTS,
    caution_text,
    differences_line,
    differs_line,
    duel_json,
    duel_rows,
    effort_line,
    ladder_json,
    ladder_sum,
    pairs_line,
    prompts_json,
    ratio_text,
    repaid_line,
    side_title,
    verdict,
)
from zinc_kettle.present.findings import known_measure

HEADS = ("measure", "A", "B", "B over A", "")
PROMPT_HEADS = ("request", "cell", "A", "B", "B over A", "")


def tell_duel(
    a: str,
    b: str,
    measure: str,
    store_path: Path | None,
    *,
    as_json: bool,
    prompts: bool = False,
    out: Sequence[Path] = (),
) -> None:
    """Hold B against A, and say what came of it, or draw it.

    Raises:
        UsageError: No such study, run, level or measure, or a file that cannot be written.
    """
    sides = _sides((a, b), store_path)
    name = _measure(measure, sides[0])
    found = duel(sides[0], sides[1], asked=name)
    rows = prompt_by_prompt(found, name) if prompts else []
    if out:
        chart = prompts_chart(found, name, rows) if prompts else duel_chart(found, name)
        for file in write(chart, out):
            output.line(str(file))
        return
    if as_json:
        output.json_line({**duel_json(found, name), **({"prompts": prompts_json(rows)} if prompts else {})})
        return
    output.line(f"A {side_title(found.a)}")
    output.line(f"B {side_title(found.b)}")
    _tell(found, name)
    output.line()
    output.table(HEADS, duel_rows(found))
    if prompts:
        unit = MEASURES[request_measure(name)].unit
        output.line()
        output.line(f"{MEASURES[request_measure(name)].title}, prompt by prompt:")
        output.table(
            PROMPT_HEADS,
            [
                (
                    str(r.place + 1),
                    r.pair.a.title,
                    with_unit(r.a, unit),
                    with_unit(r.b, unit),
                    ratio_text(r.ratio),
                    VERDICTS[r.verdict],
                )
                for r in rows
            ],
        )


def tell_ladder(
    rungs: Sequence[str], measure: str, store_path: Path | None, *, as_json: bool, out: Sequence[Path] = ()
) -> None:
    """Hold each of a chain of changes against the one before it and against the first.

    Raises:
        UsageError: One side alone whose study has no chain of changes, or no such study, run, level or measure, or a
            file that cannot be written.
    """
    sides = _chain(rungs[0], store_path) if len(rungs) == 1 else _sides(rungs, store_path)
    name = _measure(measure, sides[0])
    steps = ladder(sides, [name])
    if out:
        for file in write(ladder_chart(steps, name), out):
            output.line(str(file))
        return
    if as_json:
        for row in ladder_json(steps, name):
            output.json_line(row)
        return
    output.line(f"A {side_title(sides[0])}")
    for place, rung in enumerate(steps, start=2):
        output.line()
        output.line(f"rung {place}: {side_title(rung.side)}")
        output.line(f"  changed: {differences_line(rung.step)}")
        output.line(f"  against the one before: {verdict(rung.step, name, step=True)}.")
        if place > 2:
            output.line(f"  against the first: {verdict(rung.whole, name, step=True)}.")
    total = ladder_sum(steps, name)
    if total:
        output.line()
        output.line(f"{capitalised(total)}.")


def _tell(found: Duel, name: str) -> None:
    output.line(f"differs: {differs_line(found)}")
    output.line(f"{verdict(found, name)}; {pairs_line(found)}.")
    more = effort_line(found, name, smallest=found.a.results.study.repeats.smallest_percent / 100)
    if more:
        output.line(f"{more}.")
    if repaid_line(found):
        output.line(f"{repaid_line(found)}.")
    for code in found.cautions:
        output.line(f"▲ {code}: {caution_text(found, code)}")


def _measure(said: str, side: Side) -> str:
    return known_measure(said or main_measure(side.results.study))


def _sides(named: Sequence[str], store_path: Path | None) -> list[Side]:
    finder = _finder(store_path)
    return [finder.side(name) for name in named]


def _chain(place: str, store_path: Path | None) -> list[Side]:
    finder = _finder(store_path)
    side = finder.side(place)
    names = () if side.levels else one_by_one(side.results)
    if not names:
        raise UsageError(
            "a ladder needs two rungs or more, or a study in which two settings of the engine vary",
            remedy="zinc-kettle ladder A B C",
        )
    return [finder.side(name) for name in names]


def _finder(store_path: Path | None) -> Sides:
    where = places(store_path)
    store = open_store(where)
    return Sides(where, lambda: store, shipped=lambda: shipped_stores(where))


EXAMPLES = (
    "zinc-kettle duel which-rig@rig=gannet which-rig@rig=cormorant",
    "zinc-kettle duel nightly:1 nightly:2",
)


def command(
    a: Annotated[str, typer.Argument(help=f"{SIDE}: what the other is held against; FILE.db::STUDY of other stores.")],
    b: Annotated[str, typer.Argument(help="The same, of the other side.")],
    measure: MeasureOption = "",
    prompts: Annotated[bool, typer.Option("--prompts", help="Prompt by prompt, too.")] = False,
    out: OutOption = None,
    store: StoreOption = None,
    as_json: JsonOption = False,
) -> None:
    """Compare B with A: what differs, and its effect on each measure."""
    tell_duel(a, b, measure, store, as_json=as_json, prompts=prompts, out=out or ())
