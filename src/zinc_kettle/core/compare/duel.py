"""Two sides held against each other: what B is to A in each measure, over all their pairs at once."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Container, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Literal

from zinc_kettle.core.compare.cells import RATIO, RepeatsNeeded, Samples, in_turn, repeats_needed, samples
from zinc_kettle.core.compare.run_to_run import RunToRun, run_to_run
from zinc_kettle.core.compare.sides import Alignment, Pair, Side, align, compared_by, together
from zinc_kettle.core.compare.unlike_work import meaningless
from zinc_kettle.core.measures import MAP_MEASURES, MEASURES
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.core.record.value import Value
from zinc_kettle.core.results import CellResults
from zinc_kettle.core.stats import Interval, median
from zinc_kettle.core.stats.ratios import (
    ALPHA,
    MIN_FOR_CLAIM,
    allowing_for_runs,
    geometric_mean,
    holm,
    one_sided,
    pooled_ratios,
)
from zinc_kettle.core.units import NS_PER_S

Verdict = Literal["a", "b", "open", "range", "none"]
"""`a` or `b` is better with confidence; `open`: no clear difference; `range`: too few repeats for a claim; `none`: the
measure has no better, or no values on both sides."""
CautionCode = Literal["two-changes", "different-workload", "different-tokenizer", "different-definitions", "unpaired"]

MOST_DIGITS = 12
"""Of a request's number; what is longer was not numbered here."""


@dataclass(frozen=True, slots=True)
class MeasureComparison:
    """One measure of both sides."""

    measure: str
    a: float | None
    """The figure the ratio is of: the mean on the logarithm over its paired cells and repeats; where there is no ratio,
    the median of the headlines."""
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
    contests: tuple[MeasureComparison, ...]
    cautions: tuple[CautionCode, ...]
    paired: bool
    """True where both were measured in turn in one run, so that they are compared block by block."""
    earlier_runs: int = 0
    """Earlier runs by which it is known how far two runs lie apart; 0 where that is not known, or not asked."""
    unlike: frozenset[str] = frozenset()
    """Measures that say nothing here, because the work differs in what is compared."""

    def contest(self, measure: str) -> MeasureComparison | None:
        """What came of a measure; None where it was not looked at."""
        return next((c for c in self.contests if c.measure == measure), None)


def duel(a: Side, b: Side, measures: Sequence[str] = MAP_MEASURES, *, asked: str = "") -> Duel:
    """Hold B against A.

    The cells of each side are paired with those that did the same work; a side's value in a block is the geometric mean
    over its paired cells, so that one interval stands for all pairs. Sides of one run that were measured in turn are
    paired block by block, others are compared unpaired. The verdicts on all measures are one family (Holm 1979).

    Args:
        a: The side the other one is held against.
        b: The other one.
        measures: What to look at.
        asked: One more, where it is not among them.
    """
    found, compared = align(a, b), compared_by((a, b))
    unlike = meaningless(compared)
    wanted = measures if not asked or asked in measures else [asked, *measures]
    measures = [name for name in wanted if name not in unlike and MEASURES[name].has_ratios]
    one_run = a.results.run.run_id == b.results.run.run_id and a.results is b.results
    paired = one_run and all(in_turn((pair.a, pair.b)) for pair in found.pairs)
    apart = {name: None if one_run else run_to_run((a, b), found.cells, name) for name in measures}
    contests = [c for name in measures if (c := _contest(found.pairs, name, apart[name], paired=paired)) is not None]
    earlier = max((known.runs for known in apart.values() if known is not None), default=0)
    claims = [i for i, c in enumerate(contests) if c.ratio is not None and MEASURES[c.measure].better != "neither"]
    adjusted = holm([_p(contests[i]) for i in claims])
    for i, p in zip(claims, adjusted, strict=True):
        contests[i] = _judged(contests[i], p)
    still = sum(c.verdict == "open" for c in contests)
    contests = [_ruled_out(c, still) if c.verdict == "open" else c for c in contests]
    return Duel(a, b, found, tuple(contests), tuple(_cautions(found, paired=paired)), paired, earlier, unlike)


def _p(contest: MeasureComparison) -> float:
    return 1.0 if contest.ratio is None or contest.ratio.bound != "interval95" else contest.ratio.p


def _contest(pairs: Sequence[Pair], name: str, apart: RunToRun | None, *, paired: bool) -> MeasureComparison | None:
    known = [
        (p, x.value, y.value)
        for p in pairs
        if isinstance(x := p.a.value(name), Value) and isinstance(y := p.b.value(name), Value)
    ]
    if not known:
        return None
    mine = together([p.a for p, *_ in known], name)
    its = together([p.b for p, *_ in known], name)
    if mine is None or its is None:
        return MeasureComparison(name, median([x for _, x, _ in known]), median([y for *_, y in known]), None)
    shared = set(mine.blocks) & set(its.blocks) if paired else set()
    mine, its = _of_blocks(mine, shared), _of_blocks(its, shared)
    ratio = _allowing(RATIO(its, mine), apart)
    return MeasureComparison(name, geometric_mean(mine.values), geometric_mean(its.values), ratio)


def _allowing(ratio: Interval, apart: RunToRun | None) -> Interval:
    return ratio if apart is None else allowing_for_runs(ratio, apart.error, apart.df)


def _of_blocks(side: Samples, shared: Container[int]) -> Samples:
    """The samples of the blocks both sides have; all of them, without blocks, where these are too few to pair by."""
    kept = [(value, block) for block, value in side.by_block.items() if block in shared]
    if len(kept) < MIN_FOR_CLAIM:
        return replace(side, blocks=())
    return replace(side, values=tuple(value for value, _ in kept), blocks=tuple(block for _, block in kept))


def _judged(contest: MeasureComparison, p: float) -> MeasureComparison:
    ratio = contest.ratio
    assert ratio is not None
    return replace(contest, verdict=told(ratio, p, more=MEASURES[contest.measure].better == "more"))


def _ruled_out(contest: MeasureComparison, family: int) -> MeasureComparison:
    """The difference that is ruled out, at the level at which all that is open is open: bounds that hold together."""
    assert contest.ratio is not None
    low, high = one_sided(contest.ratio, ALPHA / 2 / family)
    return replace(contest, ruled_out=max(high, 1 / low) - 1) if low > 0 else contest


def _cautions(found: Alignment, *, paired: bool) -> list[CautionCode]:
    out: list[CautionCode] = []
    kinds = {d.kind for pair in found.pairs for d in pair.differences}
    if not found.pairs or any(u.code == "other-work" for u in found.without):
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


def effort(found: Duel, measure: str, *, smallest: float) -> RepeatsNeeded | None:
    """What would settle a measure with 90%, if the sides differ by what is seen, or by the smallest worth knowing.

    Args:
        found: The duel.
        measure: Its name.
        smallest: The smallest difference worth knowing, as a share.

    Returns:
        None where nothing is open, or nothing can be said.
    """
    contest = found.contest(measure)
    if contest is None or contest.verdict != "open" or contest.ratio is None or contest.ratio.by_runs:
        return None
    return repeats_needed(contest.ratio, (c for p in found.alignment.pairs for c in (p.a, p.b)), smallest=smallest)


@dataclass(frozen=True, slots=True)
class Repaid:
    """One side loads longer and writes faster."""

    side: Literal["a", "b"]
    load_s: float
    """So much longer it loads."""
    tokens: float
    """After so many tokens that is made up for."""


def repaid(found: Duel) -> Repaid | None:
    """When a longer load is made up for by faster writing; None where either is not clear, or both are one side's."""
    load, decode = found.contest("load_time"), found.contest("decode")
    if load is None or decode is None or {load.verdict, decode.verdict} != {"a", "b"}:
        return None
    if load.a is None or load.b is None or decode.a is None or decode.b is None:
        return None
    longer, token_s = abs(load.b - load.a), abs(1 / decode.a - 1 / decode.b)
    return Repaid("b" if decode.verdict == "b" else "a", longer, longer / token_s)


# a chain of changes
@dataclass(frozen=True)
class Rung:
    """A step of a ladder: what it is to the one before, and to the first."""

    side: Side
    step: Duel
    whole: Duel


def ladder(sides: Sequence[Side], measures: Sequence[str]) -> list[Rung]:
    """Hold each side of a chain against the one before it, and against the first.

    Args:
        sides: Two or more, the first is where the chain begins.
        measures: What to look at.
    """
    return [
        Rung(side, step := duel(sides[place], side, measures), step if place == 0 else duel(sides[0], side, measures))
        for place, side in enumerate(sides[1:])
    ]


# pair by pair, prompt by prompt
@dataclass(frozen=True, slots=True)
class PairContest:
    """One pair of cells, or one prompt of it, over the blocks both have."""

    pair: Pair
    a: float
    """The mean on the logarithm over blocks, which the ratio is of."""
    b: float
    ratio: Interval
    """B over A."""
    verdict: Verdict
    place: int = 0
    """Of a prompt: the request of a repeat, from 0; in every block it is the same prompt."""


def pair_by_pair(found: Duel, measure: str) -> list[PairContest]:
    """Each pair of cells held against each other; all are one family (Holm), and scatter is that of all pairs.

    Args:
        found: The duel.
        measure: The one asked about; pairs that lack it, or have figures that are not positive, are left out.
    """
    rows = []
    for pair in found.alignment.pairs:
        mine, its = samples(pair.a, measure), samples(pair.b, measure)
        if mine.values and its.values and min(*mine.values, *its.values) > 0:
            # Figures that belong to no blocks share none with those of the other side.
            x, y = (
                dict(zip(s.blocks or itertools.count(first, -2), s.values, strict=False))
                for s, first in ((mine, -1), (its, -2))
            )
            rows.append((pair, 0, x, y))
    return _contests(rows, measure, found)


REQUEST_VALUES: dict[str, Callable[[Timeline], float | None]] = {
    "decode": lambda t: t.decode_rate,
    "ttft": lambda t: None if t.ttft_ns is None else t.ttft_ns / NS_PER_S,
    "latency": lambda t: (t.end_ns - t.sent_ns) / NS_PER_S,
}
"""What can be said of one request, by measure; of others the decode rate is shown."""


def request_measure(measure: str) -> str:
    """The measure of single requests that a measure of repeats is nearest to."""
    return next((name for name in REQUEST_VALUES if measure == name or measure.startswith(f"{name}_")), "decode")


def prompt_by_prompt(found: Duel, measure: str) -> list[PairContest]:
    """Each prompt of each pair of cells held against the same prompt on the other side; all are one family (Holm), and
    scatter is that of all prompts.

    Reads the requests of the cells.

    Args:
        found: The duel.
        measure: The measure asked about; see `request_measure`.
    """
    name = request_measure(measure)
    rows = []
    for pair in found.alignment.pairs:
        mine, its = _by_place(pair.a, REQUEST_VALUES[name]), _by_place(pair.b, REQUEST_VALUES[name])
        rows += [(pair, place, mine[place], its[place]) for place in sorted(mine.keys() & its.keys())]
    return _contests(rows, name, found)


def _contests(
    rows: Sequence[tuple[Pair, int, Mapping[int, float], Mapping[int, float]]], measure: str, found: Duel
) -> list[PairContest]:
    """Rows of the same kind with their ratios; each has the figures of both sides by block."""
    shared = [sorted(x.keys() & y.keys()) for _, _, x, y in rows]
    paired = found.paired and all(shared)
    both = [
        ([x[b] for b in blocks], [y[b] for b in blocks]) if paired else ([*x.values()], [*y.values()])
        for (_, _, x, y), blocks in zip(rows, shared, strict=True)
    ]
    ratios = pooled_ratios([(y, x) for x, y in both], paired=paired)
    if found.earlier_runs:
        apart = {id(pair): run_to_run((found.a, found.b), ([pair.a], [pair.b]), measure) for pair, *_ in rows}
        ratios = [_allowing(ratio, apart[id(row[0])]) for ratio, row in zip(ratios, rows, strict=True)]
    adjusted = holm([r.p if r.bound == "interval95" else 1.0 for r in ratios])
    more = MEASURES[measure].better == "more"
    return [
        PairContest(pair, geometric_mean(x), geometric_mean(y), ratio, told(ratio, p, more=more), place)
        for (pair, place, _, _), (x, y), ratio, p in zip(rows, both, ratios, adjusted, strict=True)
    ]


def told(ratio: Interval, p: float, *, more: bool) -> Verdict:
    """What a ratio says.

    Args:
        ratio: B over A.
        p: Its chance, adjusted for those looked at with it.
        more: True where more is better.
    """
    if ratio.bound != "interval95":
        return "range"
    return "open" if p >= ALPHA else ("b" if (ratio.value > 1) == more else "a")


def _by_place(cell: CellResults, value: Callable[[Timeline], float | None]) -> dict[int, dict[int, float]]:
    """A value of each request by its place in its repeat, and by block; only of requests that may be counted."""
    out: dict[int, dict[int, float]] = {}
    for repeat in cell.repeats:
        asked = [t for t in repeat.timelines if t.role == "measured" and t.attempt == 0]
        for place, t in enumerate(sorted(asked, key=_number)):
            found = value(t) if t.usable and not t.cold else None
            if found is not None and found > 0:
                out.setdefault(place, {})[repeat.block] = found
    return out


def _number(t: Timeline) -> int:
    """The request's number within its repeat, which its id ends with."""
    tail = t.request_id.rpartition("-")[2]
    return int(tail) if tail.isdecimal() and len(tail) <= MOST_DIGITS else t.sent_ns
