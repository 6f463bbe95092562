"""A gate: is a new build worse than the old one by more than may be, told with known chances of being wrong.

Of each measure the loss is tested in both directions: *worse* where even its lower bound is beyond what may be, *fine*
where even its upper bound is within it (a test of non-inferiority: Blackwelder 1982), else it is *open*, and more
repeats may settle it. The 5% that *worse* may be wrong are divided among the measures (Dunn 1961), and those of both
verdicts among the planned looks in proportion to their repeats, as for questions that end a run early. That all
measures are fine needs no division: each has to be (Berger 1982).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from zinc_kettle.core.duel import Duel, duel
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.precision import looks
from zinc_kettle.core.results import CellResults
from zinc_kettle.core.sides import Side
from zinc_kettle.core.stats import Interval
from zinc_kettle.core.stats.ratios import ALPHA, one_sided

GateVerdict = Literal["worse", "fine", "open", "failed"]
"""`failed`: a cell of the new side could not be measured."""
WORSE_THAN = 0.03
"""What may be lost where nobody says more."""
GROWTH = 1.5
"""Each look has so many times the repeats of the one before."""
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


@dataclass(frozen=True)
class Gate:
    """What came of a gate."""

    duel: Duel
    worse_than: float
    """What may be lost, as a share."""
    guarded: tuple[Guarded, ...]
    failed: tuple[CellResults, ...] = ()
    """Cells of the new side that could not be measured."""
    look: int = 1
    looks: int = 1

    @property
    def verdict(self) -> GateVerdict:
        """Of all measures: the worst of them."""
        found = {g.verdict for g in self.guarded}
        if self.failed:
            return "failed"
        return "worse" if "worse" in found else "open" if "open" in found or not found else "fine"


def planned_looks(floor: int, most: int) -> tuple[int, ...]:
    """Numbers of repeats after which the gate looks; the last is the most there may be."""
    return looks(max(1, floor), max(floor, most), GROWTH, carried=False)


def gate(
    old: Side, new: Side, measures: Sequence[str], *, worse_than: float = WORSE_THAN, look: int = 1,
    planned: Sequence[int] = (1,),
) -> Gate:  # fmt: skip
    """Hold a new side against an old one.

    Args:
        old: What must not be lost.
        new: What is to be let through.
        measures: What is guarded; each has a better.
        worse_than: What may be lost, as a share.
        look: Which of the planned looks this is, from 1.
        planned: Repeats at each planned look.

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
    return Gate(found, worse_than, guarded, failed, look, len(planned))


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
