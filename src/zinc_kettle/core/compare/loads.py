"""Up to which of the loads that were planned a promise is kept."""

from __future__ import annotations

from dataclasses import dataclass

from zinc_kettle.core.checks.conditions import KEPT
from zinc_kettle.core.compare.promise import promise_verdict
from zinc_kettle.core.plan.traffic import Promise
from zinc_kettle.core.record.value import Value
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.core.search.trial import Limit, trial_of

LOADS = ("concurrency", "rate")


@dataclass(frozen=True, slots=True)
class Broken:
    """A load that breaks the promise."""

    load: int
    share: float | None
    """Of the requests that keep it."""
    first: Limit | None
    """The limit that is broken by the most; None where that is not known."""


@dataclass(frozen=True, slots=True)
class LoadVerdict:
    """What the loads of one combination of the other factors came to."""

    factor: str
    kept: int | None
    """The largest load up to which all of them keep the promise; None where the smallest does not."""
    broken: Broken | None
    """The smallest load that surely breaks it."""
    unsettled: int | None = None
    """The smallest load of which neither is sure."""


def load_verdicts(results: StudyResults) -> dict[str, LoadVerdict]:
    """For each combination of the other factors up to which load its promise is kept; empty where none is made.

    See `core.compare.promise` for when a load keeps or breaks it.
    """
    study = results.study
    factor = next((name for name in LOADS if len(study.vary.get(name, ())) > 1), None)
    if factor is None or not study.promise.made:
        return {}
    return results.once("load verdicts", lambda: _verdicts(results, factor))


def _verdicts(results: StudyResults, factor: str) -> dict[str, LoadVerdict]:
    groups: dict[str, list[CellResults]] = {}
    for cell in results.cells:
        if cell.done:
            rest = {n: v for n, v in cell.cell.levels.items() if n != factor}
            title = " · ".join(results.study.factors[n].says(v) for n, v in rest.items())
            groups.setdefault(title, []).append(cell)
    return {title: _verdict(cells, factor, results.study.promise) for title, cells in groups.items()}


def _verdict(cells: list[CellResults], factor: str, promise: Promise) -> LoadVerdict:
    kept: int | None = None
    unsettled: int | None = None
    for cell in sorted(cells, key=lambda c: int(c.cell.levels[factor])):
        load, found = int(cell.cell.levels[factor]), promise_verdict(cell.repeats, promise)
        if found.stands == "broken" and found.share is not None:
            usual = cell.value(KEPT)  # of the map, where it says the same
            said = usual.value if isinstance(usual, Value) and usual.value < promise.percentile / 100 else None
            broken = Broken(load, found.share.value if said is None else said, _first(cell, load, promise))
            return LoadVerdict(factor, kept, broken, unsettled)
        if found.stands == "open":
            unsettled = unsettled or load
        elif unsettled is None:
            kept = load
    return LoadVerdict(factor, kept, None, unsettled)


def _first(cell: CellResults, load: int, promise: Promise) -> Limit | None:
    found = trial_of(load, [cell.repeats], promise)
    over = [] if found is None else [(v, name) for name, v in found.over.items() if v > 0]
    return max(over)[1] if over else None
