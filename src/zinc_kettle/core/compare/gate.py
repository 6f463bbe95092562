"""A gate: is a new build worse than the old one by more than may be, told with known chances of being wrong.

Of each measure the loss is tested in both directions: *worse* where even its lower bound is beyond what may be, *fine*
where even its upper bound is within it (a test of non-inferiority: Blackwelder 1982), else it is *open*, and more
repeats may settle it. The 5% that *worse* may be wrong are divided among the measures (Dunn 1961), and those of both
verdicts among the planned looks in proportion to their repeats, as for questions that end a run early. That all
measures are fine needs no division: each has to be (Berger 1982).

What failed is a measure of every gate: of each repeat the share of its requests that failed, all of them where the
repeat itself did. More failures than may be are *worse* where an exact test over repeats says so, else not settled;
they are never fine. Nor is a cell that was measured before and is not now.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Literal

from zinc_kettle.core.compare.duel import Duel, duel
from zinc_kettle.core.compare.sides import Side, Unpaired
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.results import CellResults
from zinc_kettle.core.run.precision import looks
from zinc_kettle.core.stats import Interval
from zinc_kettle.core.stats.ratios import ALPHA, one_sided

if TYPE_CHECKING:
    import numpy as np
    import numpy.typing as npt

GateVerdict = Literal["worse", "fine", "open", "failed"]
"""`failed`: a cell of the new side could not be measured."""
WORSE_THAN = 0.03
"""What may be lost where nobody says more."""
GROWTH = 1.5
"""Each look has so many times the repeats of the one before."""
MORE_FAILURES = 0.01
"""How much the share of failed requests may grow where nobody says more."""
ARRANGEMENTS = 9_999
"""Of repeats over the two sides, beyond which so many are drawn instead of all; the smallest p value is then 0.0001."""
LEAST, MOST = 0.001, 0.9
"""Shares that may be allowed to be lost."""


@dataclass(frozen=True, slots=True)
class Guarded:
    """One measure at the gate."""

    measure: str
    verdict: GateVerdict
    a: float | None = None
    """Of the old side."""
    b: float | None = None
    ratio: Interval | None = None
    """New over old."""
    loss: float | None = None
    """How much worse the new side is, as a share of the old one's figure; below zero where it is better."""
    low: float | None = None
    """The loss is more than this, but for the chance that *worse* may be wrong."""
    high: float | None = None
    """And less than this, but for the chance that *fine* may be wrong."""


@dataclass(frozen=True, slots=True)
class Failures:
    """What failed on both sides, as shares of requests over all repeats of the cells that have a counterpart."""

    verdict: GateVerdict
    a: float
    """Of the old side."""
    b: float
    repeats: tuple[int, int] = (0, 0)
    """On each side, failed ones included."""
    p: float = 1.0
    """The chance of so many more failures on the new side, were the two alike."""


@dataclass(frozen=True)
class Gate:
    """What came of a gate."""

    duel: Duel
    worse_than: float
    """What may be lost, as a share."""
    guarded: tuple[Guarded, ...]
    failed: tuple[CellResults, ...] = ()
    """Cells of the new side that could not be measured."""
    failures: Failures = field(default_factory=lambda: Failures("fine", 0.0, 0.0))
    missing: tuple[Unpaired, ...] = ()
    """Cells that were measured on the old side and have no counterpart on the new one."""
    more_failures: float = MORE_FAILURES
    """How much the share of failed requests may grow."""
    look: int = 1
    looks: int = 1

    @property
    def verdict(self) -> GateVerdict:
        """Of all measures and of what failed: the worst of them; not settled where something is missing."""
        found = {g.verdict for g in self.guarded} | {self.failures.verdict} | ({"open"} if self.missing else set())
        if self.failed:
            return "failed"
        return "worse" if "worse" in found else "open" if "open" in found or not self.guarded else "fine"


def planned_looks(floor: int, most: int) -> tuple[int, ...]:
    """Numbers of repeats after which the gate looks; the last is the most there may be."""
    return looks(max(1, floor), max(floor, most), GROWTH, carried=False)


def gate(
    old: Side,
    new: Side,
    measures: Sequence[str],
    *,
    worse_than: float = WORSE_THAN,
    look: int = 1,
    planned: Sequence[int] = (1,),
    more_failures: float = MORE_FAILURES,
) -> Gate:
    """Hold a new side against an old one.

    Args:
        old: What must not be lost.
        new: What is to be let through.
        measures: What is guarded; each has a better.
        worse_than: What may be lost, as a share.
        look: Which of the planned looks this is, from 1.
        planned: Repeats at each planned look.
        more_failures: How much the share of failed requests may grow.

    Raises:
        ValueError: A measure has no better, or the share is none that can be lost.
    """
    if not LEAST <= worse_than <= MOST:
        raise ValueError(f"{worse_than} is no share that may be lost")
    if any(MEASURES[name].better == "neither" for name in measures):
        raise ValueError("a measure has no better")
    found = duel(old, new, measures)
    alpha = ALPHA * planned[look - 1] / sum(planned)
    guarded = tuple(_guarded(found, name, worse_than, alpha, alpha / len(measures)) for name in measures)
    failed = tuple(c for c in new.cells() if c.state == "failed")
    missing = tuple(u for u in found.alignment.without if u.cell.done)
    failures = _failures(found, more_failures, alpha)
    return Gate(found, worse_than, guarded, failed, failures, missing, more_failures, look, len(planned))


def _failures(found: Duel, more: float, alpha: float) -> Failures:
    """Whether more fails than may, by the shares of each repeat."""
    old = [s for pair in found.alignment.pairs for s in failed_shares(pair.a)]
    new = [s for pair in found.alignment.pairs for s in failed_shares(pair.b)]
    return held_failures(old, new, more, alpha)


def held_failures(old: Sequence[float], new: Sequence[float], more: float, alpha: float) -> Failures:
    """Whether more fails than may.

    Args:
        old: Of each repeat of the old side, the share of its requests that failed.
        new: The same of the new side.
        more: How much the mean share may grow.
        alpha: The chance that *worse* may be wrong.
    """
    if not old or not new:
        return Failures("open", 0.0, 0.0)
    a, b = sum(old) / len(old), sum(new) / len(new)
    counts = len(old), len(new)
    if b <= a + more:
        return Failures("fine", a, b, counts)
    p = _chance(new, [share + more for share in old])
    return Failures("worse" if p < alpha else "open", a, b, counts, p)


def failed_shares(cell: CellResults) -> list[float]:
    """Of each repeat of a cell the share of its measured requests that failed; 1 for a repeat that failed itself."""
    out = []
    for kept in cell.read_repeats():
        asked = [t for t in kept.repeat.timelines if t.role == "measured"]
        if kept.state == "failed":
            out.append(1.0)
        elif kept.state == "measured" and asked:
            out.append(sum(not t.usable for t in asked) / len(asked))
    return out


def _chance(new: Sequence[float], old: Sequence[float]) -> float:
    """The chance of a difference of means like this, were it by chance which repeats are the new side's: an exact
    permutation test (Pitman 1937), which needs no distribution and takes the requests of a repeat together."""
    import numpy as np
    from scipy import stats

    def difference(x: npt.NDArray[np.float64], y: npt.NDArray[np.float64], axis: int = -1) -> npt.NDArray[np.float64]:
        return np.asarray(np.mean(x, axis=axis) - np.mean(y, axis=axis))

    found = stats.permutation_test(
        (np.array(new), np.array(old)),
        difference,
        vectorized=True,
        n_resamples=ARRANGEMENTS,
        alternative="greater",
        rng=np.random.default_rng(len(new) + len(old)),
    )
    return float(found.pvalue)


def _guarded(found: Duel, name: str, worse_than: float, fine_alpha: float, worse_alpha: float) -> Guarded:
    contest = found.contest(name)
    if contest is None or contest.ratio is None:
        return Guarded(name, "open", *((None, None) if contest is None else (contest.a, contest.b)))
    ratio, more = contest.ratio, MEASURES[name].better == "more"
    loss = _loss(ratio.value, more=more)
    if ratio.bound != "interval95":
        return Guarded(name, "open", contest.a, contest.b, ratio, loss)
    wide, narrow = one_sided(ratio, worse_alpha), one_sided(ratio, fine_alpha)
    # Of a speed the loss is least where the ratio is highest.
    low, high = _loss(wide[1 if more else 0], more=more), _loss(narrow[0 if more else 1], more=more)
    verdict: GateVerdict = "worse" if low > worse_than else "fine" if high <= worse_than else "open"
    return Guarded(name, verdict, contest.a, contest.b, ratio, loss, low, high)


def _loss(ratio: float, *, more: bool) -> float:
    return 1 - ratio if more else ratio - 1
