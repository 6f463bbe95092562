"""Two sides held against each other: what B is to A in each measure, over all their pairs at once."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Literal

from zinc_kettle.core.compare import (
    MIN_REPEATS,
    RATIO,
    Alignment,
    Effort,
    Pair,
    Samples,
    Side,
    align,
    samples,
)  # fmt: skip
from zinc_kettle.core.measures import MAP_MEASURES, MEASURES
from zinc_kettle.core.stats import Interval, median
from zinc_kettle.core.stats.ratios import ALPHA, holm, repeats_to_tell
from zinc_kettle.core.value import Value

Verdict = Literal["a", "b", "open", "range", "none"]
"""`a` or `b` is better with confidence; `open`: no clear difference; `range`: too few repeats for a claim; `none`: the
measure has no better, or no values on both sides."""
CautionCode = Literal["two-changes", "different-workload", "different-tokenizer", "different-definitions", "unpaired"]


@dataclass(frozen=True, slots=True)
class Contest:
    """One measure of both sides."""

    measure: str
    a: float | None
    """Median of the headlines of its paired cells."""
    b: float | None
    ratio: Interval | None
    """B over A; None where either has too few repeats."""
    verdict: Verdict = "none"
    ruled_out: float | None = None
    """Of `open`: a difference of more than this share is ruled out."""


@dataclass(frozen=True)
class Duel:
    """Two sides, what differs between them, and what came of it."""

    a: Side
    b: Side
    alignment: Alignment
    contests: tuple[Contest, ...]
    cautions: tuple[CautionCode, ...]
    paired: bool
    """True where both are of one run, so that they are compared block by block."""

    def contest(self, measure: str) -> Contest | None:
        """What came of a measure; None where it was not looked at."""
        return next((c for c in self.contests if c.measure == measure), None)


def duel(a: Side, b: Side, measures: Sequence[str] = MAP_MEASURES) -> Duel:
    """Hold B against A.

    The cells of each side are paired with those that did the same work; a side's value in a block is the geometric mean
    over its paired cells, so that one interval stands for all pairs. Sides of one run are paired block by block, others
    are compared unpaired. The verdicts on all measures are one family (Holm 1979).

    Args:
        a: The side the other one is held against.
        b: The other one.
        measures: What to look at.
    """
    found = align(a, b)
    paired = a.results.run.run_id == b.results.run.run_id and a.results is b.results
    contests = [c for name in measures if (c := _contest(found.pairs, name, paired=paired)) is not None]
    claims = [i for i, c in enumerate(contests) if c.ratio is not None and MEASURES[c.measure].better != "neither"]
    adjusted = holm([_p(contests[i]) for i in claims])
    for i, p in zip(claims, adjusted, strict=True):
        contests[i] = _judged(contests[i], p)
    return Duel(a, b, found, tuple(contests), tuple(_cautions(found, paired=paired)), paired)


def _p(contest: Contest) -> float:
    return 1.0 if contest.ratio is None or contest.ratio.bound != "interval95" else contest.ratio.p


def _contest(pairs: Sequence[Pair], name: str, *, paired: bool) -> Contest | None:
    heads = [(x.value, y.value) for p in pairs
             if isinstance(x := p.a.value(name), Value) and isinstance(y := p.b.value(name), Value)]  # fmt: skip
    if not heads:
        return None
    mine = _together([samples(p.a, name) for p in pairs])
    its = _together([samples(p.b, name) for p in pairs])
    ratio = None
    if mine is not None and its is not None:
        one = replace(its, blocks=its.blocks if paired else ()), replace(mine, blocks=mine.blocks if paired else ())
        ratio = RATIO(*one)
    return Contest(name, median([x for x, _ in heads]), median([y for _, y in heads]), ratio)


def _together(each: Sequence[Samples]) -> Samples | None:
    """The geometric mean of cells in each block all of them have; None where that is too few, or not positive."""
    by_block = [dict(zip(s.blocks, s.values, strict=False)) for s in each]
    shared = sorted(set(by_block[0]).intersection(*by_block[1:])) if by_block else []
    if len(shared) < MIN_REPEATS or any(row[block] <= 0 for row in by_block for block in shared):
        return None
    means = tuple(math.exp(sum(math.log(row[block]) for row in by_block) / len(by_block)) for block in shared)
    return Samples(means, tuple(shared))


def _judged(contest: Contest, p: float) -> Contest:
    ratio = contest.ratio
    assert ratio is not None
    if ratio.bound != "interval95":
        return replace(contest, verdict="range")
    if p >= ALPHA:
        ruled = max(ratio.high, 1 / ratio.low) - 1 if ratio.low > 0 else None
        return replace(contest, verdict="open", ruled_out=ruled)
    more = MEASURES[contest.measure].better == "more"
    return replace(contest, verdict="b" if (ratio.value > 1) == more else "a")


def _cautions(found: Alignment, *, paired: bool) -> list[CautionCode]:
    out: list[CautionCode] = []
    kinds = {d.kind for pair in found.pairs for d in pair.differences}
    if not found.pairs or any("same work" in u.reason for u in found.without):
        out.append("different-workload")
    if len(found.differences) > 1:
        out.append("two-changes")
    if "tokenizer" in kinds:
        out.append("different-tokenizer")
    if "definitions" in kinds:
        out.append("different-definitions")
    if not paired:
        out.append("unpaired")
    return out


def effort(found: Duel, measure: str, *, smallest: float) -> Effort | None:
    """What would settle a measure with 90%, if the sides differ by what is seen, or by the smallest worth knowing.

    Args:
        found: The duel.
        measure: Its name.
        smallest: The smallest difference worth knowing, as a share.

    Returns:
        None where nothing is open, or nothing can be said.
    """
    contest = found.contest(measure)
    if contest is None or contest.verdict != "open" or contest.ratio is None or contest.ratio.high <= contest.ratio.low:
        return None
    share = max(smallest, max(contest.ratio.value, 1 / contest.ratio.value) - 1)
    further = max(1, repeats_to_tell(contest.ratio, share, pairs=1) - contest.ratio.n)
    took = [c.summary.took_s for p in found.alignment.pairs for c in (p.a, p.b)]
    return Effort(share, further, further * sum(took) if all(took) else None)
