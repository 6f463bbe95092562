"""`duel` and `ladder`: one side against another, and a chain of changes."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from zinc_kettle.cli import output
from zinc_kettle.config import places
from zinc_kettle.core.compare import Side
from zinc_kettle.core.duel import Duel, duel
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.steering import parse_levels
from zinc_kettle.core.validate import Problem, nearest
from zinc_kettle.errors import UsageError
from zinc_kettle.present.duel import (
    CAUTIONS,
    difference_line,
    duel_json,
    duel_rows,
    effort_line,
    side_title,
    verdict,
)  # fmt: skip
from zinc_kettle.present.findings import main_measure
from zinc_kettle.store.reading import find, open_run
from zinc_kettle.store.store import KettleStore
from zinc_kettle.wiring.build import open_store

HEADS = ("measure", "A", "B", "B over A", "")


def tell_duel(a: str, b: str, measure: str, store_path: Path | None, *, as_json: bool) -> None:
    """Hold B against A, and say what came of it.

    Raises:
        UsageError: No such study, run, level or measure.
    """
    sides = _sides((a, b), store_path)
    name = _measure(measure, sides[0])
    found = duel(sides[0], sides[1])
    if as_json:
        output.json_line(duel_json(found, name))
        return
    output.line(f"A {side_title(found.a)}")
    output.line(f"B {side_title(found.b)}")
    _tell(found, name)
    output.line()
    output.table(HEADS, duel_rows(found))


def tell_ladder(rungs: Sequence[str], measure: str, store_path: Path | None, *, as_json: bool) -> None:
    """Hold each of a chain of changes against the one before it and against the first.

    Raises:
        UsageError: Fewer than two, or no such study, run, level or measure.
    """
    if len(rungs) < 2:
        raise UsageError("a ladder needs two rungs or more", remedy="zinc-kettle ladder A B C")
    sides = _sides(rungs, store_path)
    name = _measure(measure, sides[0])
    if not as_json:
        output.line(f"A {side_title(sides[0])}")
    for place, side in enumerate(sides[1:], start=1):
        step, whole = duel(sides[place - 1], side, [name]), duel(sides[0], side, [name])
        if as_json:
            output.json_line({"step": duel_json(step, name), "whole": duel_json(whole, name)})
            continue
        output.line()
        output.line(f"rung {place + 1}: {side_title(side)}")
        changed = ", ".join(difference_line(d) for d in step.alignment.differences) or "nothing that is known"
        output.line(f"  changed: {changed}")
        output.line(f"  against the one before: {verdict(step, name)}.")
        if place > 1:
            output.line(f"  against the first: {verdict(whole, name)}.")


def _tell(found: Duel, name: str) -> None:
    differences = found.alignment.differences
    clean = " (the clean case: exactly one thing)" if len(differences) == 1 else ""
    what = ", ".join(difference_line(d) for d in differences) or "nothing that is known"
    output.line(f"differs: {what}{clean}")
    pairs = len(found.alignment.pairs)
    how = "block by block" if found.paired else "unpaired"
    output.line(f"{verdict(found, name)}; {pairs} pair{'s' if pairs != 1 else ''} of cells, {how}.")
    more = effort_line(found, name, smallest=found.a.results.study.repeats.smallest_percent / 100)
    if more:
        output.line(f"{more}.")
    for code in found.cautions:
        output.line(f"▲ {code}: {CAUTIONS[code]}")


def _measure(said: str, side: Side) -> str:
    name = said or main_measure(side.results.study)
    if name not in MEASURES:
        raise UsageError(f"there is no measure {name!r}", remedy=nearest(name, MEASURES))
    return name


def _sides(named: Sequence[str], store_path: Path | None) -> list[Side]:
    store = open_store(places(store_path))
    opened: dict[str, Side] = {}
    return [_side(store, name, opened) for name in named]


def _side(store: KettleStore, named: str, opened: dict[str, Side]) -> Side:
    """A side of `STUDY[:RUN][@factor=level,…]`; two of one run share its results, so that they can be paired."""
    place, _, levels = named.partition("@")
    run_id = find(store, place)
    if run_id not in opened:
        opened[run_id] = Side(open_run(store, run_id))
    results = opened[run_id].results
    found = parse_levels(results, levels)
    if isinstance(found, Problem):
        raise UsageError(found.what, why=found.why, remedy=f"{place}@{found.remedy.removeprefix('as in ')}")
    side = Side(results, found)
    if not side.cells():
        raise UsageError(f"no cell of {place} has {levels}", remedy="zinc-kettle show lists its cells")
    return side
