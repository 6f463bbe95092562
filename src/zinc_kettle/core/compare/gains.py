"""What each level of a factor bought over another, all else equal; all pairs of a study are one family."""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from zinc_kettle.core.compare.cells import (
    MIN_REPEATS,
    RepeatsNeeded,
    by_block_of,
    levels_key,
    ratio,
    repeats_needed,
    shared_columns,
)
from zinc_kettle.core.compare.choice import choice
from zinc_kettle.core.compare.unlike_work import meaningless, natural_lengths
from zinc_kettle.core.plan.factors import Level
from zinc_kettle.core.plan.study import BEST, Study
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.core.run.precision import answer_looks
from zinc_kettle.core.run.stopping import answer_of, strata
from zinc_kettle.core.stats import Interval, median
from zinc_kettle.core.stats.ratios import ALPHA, holm, one_sided, paired_ratios, pairs_p


@dataclass(frozen=True, slots=True)
class Gain:
    """What one level of a factor bought over another, all else equal."""

    factor: str
    low: Level
    high: Level
    """The level whose figure stands above the line."""
    ratios: tuple[Interval, ...]
    """One for each pair of cells that differ in nothing else."""
    where: tuple[Mapping[str, Level], ...] = ()
    """The other levels of each pair."""
    adjusted: tuple[float, ...] = ()
    """The p value of each, adjusted for all pairs of the study that were looked at together; 0 and 1 where the study is
    repeated until this factor is answered, and its looks have told."""
    alike: tuple[bool, ...] = ()
    """Which pairs are known to differ by no more than is worth knowing."""

    def turned(self) -> Gain:
        """The same the other way round."""
        return replace(self, low=self.high, high=self.low, ratios=tuple(r.inverse() for r in self.ratios))

    @property
    def signs(self) -> tuple[int, ...]:
        """What each pair says: 1 clearly more, −1 clearly less, 0 no clear difference."""
        return tuple(
            0 if p >= ALPHA else 1 if r.value > 1 else -1 for r, p in zip(self.ratios, self.adjusted, strict=True)
        )

    @property
    def clear(self) -> int:
        """How many pairs show a clear difference."""
        return sum(1 for s in self.signs if s)

    def by_factor(self) -> tuple[str, list[tuple[Level, int, list[Interval]]]] | None:
        """The factor whose level decides what is said; for each of its levels what, and the ratios. None where none
        does."""
        if len(set(self.signs)) < 2:
            return None
        for name in self.where[0]:
            groups: dict[Level, list[tuple[int, Interval]]] = {}
            for said, found, levels in zip(self.signs, self.ratios, self.where, strict=True):
                groups.setdefault(levels[name], []).append((said, found))
            if all(len({said for said, _ in group}) == 1 for group in groups.values()):
                return name, [(level, group[0][0], [f for _, f in group]) for level, group in groups.items()]
        return None


MOST_LEVELS = 12
"""Of a factor with more, each level is held against the one before it."""


@dataclass(frozen=True, slots=True)
class _Step:
    """Two levels of a factor that are held against each other, and where they are in the family."""

    factor: str
    low: Level
    high: Level
    pairs: tuple[tuple[int, int], ...]
    told: bool


def gains(results: StudyResults, name: str) -> list[Gain]:
    """For each varied factor what its levels bring over each other; all pairs are one family.

    Levels that are chosen among are held against what one has now, else the best one; which that is the figures say, so
    that all pairs of levels count. The levels of a condition are held against the first one, where its other work
    leaves the measure a meaning. A study that is repeated
    until a factor is answered is told by the steps its looks have judged.
    """
    cells = [c for c in results.cells if c.done and len(c.series(name)) >= MIN_REPEATS]
    at: dict[object, int] = {levels_key(c.cell.levels): i for i, c in enumerate(cells)}
    best = choice(results, name).best
    steps = [
        _Step(factor, low, high, tuple(_pairs(results.study, cells, at, factor, low, high)), told)
        for factor in results.study.leading
        if name not in _left_out(results.study, factor)
        for low, high, told in _steps(results, factor, None if best is None else best.levels.get(factor))
    ]
    pairs = [pair for step in steps for pair in step.pairs]
    ratios, p = _ratios(cells, pairs, name)
    repeats = results.study.repeats
    if repeats.until_answered is not None and name == repeats.until_measure:
        p = [min(1.0, value * len(answer_looks(repeats))) for value in p]  # it was looked at so often
    of = dict(zip(pairs, zip(ratios, holm(p), strict=True), strict=True))
    alike: set[tuple[int, int]] = set()
    if repeats.until_answered not in {None, BEST} and name == repeats.until_measure:
        answer = answer_of(results.study, by_block_of(cells, name))
        for pair in (pair for step in steps if step.factor == repeats.until_answered for pair in step.pairs):
            keys = cells[pair[0]].cell.key, cells[pair[1]].cell.key
            of[pair] = of[pair][0], 0.0 if keys in answer.apart else 1.0
            alike |= {pair} if keys in answer.same else set()
    out = []
    for step in steps:
        found = [(pair, *of[pair]) for pair in step.pairs if of[pair][0] is not None]
        if found and step.told:
            tied = results.study.design.tie(step.factor)
            where = tuple({n: v for n, v in cells[a].cell.levels.items() if n not in tied} for (a, _), *_ in found)
            told = tuple(r for _, r, _ in found if r is not None)
            least = repeats.smallest_percent / 100
            same = tuple(pair in alike or _alike(r, least, len(pairs)) for pair, r, _ in found)
            gain = Gain(step.factor, step.low, step.high, told, where, tuple(q for *_, q in found), same)
            turned = step.factor in results.study.chosen and repeats.until_answered != step.factor
            out.append(gain.turned() if turned and sum(np.log(r.value) for r in told) < 0 else gain)
    return out


def _left_out(study: Study, factor: str) -> frozenset[str]:
    """The measures of which the levels of a factor say nothing, as their work differs."""
    differing = (factor,) if factor in study.conditions else ()
    return meaningless((*differing, *natural_lengths(study)))


def _alike(found: Interval | None, least: float, family: int) -> bool:
    """True where a difference of more than is worth knowing is ruled out in either direction (two one-sided tests,
    Schuirmann 1987), among so many pairs (Bonferroni)."""
    if found is None or found.bound != "interval95":
        return False
    low, high = one_sided(found, ALPHA / family)
    return low >= 1 / (1 + least) and high <= 1 + least


def _steps(results: StudyResults, factor: str, best: Level | None) -> list[tuple[Level, Level, bool]]:
    """Levels that are held against each other, and whether that is told or only counts in the family."""
    study = results.study
    levels = study.vary[factor]
    if study.repeats.until_answered == factor or study.design.kind != "all" or len(levels) > MOST_LEVELS:
        return [(low, high, True) for low, high in study.steps(factor)]
    if factor in study.conditions:
        return [(levels[0], level, True) for level in levels[1:]]
    said = study.decide.baseline.get(factor)
    if said in levels:
        return [(said, level, True) for level in levels if level != said]
    reference = best if best in levels else levels[0]
    return [(low, high, reference in {low, high}) for low, high in itertools.combinations(levels, 2)]


def _pairs(
    study: Study, cells: Sequence[CellResults], at: Mapping[object, int], factor: str, low: Level, high: Level
) -> list[tuple[int, int]]:
    """Places of the cells with one level and with the other, all else equal."""
    tops = [(i, c) for i, c in enumerate(cells) if c.cell.levels[factor] == high]
    others = [(i, at.get(levels_key(study.moved(c.cell.levels, factor, low)))) for i, c in tops]
    return [(i, other) for i, other in others if other is not None]


def _ratios(
    cells: Sequence[CellResults], pairs: Sequence[tuple[int, int]], name: str
) -> tuple[list[Interval | None], list[float]]:
    """The ratio of each pair, and its p value by the error of all cells, where they share blocks."""
    columns, shared = shared_columns(cells, name), strata(c.cell for c in cells)
    if columns is not None and all(len(c.series(name)) == columns.shape[1] for c in cells):
        return list(paired_ratios(columns, pairs)), pairs_p(columns, pairs, shared)  # thousands at once
    found = [ratio(cells[a], cells[b], name) for a, b in pairs]
    if columns is not None:
        return found, pairs_p(columns, pairs, shared)
    return found, [1.0 if r is None else r.p for r in found]


def gain_effort(results: StudyResults, gain: Gain, *, smallest: float) -> RepeatsNeeded | None:
    """What would tell the largest of a step's differences with 90%, all its pairs looked at together.

    Args:
        results: The run.
        gain: A step of a factor.
        smallest: The smallest difference worth knowing, as a share.

    Returns:
        None where too little is measured to say.
    """
    carried = [r for r in gain.ratios if r.bound == "interval95" and r.high > r.low]
    largest = max(carried, key=lambda r: abs(np.log(r.value)), default=None)
    pairs = len(gain.ratios)
    needed = repeats_needed(largest, (c for c in results.cells if c.done), smallest=smallest, pairs=pairs)
    if needed is None or needed.seconds is None:
        return needed
    took = [c.summary.took_s for c in results.cells if c.done]
    return replace(needed, seconds=2 * pairs * needed.repeats * median(took))
