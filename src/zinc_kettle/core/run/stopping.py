"""Until the question is answered: which cells need no more repeats, looked at a few planned times.

Repeats go where the answer is open. Of *best*, a cell that is clearly behind drops out; the run ends when one is left,
or when none of those left can be behind the best by more than is worth knowing: that they are alike is an answer, too.
Of a *factor*, each pair of neighbouring levels, all else equal, is open until it is told apart or shown to be alike.
The chance of a wrong claim is divided among the looks in proportion to their repeats, so that the late ones, which
decide what is hard to tell, have most of it; and at each look among all pairs there were in the beginning.
"""

from __future__ import annotations

import math
from collections.abc import Hashable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
import numpy.typing as npt

from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.plan.study import BEST, Cell, Repeats, Study
from zinc_kettle.core.run.precision import answer_looks
from zinc_kettle.core.run.schedule import Tally
from zinc_kettle.core.stats.blocks import ByBlock, in_blocks, shared_blocks
from zinc_kettle.core.stats.ratios import ALPHA, Strata, bound_behind_best, pairs_error, significantly_different

Pair = tuple[str, str]


@dataclass(frozen=True, slots=True)
class Conclusion:
    """How far a question is answered."""

    leader: str = ""
    """Key of the cell that looks best; empty before the first look, and where pairs are asked for."""
    left: tuple[str, ...] = ()
    """Cells that are not clearly behind."""
    settled: Mapping[str, int] = field(default_factory=dict)
    """Cells that need no more repeats, and after how many that was known."""
    alike: bool = False
    """True where all that are left are known to differ by no more than is worth knowing."""
    looked: int = 0
    """Looks taken."""
    apart: frozenset[Pair] = frozenset()
    """Pairs that are told apart, where pairs are asked for."""
    same: frozenset[Pair] = frozenset()
    """Pairs that are known to differ by no more than is worth knowing."""


def looks_with_shares(plan: Repeats) -> list[tuple[int, float]]:
    """The planned looks, and the chance of a wrong claim at each."""
    planned = answer_looks(plan)
    return [(look, ALPHA * look / sum(planned)) for look in planned]


def strata(cells: Iterable[Cell]) -> Strata:
    """What each cell is measured with, outermost first: its rig, and the launch on it."""
    return [(cell.settings["rig"], cell.launch) for cell in cells]


def best_so_far(
    plan: Repeats, cells: Mapping[str, ByBlock], *, more: bool, shared: Mapping[str, tuple[Hashable, ...]] | None = None
) -> Conclusion:
    """Which cells may still be the best.

    Args:
        plan: With the looks there are and the smallest difference worth knowing.
        cells: The measure in each block that has it, by cell; cells that can have none are left out.
        more: True where more of the measure is better.
        shared: What each cell is measured with; None where nothing is shared.
    """
    left, settled, answer = list(cells), dict[str, int](), Conclusion(left=tuple(cells))
    planned, family = looks_with_shares(plan), len(cells)
    for number, (look, alpha) in enumerate(planned, start=1):
        columns = _columns([cells[key] for key in left], look)
        if columns is None or family < 2:
            return answer
        means = np.log(columns).mean(axis=1)
        at = int(means.argmax() if more else means.argmin())
        among = [shared[key] for key in left] if shared else ()
        apart = significantly_different(columns, at, strata=among, alpha=alpha, family=family)
        stay = [i for i in range(len(left)) if not apart[i]]
        bounds = bound_behind_best(columns, at, strata=among, alpha=alpha, family=family)
        alike = bool((bounds[[i for i in stay if i != at]] <= plan.smallest_percent / 100).all())
        leader = left[at]
        settled.update({key: look for i, key in enumerate(left) if apart[i]})
        left = [left[i] for i in stay]
        if alike or number == len(planned):
            settled.update(dict.fromkeys(left, look))
        answer = Conclusion(leader, tuple(left), dict(settled), alike, number)
        if alike or len(left) == 1:
            return answer
    return answer


def pairs_so_far(
    plan: Repeats,
    cells: Mapping[str, ByBlock],
    pairs: Sequence[Pair],
    shared: Mapping[str, tuple[Hashable, ...]] | None = None,
) -> Conclusion:
    """Which cells are still needed to tell pairs apart, or alike.

    Args:
        plan: With the looks there are and the smallest difference worth knowing.
        cells: The measure in each block that has it, by cell.
        pairs: What is asked; the cells of each.
        shared: What each cell is measured with; None where nothing is shared.
    """
    from scipy import special

    planned = looks_with_shares(plan)
    open_pairs = [pair for pair in pairs if pair[0] in cells and pair[1] in cells]
    asked, settled, answer = len(open_pairs), dict[str, int](), Conclusion()
    told, same = set[Pair](), set[Pair]()
    for number, (look, alpha) in enumerate(planned, start=1):
        keys = list(dict.fromkeys(key for pair in open_pairs for key in pair))
        columns = _columns([cells[key] for key in keys], look)
        if columns is None:
            return answer
        place = {key: i for i, key in enumerate(keys)}
        places, among = [(place[a], place[b]) for a, b in open_pairs], [shared[key] for key in keys] if shared else ()
        distance, error, df = pairs_error(columns, places, among)
        each = alpha / asked
        apart = distance > special.stdtrit(df, 1 - each / 2) * error
        alike = distance + special.stdtrit(df, 1 - each) * error <= math.log1p(plan.smallest_percent / 100)
        last = number == len(planned)
        told |= {pair for pair, yes in zip(open_pairs, apart, strict=True) if yes}
        same |= {pair for pair, yes in zip(open_pairs, alike & ~apart, strict=True) if yes}
        open_pairs = [pair for pair, done in zip(open_pairs, apart | alike, strict=True) if not (done or last)]
        needed = {key for pair in open_pairs for key in pair}
        settled.update({key: look for key in keys if key not in needed})
        answer = Conclusion("", tuple(needed), dict(settled), not needed, number, frozenset(told), frozenset(same))
        if not open_pairs:
            return answer
    return answer


def _columns(rows: Sequence[ByBlock], look: int) -> npt.NDArray[np.float64] | None:
    """The first `look` blocks that all of them have, shape (cells, look); None where there are not so many."""
    shared = shared_blocks(rows)[:look]
    if len(shared) < look or look < 2:
        return None
    columns = in_blocks(rows, shared)
    return columns if columns.min() > 0 else None


def settled_now(study: Study, done: Mapping[str, Tally]) -> Mapping[str, int]:
    """Cells of which the question of a study needs no more repeats, and after how many that was known.

    Args:
        study: Repeated until its question is answered.
        done: What each cell has, with the measure that decides.
    """
    values = {cell.key: done[cell.key].by_block for cell in study.cells if cell.key in done}
    return answer_of(study, {key: found for key, found in values.items() if found}).settled


def answer_of(study: Study, cells: Mapping[str, ByBlock]) -> Conclusion:
    """How far the question of a study is answered, by the measure that decides."""
    plan = study.repeats
    shared = dict(zip(cells, strata(study.by_key[key] for key in cells), strict=True))
    if plan.until_answered != BEST:
        return pairs_so_far(plan, cells, neighbours(study, plan.until_answered or ""), shared)
    more = MEASURES[plan.until_measure].better != "less"
    if not study.conditions:
        return best_so_far(plan, cells, more=more, shared=shared)
    whole = candidates_of(study)
    means = {first: mean for first, keys in whole.items() if (mean := _mean_by_block(keys, cells))}
    found = best_so_far(plan, means, more=more)
    settled = {key: many for first, many in found.settled.items() for key in whole[first]}
    return replace(found, left=tuple(key for first in found.left for key in whole[first]), settled=settled)


def candidates_of(study: Study) -> dict[str, list[str]]:
    """What is chosen among, by its first cell's key: keys of the cells it was measured in, one for each condition."""
    whole: dict[object, list[str]] = {}
    for cell in study.cells:
        whole.setdefault(study.candidate(cell), []).append(cell.key)
    return {keys[0]: keys for keys in whole.values()}


def _mean_by_block(keys: Sequence[str], cells: Mapping[str, ByBlock]) -> ByBlock:
    """The geometric mean of cells in each block that all of them have; empty where one has none, or is not positive."""
    rows = [cells.get(key, {}) for key in keys]
    blocks = shared_blocks(rows)
    columns = in_blocks(rows, blocks)
    if not blocks or columns.min() <= 0:
        return {}
    return dict(zip(blocks, np.exp(np.log(columns).mean(axis=0)).tolist(), strict=True))


def neighbours(study: Study, factor: str) -> list[Pair]:
    """Keys of the cells with neighbouring levels of a factor, all else equal; the later level first."""
    at = {tuple(cell.levels.items()): cell.key for cell in study.cells}
    steps = study.steps(factor)
    found = [
        (cell.key, at.get(tuple(study.moved(cell.levels, factor, low).items())))
        for cell in study.cells
        for low, high in steps
        if cell.levels[factor] == high
    ]
    return [(key, other) for key, other in found if other is not None]
