"""What a study decides: who can be chosen, who is best over all conditions, and by how much it is ahead.

A candidate is a level of what is chosen; its figure is the geometric mean over the conditions it was measured under, in
each block. Candidates are held against each other at once (all pairs, Bonferroni); the ratio that is told is that of
the best to what a person has now, else to the next best.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from zinc_kettle.core.compare.cells import (
    MIN_REPEATS,
    RATIO,
    Ranking,
    RepeatsNeeded,
    Samples,
    in_turn,
    leader,
    ratio,
    repeats_needed,
    standing,
)
from zinc_kettle.core.compare.conditions import Tested, conditions_of, price_of, tested
from zinc_kettle.core.compare.sides import together
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.plan.decide import PRICE
from zinc_kettle.core.plan.design import baseline
from zinc_kettle.core.plan.factors import Level
from zinc_kettle.core.record.value import Value
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.core.run.stopping import strata
from zinc_kettle.core.stats import Interval
from zinc_kettle.core.stats.blocks import in_blocks, shared_blocks
from zinc_kettle.core.stats.ratios import ALPHA, bound_behind_best, geometric_mean, significantly_different


@dataclass(frozen=True, slots=True, eq=False)
class Candidate:
    """Something that can be chosen."""

    levels: Mapping[str, Level]
    cells: tuple[CellResults, ...]
    """Those measured, one for each condition that all candidates were measured under."""
    value: float = 0.0
    """The geometric mean of its cells' headlines."""
    tests: tuple[Tested, ...] = ()
    """How it stands to each condition of the plan."""
    price: float | None = None

    @property
    def unfit(self) -> Tested | None:
        """The first condition that it does not meet."""
        return next((t for t in self.tests if t.held == "unmet"), None)

    @property
    def doubtful(self) -> Tested | None:
        """The first condition of which it is not known."""
        return next((t for t in self.tests if t.held == "open"), None)


@dataclass(frozen=True, slots=True)
class Choice:
    """How far a study has decided."""

    measure: str
    best: Candidate | None = None
    tied: tuple[Candidate, ...] = ()
    """Those that show no clear difference from it."""
    others: tuple[Candidate, ...] = ()
    """The rest of those that may be chosen, best first."""
    unfit: tuple[Candidate, ...] = ()
    """Those that do not meet a condition."""
    against: Candidate | None = None
    """What the best is held against: what one has now, else the next best."""
    baseline: bool = False
    """True where that is what one has now."""
    ratio: Interval | None = None
    """The better over the worse of the two by the measure, as quotient above 1 where the best is ahead."""
    by_price: bool = False
    """True where the order is that of the prices; False where one of them is not known."""
    too_early: bool = False
    """True where a candidate has too few repeats for a conclusion."""
    within_percent: float | None = None
    """Where it is known that those tied with the best are behind it by no more than so many percent."""
    elsewhere: tuple[CellResults, ...] = ()
    """Cells of other candidates that are clearly ahead of the best one under their condition."""

    @property
    def ranked(self) -> tuple[Candidate, ...]:
        """All that may be chosen, the best first."""
        return (() if self.best is None else (self.best,)) + self.tied + self.others


def choice(results: StudyResults, name: str) -> Choice:
    """What a study decides by a measure; without a best where nothing is chosen, or nothing measured yet."""
    return results.once(("choice", name), lambda: _choice(results, name))


def _choice(results: StudyResults, name: str) -> Choice:
    study, better = results.study, MEASURES[name].better
    measured = [c for c in results.cells if c.done and isinstance(c.value(name), Value)]
    if not study.ranked or not measured or better == "neither":
        return Choice(name)
    there = _candidates(results, measured, name)
    fit, unfit = [c for c in there if c.unfit is None], tuple(c for c in there if c.unfit is not None)
    by_price = study.decide.by == PRICE and all(c.price is not None for c in fit)
    fit.sort(key=lambda c: (c.price or 0.0) if by_price else c.value, reverse=not by_price and better == "more")
    early = any(len(c.series(name)) < MIN_REPEATS for candidate in there for c in candidate.cells)
    if not fit or early:
        return Choice(name, fit[0] if fit else None, others=tuple(fit[1:]), unfit=unfit, too_early=early)
    if by_price:
        return Choice(name, fit[0], others=tuple(fit[1:]), unfit=unfit, by_price=True)
    found = _ranked(results, fit, name, len(there))
    best = found.best
    assert best is not None
    now = _baseline(results, there, best)
    against = now if now is not None and now is not best else next(iter(found.tied or found.others), None)
    return replace(
        found,
        unfit=unfit,
        against=against,
        baseline=now is not None and against is now,
        ratio=None if against is None else _ahead(best, against, name),
        elsewhere=_elsewhere(results, best, name),
    )


def _candidates(results: StudyResults, measured: Sequence[CellResults], name: str) -> list[Candidate]:
    """Who can be chosen, with the cells under the conditions all of them have; all of theirs where there is none."""
    study = results.study
    found: dict[tuple[tuple[str, Level], ...], dict[object, CellResults]] = {}
    for cell in measured:
        found.setdefault(study.candidate(cell.cell), {})[study.condition(cell.cell)] = cell
    shared = set.intersection(*(set(of) for of in found.values()))
    conditions, out = conditions_of(results), []
    for levels, of in found.items():
        cells = tuple(cell for at, cell in of.items() if at in shared or not shared)
        value = mean_of(cells, name)
        tests = tuple(tested(results, condition, tuple(of.values())) for condition in conditions)
        out.append(Candidate(dict(levels), cells, value, tests, price_of(results, cells[0])))
    return out


def _baseline(results: StudyResults, there: Sequence[Candidate], best: Candidate) -> Candidate | None:
    """What one has now: the levels the plan names, and where it names none, those of the best; of a design that begins
    somewhere, the cell it begins with."""
    study = results.study
    said = study.decide.baseline or ({} if study.design.kind == "all" else baseline(study.vary, study.design))
    named = [c for c in there if said and all(c.levels.get(name, level) == level for name, level in said.items())]
    return next((c for c in named if c.levels == {**best.levels, **said}), next(iter(named), None))


def samples_of(candidate: Candidate, name: str) -> Samples | None:
    """Its figure in each block that all of its cells have; None where they are too few, or not positive."""
    return together(candidate.cells, name)


def _ranked(results: StudyResults, fit: Sequence[Candidate], name: str, family: int) -> Choice:
    """The best of those that may be chosen, and who is not clearly behind it."""
    if not results.study.conditions:
        return _of_cells(results, fit, name)
    columns = _columns(fit, name)
    if columns is None:
        return Choice(name, fit[0], tied=tuple(fit[1:]))
    means = np.log(columns).mean(axis=1)
    at = int(means.argmax() if MEASURES[name].better == "more" else means.argmin())
    shared = strata(c.cells[0].cell for c in fit)
    apart = significantly_different(columns, at, strata=shared, alpha=ALPHA, family=family)
    tied = tuple(c for i, c in enumerate(fit) if i != at and not apart[i])
    rest = tuple(c for i, c in enumerate(fit) if i != at and apart[i])
    return Choice(name, fit[at], tied, rest, within_percent=_within(results, fit, fit[at], tied, name))


def _columns(fit: Sequence[Candidate], name: str) -> npt.NDArray[np.float64] | None:
    """Figures of all in the blocks they share, shape (candidates, blocks); None where that carries no claim."""
    rows = [samples_of(c, name) for c in fit]
    told = [r.by_block for r in rows if r is not None]
    blocks = shared_blocks(told) if len(told) == len(fit) else []
    if len(fit) < 2 or len(blocks) < MIN_REPEATS or not in_turn(cell for c in fit for cell in c.cells):
        return None
    return in_blocks(told, blocks)


def _within(
    results: StudyResults, fit: Sequence[Candidate], best: Candidate, tied: Sequence[Candidate], name: str
) -> float | None:
    """The smallest difference worth knowing, where those tied with the best are surely not behind it by more."""
    columns, smallest = _columns(fit, name), results.study.repeats.smallest_percent
    if columns is None or not tied:
        return None
    values = columns if MEASURES[name].better == "more" else 1 / columns
    place = {candidate: i for i, candidate in enumerate(fit)}
    behind = bound_behind_best(values, place[best], strata=strata(c.cells[0].cell for c in fit))
    return smallest if all(behind[place[c]] <= smallest / 100 for c in tied) else None


def _of_cells(results: StudyResults, fit: Sequence[Candidate], name: str) -> Choice:
    """The same where each candidate is one cell: as the cells stand."""
    rank = standing(results, name)
    of = {c.cells[0].cell.key: c for c in fit}
    best = of.get(rank.best.cell.key) if rank.best is not None else None
    if best is None:  # the fastest is no choice: the best of those that are
        top = leader([c.cells[0] for c in fit], name)
        best = of[top.cell.key]
        tied = _close(fit, best, name)
    else:
        tied = tuple(of[c.cell.key] for c in rank.tied if c.cell.key in of)
    near = {best, *tied}
    rest = tuple(c for c in fit if c not in near)
    within = rank.within_percent or _within(results, fit, best, tied, name)
    return Choice(name, best, tied, rest, within_percent=within)


def _close(fit: Sequence[Candidate], best: Candidate, name: str) -> tuple[Candidate, ...]:
    pairs = max(1, len(fit) * (len(fit) - 1) // 2)
    found = [(c, ratio(best.cells[0], c.cells[0], name)) for c in fit if c is not best]
    return tuple(c for c, r in found if r is None or r.bound != "interval95" or r.p >= ALPHA / pairs)


def _ahead(best: Candidate, other: Candidate, name: str) -> Interval | None:
    """How many times as good the best is as another one."""
    more = MEASURES[name].better == "more"
    above, below = (best, other) if more else (other, best)
    return ratio_of(above.cells, below.cells, name)


def mean_of(cells: Sequence[CellResults], name: str) -> float:
    """The geometric mean of the headlines of cells that have one; the plain mean where one is not positive."""
    heads = [v.value for c in cells if isinstance(v := c.value(name), Value)]
    return geometric_mean(heads) if min(heads) > 0 else sum(heads) / len(heads)


def ratio_of(above: Sequence[CellResults], below: Sequence[CellResults], name: str) -> Interval | None:
    """The ratio of the geometric means of two sets of cells, block by block where they were measured in turn."""
    if len(above) == len(below) == 1:
        return ratio(above[0], below[0], name)
    mine, its = together(above, name), together(below, name)
    if mine is None or its is None:
        return None
    if not in_turn((*above, *below)):
        mine, its = replace(mine, blocks=()), replace(its, blocks=())
    return RATIO(mine, its)


def _elsewhere(results: StudyResults, best: Candidate, name: str) -> tuple[CellResults, ...]:
    """The best cells of the conditions under which another candidate is clearly ahead."""
    if not results.study.conditions:
        return ()
    rank, condition = standing(results, name), results.study.condition
    near = {cell.cell.key for cell in rank.all}
    mine = {condition(cell.cell): cell.cell.key for cell in best.cells}
    return tuple(top for top in rank.bests if mine.get(condition(top.cell), top.cell.key) not in near)


def marked(results: StudyResults, name: str) -> Ranking:
    """The cells a map marks: the best under each condition; the chosen one's where something has to hold of it."""
    rank, found = standing(results, name), choice(results, name)
    if not results.study.decide.provided or found.best is None or found.too_early:
        return rank
    tied = tuple(cell for candidate in found.tied for cell in candidate.cells)
    return replace(rank, bests=found.best.cells, tied=tied, within_percent=found.within_percent)


def to_decide(results: StudyResults, found: Choice, name: str) -> RepeatsNeeded | None:
    """What would tell the best from the next best; None where nothing is open, or nothing can be said."""
    if found.best is None or not found.tied or found.within_percent is not None:
        return None
    rival = found.tied[0]
    many = len(found.ranked) + len(found.unfit)
    smallest = results.study.repeats.smallest_percent / 100
    cells = (*found.best.cells, *rival.cells)
    return repeats_needed(_ahead(found.best, rival, name), cells, smallest=smallest, pairs=many * (many - 1) // 2)
