"""Comparing cells: which belong together, what differs between them, and what their ratio is.

One comparison for the map, the findings and whatever ranks or judges. What interval a ratio has is one function,
`RATIO`; nothing else here or above computes one.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.measures.kinds import OverGaps, OverRequests
from zinc_kettle.core.plan.factors import Level
from zinc_kettle.core.plan.study import BEST
from zinc_kettle.core.record.value import CellFigure, Value
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.core.rig import FACT_KINDS
from zinc_kettle.core.run.stopping import answer_of, candidates_of, strata
from zinc_kettle.core.stats import Interval
from zinc_kettle.core.stats.blocks import ByBlock, in_blocks, shared_blocks
from zinc_kettle.core.stats.ratios import (
    ALPHA,
    MIN_FOR_CLAIM,
    paired_ratio,
    required_repeats,
    significantly_different,
    unpaired_ratio,
)

MIN_REPEATS = MIN_FOR_CLAIM
"""Fewer carry no conclusion: nothing is compared before the third."""
ENGINE_FACTS = ("engine", "version", "build")
"""What an engine says of itself that may explain a difference."""
MACHINE_FACTS = tuple(kind.name for kind in FACT_KINDS.values() if kind.explains)
"""What is known of a machine that may explain a difference."""


@dataclass(frozen=True, slots=True)
class Samples:
    """One measure of the repeats of a cell, with their blocks where each repeat has a value."""

    values: tuple[float, ...]
    blocks: tuple[int, ...] = ()
    """As long as `values`; empty where they belong to no repeats, or blocks of the other side have nothing in common
    with them."""
    widening: float = 1.0
    """How many times as large the error of their mean is as that of independent repeats, held against another run."""

    @property
    def by_block(self) -> ByBlock:
        """The value in each block; empty where they belong to none."""
        return dict(zip(self.blocks, self.values, strict=False))


RatioRule = Callable[[Samples, Samples], Interval]
"""The ratio of two sets of positive samples, first over second, with its bounds."""


def by_blocks(a: Samples, b: Samples) -> Interval:
    """Paired by the blocks both have; unpaired where they share too few, as cells of different runs do."""
    both = a.by_block, b.by_block
    shared = shared_blocks(both)
    if len(shared) >= MIN_FOR_CLAIM:
        x, y = in_blocks(both, shared)
        return paired_ratio(x, y)
    return unpaired_ratio(a.values, b.values, (a.widening, b.widening))


RATIO: RatioRule = by_blocks
"""The rule in force."""


def in_turn(cells: Iterable[CellResults]) -> bool:
    """True where cells of one run were measured in turn, block by block, so that a block's minute is the same for all.

    In a run launch by launch only those of one launch were; between launches a slow change of the machine is part of
    the difference.
    """
    return len({cell.cell.launch if cell.by_launch else None for cell in cells}) <= 1


def samples(cell: CellResults, name: str, *, paired: bool = True) -> Samples:
    """One measure of a cell's repeats, with their blocks where these are to be paired.

    Percentiles over requests are those of each repeat, moved together so that their geometric mean is the headline,
    which pools all requests: a ratio is then that of the headlines, and how the repeats scatter gives its bounds.
    """
    values, blocks = cell.series(name), cell.summary.blocks
    if isinstance(MEASURES[name].source, OverRequests | OverGaps):
        values = _about(values, cell.value(name))
    widening = cell.waves(name).apart(len(values)) if values else 1.0
    return Samples(values, blocks if paired and len(values) == len(blocks) else (), widening)


def _about(values: tuple[float, ...], headline: CellFigure) -> tuple[float, ...]:
    """Positive values moved by one factor, so that their geometric mean is the headline."""
    if not isinstance(headline, Value) or not values or min(values) <= 0:
        return values
    factor = headline.value / float(np.exp(np.log(values).mean()))
    return tuple(value * factor for value in values)


def ratio(
    a: CellResults, b: CellResults, name: str, *, paired: bool = True, rule: RatioRule | None = None
) -> Interval | None:
    """Ratio of cell `a` to cell `b` with its bounds, kept while neither changes.

    Args:
        a: The cell whose value stands above the line.
        b: The one below it.
        name: Of the measure.
        paired: Both are of one run, whose blocks they share where they were measured in turn.
        rule: How bounds are found; None for the one in force (RATIO).

    Returns:
        None where either has fewer than three repeats, or values that are not positive.
    """
    key = (b.cell.key, name)
    usual = rule is None and paired
    if usual and key in a.ratios and a.ratios[key][0] is b:
        return a.ratios[key][1]
    paired = paired and in_turn((a, b))
    mine, its = samples(a, name, paired=paired), samples(b, name, paired=paired)
    enough = min(len(mine.values), len(its.values)) >= MIN_REPEATS and min(*mine.values, *its.values) > 0
    found = (rule or RATIO)(mine, its) if enough else None
    if usual:
        a.ratios[key] = (b, found)
    return found


def differs(interval: Interval | None) -> bool:
    """True where a ratio that was looked at alone is a claim: its 95% interval leaves 1 out. A range claims nothing."""
    return interval is not None and interval.bound == "interval95" and not interval.low <= 1.0 <= interval.high


# the best
@dataclass(frozen=True, slots=True)
class Ranking:
    """Under each condition the best of the cells that are chosen among, and those not clearly different from it.

    Where a study only asks how something changes, nothing is ranked.
    """

    bests: tuple[CellResults, ...] = ()
    """One for each condition, in the order of the plan."""
    tied: tuple[CellResults, ...] = ()
    """Those that show no clear difference from the best under their condition."""
    low: float = 0.0
    """The smallest headline of all cells."""
    high: float = 0.0
    """The largest."""
    too_early: bool = False
    """True where something is measured and a cell of it has too few repeats for a ranking."""
    within_percent: float | None = None
    """Where it is known that those tied with the best are behind it by no more than so many percent."""

    @property
    def best(self) -> CellResults | None:
        """The best under the first condition; None where nothing is ranked."""
        return self.bests[0] if self.bests else None

    @property
    def all(self) -> tuple[CellResults, ...]:
        """The best first, then those tied with them; empty where nothing is ranked."""
        return (*self.bests, *self.tied)


def best_beside(results: StudyResults, rank: Ranking, cell: CellResults) -> CellResults:
    """What a cell is held against: the best under its condition, else the study's first cell."""
    mine = results.study.condition(cell.cell)
    return next((best for best in rank.bests if results.study.condition(best.cell) == mine), results.cells[0])


def standing(results: StudyResults, name: str) -> Ranking:
    """Which cell is best; nothing is ranked by noise, nor while a measured cell has fewer than three repeats."""
    return results.once(("standing", name), lambda: _standing(results, name))


def _standing(results: StudyResults, name: str) -> Ranking:
    measured = [(c, v) for c in results.cells if c.done and isinstance(v := c.value(name), Value)]
    if not measured:
        return Ranking()
    low, high = min(v.value for _, v in measured), max(v.value for _, v in measured)
    better = MEASURES[name].better
    if better == "neither" or not results.study.ranked:
        return Ranking(low=low, high=high)
    if any(len(c.series(name)) < MIN_REPEATS for c, _ in measured):
        return Ranking(low=low, high=high, too_early=True)
    if results.study.repeats.until_answered == BEST and name == results.study.repeats.until_measure:
        found = _answered([c for c, _ in measured], results, name)
        return replace(found, low=low, high=high)
    groups = by_condition(results, [c for c, _ in measured])
    # Who is alone under a condition is ahead of nobody.
    groups = [cells for cells in groups if len(cells) > 1] or groups[:1]
    pairs = sum(len(cells) * (len(cells) - 1) // 2 for cells in groups)
    bests, tied = [], list[CellResults]()
    for cells in groups:
        top = leader(cells, name)
        bests.append(top)
        tied += _not_clearly_apart(cells, top, name, pairs)
    return Ranking(tuple(bests), tuple(tied), low, high)


def by_condition(results: StudyResults, cells: Iterable[CellResults]) -> list[list[CellResults]]:
    """Cells that are chosen among, apart for each condition, in the order of the plan."""
    groups: dict[object, list[CellResults]] = {}
    for cell in cells:
        groups.setdefault(results.study.condition(cell.cell), []).append(cell)
    return list(groups.values())


def leader(cells: Sequence[CellResults], name: str) -> CellResults:
    """The cell with the best mean on the logarithm, over the blocks all have where they share enough of them.

    What is picked is what is tested: with another estimator a cell could lead that the test finds behind.
    """
    columns = shared_columns(cells, name)
    if columns is None:
        taken = [np.array(c.series(name)) for c in cells]
        positive = all(values.min() > 0 for values in taken)
        means = np.array([np.log(values).mean() if positive else np.median(values) for values in taken])
    else:
        means = np.log(columns).mean(axis=1)
    return cells[int(means.argmax() if MEASURES[name].better == "more" else means.argmin())]


def _answered(cells: Sequence[CellResults], results: StudyResults, name: str) -> Ranking:
    """Of a study that is repeated until it is known which is best: what its looks have told."""
    answer = answer_of(results.study, by_block_of(cells, name))
    if not answer.leader:
        return Ranking(too_early=True)
    led = [key for key in candidates_of(results.study)[answer.leader] if key in {c.cell.key for c in cells}]
    tied = tuple(results.cell(key) for key in answer.left if key not in led)
    return Ranking(
        tuple(results.cell(key) for key in led),
        tied,
        within_percent=results.study.repeats.smallest_percent if answer.alike and tied else None,
    )


def by_block_of(cells: Sequence[CellResults], name: str) -> dict[str, dict[int, float]]:
    """A measure in each block, of each cell whose every repeat has it."""
    taken = {c.cell.key: (c.summary.blocks, c.series(name)) for c in cells}
    return {key: dict(zip(*both, strict=True)) for key, both in taken.items() if len(both[0]) == len(both[1])}


def _not_clearly_apart(
    cells: Sequence[CellResults], top: CellResults, name: str, pairs: int
) -> tuple[CellResults, ...]:
    """Cells that are not clearly behind the best, when all are held against each other at once.

    Args:
        cells: Those of one condition.
        top: The best of them.
        name: Of the measure.
        pairs: How many pairs there are under all conditions.
    """
    columns, mine = shared_columns(cells, name), len(cells) * (len(cells) - 1) // 2
    if columns is not None:
        shared = strata(c.cell for c in cells)
        apart = significantly_different(columns, cells.index(top), strata=shared, alpha=ALPHA * mine / pairs)
        return tuple(c for c, far in zip(cells, apart, strict=True) if c is not top and not far)
    # Cells that share no blocks: every pair by itself, at what Bonferroni leaves of 5% for each.
    more, found = MEASURES[name].better == "more", {c.cell.key: ratio(c, top, name) for c in cells if c is not top}
    return tuple(c for c in cells if c is not top and not _behind(found[c.cell.key], ALPHA / pairs, more=more))


def shared_columns(cells: Sequence[CellResults], name: str) -> npt.NDArray[np.float64] | None:
    """A measure of all cells in the blocks they all have, shape (cells, blocks); None where that carries no claim."""
    if not in_turn(cells):
        return None
    rows = [samples(c, name).by_block for c in cells]
    shared = shared_blocks(rows)
    if len(cells) < 2 or len(shared) < MIN_FOR_CLAIM:
        return None
    columns = in_blocks(rows, shared)
    return columns if columns.min() > 0 else None


def _behind(found: Interval | None, level: float, *, more: bool) -> bool:
    """True where a cell is behind the best, by the ratio of the two; one that is ahead of it is not behind."""
    claimed = found is not None and found.bound == "interval95" and found.p < level
    return claimed and found is not None and (found.value < 1) == more


@dataclass(frozen=True, slots=True)
class RepeatsNeeded:
    """What would settle a comparison that is open."""

    share: float
    """The difference that would be told: what is seen, or the smallest worth knowing where less is seen."""
    repeats: int
    """Further repeats of each of the cells."""
    seconds: float | None
    """How long these take; None where it is not known."""


def repeats_needed(
    found: Interval | None, cells: Iterable[CellResults], *, smallest: float, pairs: int = 1
) -> RepeatsNeeded | None:
    """What would make a ratio clear with 90%, if the two differ by what is seen, or by the smallest worth knowing.

    Args:
        found: The ratio so far.
        cells: What would have to be measured again for each further repeat.
        smallest: The smallest difference worth knowing, as a share.
        pairs: How many pairs are looked at together.

    Returns:
        None where too little is measured to say.
    """
    if found is None or found.bound != "interval95" or found.high <= found.low:
        return None
    share = max(smallest, max(found.value, 1 / found.value) - 1)
    further = max(1, required_repeats(found, share, pairs=pairs) - found.n)
    took = [cell.summary.took_s for cell in cells]
    return RepeatsNeeded(share, further, further * sum(took) if all(took) else None)


# tokenizers
DENSITY = "prompt_density"
SAME_DENSITY = 0.02
"""Prompts are as long as asked for within 1%; what differs by more is cut into tokens in another way."""
SAME_TOKENS = 2.0
"""And so many tokens: engines differ in whether a first special token is counted."""


def same_tokenizer(a: CellResults, b: CellResults) -> bool:
    """False where two cells that did the same work read other tokens, as far as their prompts tell."""
    if _length(a) != _length(b):
        return True  # template and salt weigh otherwise: nothing can be said
    x, y, tokens = a.value(DENSITY), b.value(DENSITY), a.value("prompt_tokens")
    if not (isinstance(x, Value) and isinstance(y, Value) and isinstance(tokens, Value)):
        return True
    if min(x.value, y.value, tokens.value) <= 0:
        return True  # no text that could be counted
    return abs(x.value / y.value - 1) <= max(SAME_DENSITY, SAME_TOKENS / tokens.value)


def _length(cell: CellResults) -> tuple[Level | None, ...]:
    """What sets how long its prompts are, and what they hold."""
    return tuple(cell.cell.settings[name] for name in ("prompt_tokens", "depth", "task", "prompt"))


def other_tokenizers(results: StudyResults) -> tuple[CellResults, CellResults] | None:
    """Two measured cells of a study that read other tokens; None where all read the same."""
    return results.once("other tokenizers", lambda: _other_tokenizers(results))


def _other_tokenizers(results: StudyResults) -> tuple[CellResults, CellResults] | None:
    firsts: dict[object, CellResults] = {}
    for cell in results.cells:
        if cell.done:
            first = firsts.setdefault(_length(cell), cell)
            if not same_tokenizer(first, cell):
                return first, cell
    return None


def levels_key(levels: Mapping[str, Level], names: Sequence[str] = ()) -> tuple[tuple[str, str, Level], ...]:
    """Levels as a key: by name, and with their type, for 1 and true are not the same level."""
    return tuple((n, type(v).__name__, v) for n, v in sorted(levels.items()) if n not in names)
