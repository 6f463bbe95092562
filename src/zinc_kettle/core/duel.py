"""Two sides held against each other: what B is to A in each measure, over all their pairs at once."""

from __future__ import annotations

from collections.abc import Callable, Container, Sequence
from dataclasses import dataclass, replace
from typing import Literal

from zinc_kettle.core.compare import RATIO, Effort, Samples
from zinc_kettle.core.measures import MAP_MEASURES, MEASURES
from zinc_kettle.core.results import CellResults
from zinc_kettle.core.sides import Alignment, Pair, Side, align, together
from zinc_kettle.core.stats import Interval, median
from zinc_kettle.core.stats.ratios import ALPHA, MIN_FOR_CLAIM, geometric_mean, holm, repeats_to_tell
from zinc_kettle.core.timeline import Timeline
from zinc_kettle.core.units import NS_PER_S
from zinc_kettle.core.value import Value

Verdict = Literal["a", "b", "open", "range", "none"]
"""`a` or `b` is better with confidence; `open`: no clear difference; `range`: too few repeats for a claim; `none`: the
measure has no better, or no values on both sides."""
CautionCode = Literal["two-changes", "different-workload", "different-tokenizer", "different-definitions", "unpaired"]

MOST_DIGITS = 12
"""Of a request's number; what is longer was not numbered here."""


@dataclass(frozen=True, slots=True)
class Contest:
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
    mine = together([p.a for p in pairs], name)
    its = together([p.b for p in pairs], name)
    if mine is None or its is None:
        return Contest(name, median([x for x, _ in heads]), median([y for _, y in heads]), None)
    shared = set(mine.blocks) & set(its.blocks) if paired else set()
    mine, its = _of_blocks(mine, shared), _of_blocks(its, shared)
    return Contest(name, geometric_mean(mine.values), geometric_mean(its.values), RATIO(its, mine))


def _of_blocks(side: Samples, shared: Container[int]) -> Samples:
    """The samples of the blocks both sides have; all of them, without blocks, where these are too few to pair by."""
    kept = [(value, block) for value, block in zip(side.values, side.blocks, strict=True) if block in shared]
    if len(kept) < MIN_FOR_CLAIM:
        return replace(side, blocks=())
    return Samples(tuple(value for value, _ in kept), tuple(block for _, block in kept))


def _judged(contest: Contest, p: float) -> Contest:
    ratio = contest.ratio
    assert ratio is not None
    said = told(ratio, p, more=MEASURES[contest.measure].better == "more")
    ruled = max(ratio.high, 1 / ratio.low) - 1 if said == "open" and ratio.low > 0 else None
    return replace(contest, verdict=said, ruled_out=ruled)


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


# prompt by prompt
REQUEST_VALUES: dict[str, Callable[[Timeline], float | None]] = {
    "decode": lambda t: t.decode_rate,
    "ttft": lambda t: None if t.ttft_ns is None else t.ttft_ns / NS_PER_S,
    "latency": lambda t: (t.end_ns - t.sent_ns) / NS_PER_S,
}
"""What can be said of one request, by measure; of others the decode rate is shown."""


@dataclass(frozen=True, slots=True)
class PromptContest:
    """One prompt of one pair of cells, over the blocks both have."""

    place: int
    """The request of a repeat, from 0; in every block it is the same prompt."""
    pair: Pair
    a: float
    """Median over blocks."""
    b: float
    ratio: Interval
    """B over A."""
    verdict: Verdict


def request_measure(measure: str) -> str:
    """The measure of single requests that a measure of repeats is nearest to."""
    return next((name for name in REQUEST_VALUES if measure == name or measure.startswith(f"{name}_")), "decode")


def prompt_by_prompt(found: Duel, measure: str) -> list[PromptContest]:
    """Each prompt of each pair of cells held against the same prompt on the other side; all are one family (Holm).

    Reads the requests of the cells. Sides of one run are paired by block.

    Args:
        found: The duel.
        measure: The measure asked about; see `request_measure`.
    """
    value = REQUEST_VALUES[request_measure(measure)]
    rows: list[PromptContest] = []
    for pair in found.alignment.pairs:
        mine, its = _by_place(pair.a, value), _by_place(pair.b, value)
        for place in sorted(mine.keys() & its.keys()):
            x, y = mine[place], its[place]
            blocks = sorted(x.keys() & y.keys()) if found.paired else []
            both = [[side[b] for b in blocks] for side in (x, y)] if blocks else [[*x.values()], [*y.values()]]
            numbers = tuple(blocks)
            ratio = RATIO(Samples(tuple(both[1]), numbers), Samples(tuple(both[0]), numbers))
            rows.append(PromptContest(place, pair, median(both[0]), median(both[1]), ratio, "open"))
    adjusted = holm([r.ratio.p if r.ratio.bound == "interval95" else 1.0 for r in rows])
    more = MEASURES[request_measure(measure)].better == "more"
    return [replace(row, verdict=told(row.ratio, p, more=more)) for row, p in zip(rows, adjusted, strict=True)]


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
