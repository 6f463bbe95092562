"""Whether what has to hold of a choice does."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from zinc_kettle.core.checks.conditions import Condition, read_condition
from zinc_kettle.core.compare.cells import ratio
from zinc_kettle.core.compare.promise import Stands, promise_verdict
from zinc_kettle.core.facts import machine_of
from zinc_kettle.core.plan.decide import PRICE
from zinc_kettle.core.record.value import Value
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.core.stats import Interval

Held = Literal["met", "unmet", "open"]
STANDS: dict[Stands, Held] = {"kept": "met", "broken": "unmet", "open": "open"}


@dataclass(frozen=True, slots=True)
class Tested:
    """How a condition stands for a choice."""

    condition: Condition
    held: Held
    value: float | None = None
    """What was measured in the place where it is hardest; None where nothing was."""
    cell: CellResults | None = None
    """Where that is."""


def conditions_of(results: StudyResults) -> tuple[Condition, ...]:
    """What has to hold of a choice, by its plan; what cannot be read is left out: a plan is checked before it runs."""
    found = []
    for text in results.study.decide.provided:
        try:
            found.append(read_condition(text, percentile=results.study.promise.percentile))
        except ValueError:
            continue
    return tuple(found)


def tested(results: StudyResults, condition: Condition, cells: Sequence[CellResults]) -> Tested:
    """Whether a condition holds of a choice, in all of its cells."""
    if condition.measure == PRICE:
        price = price_of(results, cells[0])
        held: Held = "open" if price is None else "met" if _within(condition, price) else "unmet"
        return Tested(condition, held, price, cells[0])
    each = (
        _kept_shares(condition, cells) if condition.kind == "keeps" else [_bound(results, condition, c) for c in cells]
    )
    order: tuple[Held, ...] = ("unmet", "open", "met")
    worst = min(each, key=lambda t: order.index(t.held))
    same = [t for t in each if t.held == worst.held and t.value is not None]
    pick = max if condition.kind == "most" else min
    return pick(same, key=lambda t: t.value or 0.0) if same else worst


def price_of(results: StudyResults, cell: CellResults) -> float | None:
    """The price of a cell's rig as it was when it was measured; None where nobody has given one."""
    rig = cell.cell.settings["rig"]
    found = machine_of(results.run.facts, None if rig is None else str(rig)).get("price")
    return float(found) if isinstance(found, int | float) else None


def _within(condition: Condition, value: float) -> bool:
    return value <= condition.limit if condition.kind == "most" else value >= condition.limit


def _bound(results: StudyResults, condition: Condition, cell: CellResults) -> Tested:
    if condition.kind == "promise":
        found = promise_verdict(cell.repeats, results.study.promise)
        return Tested(condition, STANDS[found.stands], None if found.share is None else found.share.value, cell)
    figure = cell.value(condition.measure)
    if not isinstance(figure, Value):
        return Tested(condition, "open", None, cell)
    return Tested(condition, _held(condition, figure), figure.value, cell)


def _held(condition: Condition, figure: Value | Interval) -> Held:
    """Met or not where the whole 95% interval says so."""
    ends = {_within(condition, end) for end in (figure.low, figure.high)}
    if figure.bound != "interval95" or len(ends) > 1:
        return "open"
    return "met" if ends == {True} else "unmet"


def _kept_shares(condition: Condition, cells: Sequence[CellResults]) -> list[Tested]:
    """How much of the first cell's figure each of the others keeps."""
    first, out = cells[0], []
    for cell in cells[1:]:
        found = ratio(cell, first, condition.measure)
        known = None if found is None else found.value
        out.append(Tested(condition, "open" if found is None else _held(condition, found), known, cell))
    return out or [Tested(condition, "open", None, first)]
