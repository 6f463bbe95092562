"""The largest load that keeps a promise: a search that spends few steps, and what it found, with an interval.

Each step measures one load. Of each limit (first output, pace) it has the logarithm of the percentile over the limit:
below 0 the limit is kept. The search brackets the place where the first limit breaks, by doubling or halving, then goes
to where a line through the nearest steps crosses 0. A step counts by its own noise and by what a line misses at its
distance, so that far steps lead the way and near ones decide.

The line only leads. The interval goes from the largest load that was surely seen to keep the promise to the smallest
that was surely seen to break it: between two loads it may break anywhere, smoothly or at a jump. Both of these are
measured again at a later time before the search ends, so that a slow minute decides nothing; docs/verdicts.md has how
often that holds.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
import numpy.typing as npt

from zinc_kettle.core.plan.factors import Level
from zinc_kettle.core.plan.study import Cell, Study
from zinc_kettle.core.plan.traffic import CapacitySearch, Promise
from zinc_kettle.core.record.repeat import Repeat
from zinc_kettle.core.results import CellResults, KeptRepeat, StudyResults
from zinc_kettle.core.run.decisions import AddLevel, Decision, More, Restore, Skip
from zinc_kettle.core.run.schedule import Schedule
from zinc_kettle.core.search.trial import VISITS, Limit, Trial, trial_of

WORDS: dict[Limit, str] = {"ttft": "the first output", "tpot": "the pace", "failures": "failed requests"}
End = Literal["", "narrow", "neighbours", "steps", "most", "least", "in-one-piece"]
"""Why a search ended: its interval is as narrow as asked; no whole load lies between kept and broken; all steps are
used; the largest load that may be tried still keeps the promise; the smallest breaks it; at a load that it needs,
answers came in one piece, which have no pace. Empty while it goes on."""
UNSETTLED: frozenset[End] = frozenset({"", "steps", "in-one-piece"})
CURVE = 2.0
"""What a line misses: so many times the square of the distance in the logarithm of the load."""
LEAST_NOISE = 0.002
"""Of a step whose repeats happen to agree."""
SURE = 0.9875
"""One-sided, of each step: an end of the interval rests on two."""
OFF = 0.4
"""Of a bracket, in the logarithm: no step goes nearer to its ends, since a jump may be anywhere; halving it, at 0.5,
would spend more steps where the curve is smooth."""
NEAR = 0.25
"""Steps whose load is as near as this, in the logarithm, tell how much a repeat scatters there."""


@dataclass(frozen=True)
class CapacityResult:
    """How far a search is, or what it found."""

    trials: tuple[Trial, ...] = ()
    end: End = ""
    load: float | None = None
    """The largest load that keeps the promise; None where nothing can be said, or even the smallest breaks it."""
    low: float | None = None
    """The largest load that was surely seen to keep it; 0 where none was."""
    high: float | None = None
    """The smallest that was surely seen to break it; None where none was."""
    first: Limit | None = None
    """The limit that breaks first."""
    next_load: int | None = None
    """What to measure next; None where the search has ended."""
    again: bool = False
    """True where that load was measured before, and is to be measured again."""


def search(trials: Sequence[Trial], plan: CapacitySearch, promise: Promise) -> CapacityResult:
    """How far a search is after these steps, and what it is to measure next.

    Args:
        trials: One for each load that was measured, in any order.
        plan: How far to look, and how narrow the answer is to be.
        promise: What was promised.
    """
    ordered = tuple(sorted(trials, key=lambda t: t.load))
    if not ordered:
        return CapacityResult()
    broken = [t for t in ordered if t.broken(promise)]
    kept = [t for t in ordered if not t.broken(promise) and (not broken or t.load < broken[0].load)]
    left = plan.steps - sum((1 + max(1, len(t.visits))) / 2 for t in ordered)
    if not broken:
        return _beyond(ordered, plan, promise, left)
    if not kept:
        return _below(ordered, broken[0], plan, promise, left)
    return _between(ordered, kept[-1], broken[0], plan, promise, left)


StepVerdict = Literal["kept", "broken", "open"]


def standing(trial: Trial, trials: Sequence[Trial], promise: Promise) -> StepVerdict:
    """What a step was surely seen to do, by its noise and by every time it was measured, but one of three and more."""
    if trial.failed * 100 > promise.failures_percent:
        return "broken"
    sides = [_side(trial, trials, limit) for limit in trial.over]
    if "broken" in sides:
        return "broken"
    return "kept" if sides and not trial.thin and all(side == "kept" for side in sides) else "open"


def _side(trial: Trial, trials: Sequence[Trial], limit: Limit) -> StepVerdict:
    from scipy import special

    over = trial.over[limit]
    noise, df = _noise(trials, limit, trial.load)
    if abs(over) <= noise / math.sqrt(trial.repeats) * float(special.stdtrit(df, SURE)):
        return "open"
    told = [visit[limit] for visit in trial.visits if limit in visit]
    others = sum(1 for value in told if value * over <= 0)
    return "open" if others > (len(told) > VISITS) else "broken" if over > 0 else "kept"


def _beyond(trials: tuple[Trial, ...], plan: CapacitySearch, promise: Promise, left: float) -> CapacityResult:
    """All loads so far keep the promise."""
    last = trials[-1]
    most = last.load
    sure = standing(last, trials, promise) == "kept"
    if most >= plan.most and sure:
        return CapacityResult(trials, "most", most, most, None)
    low = most if sure else 0.0
    if left <= 0:
        return CapacityResult(trials, "steps", most, low, None)
    wanted = min(plan.most, int(2 * most))
    return CapacityResult(trials, "", most, low, None, next_load=wanted, again=wanted == most)


def _below(
    trials: tuple[Trial, ...], first: Trial, plan: CapacitySearch, promise: Promise, left: float
) -> CapacityResult:
    """Even the smallest load so far breaks the promise."""
    limit, sure = _worst(first, promise), standing(first, trials, promise) == "broken"
    if first.load <= 1 and sure:
        return CapacityResult(trials, "least", None, 0.0, 1.0, limit)
    if left <= 0:
        return CapacityResult(trials, "steps", None, 0.0, first.load, limit)
    wanted = max(1, int(first.load // 2))
    return CapacityResult(trials, "", None, 0.0, first.load, limit, next_load=wanted, again=wanted == first.load)


def _worst(trial: Trial, promise: Promise) -> Limit:
    if trial.failed * 100 > promise.failures_percent:
        return "failures"
    return max(trial.over, key=lambda limit: trial.over[limit])


def _between(
    trials: tuple[Trial, ...], kept: Trial, broken: Trial, plan: CapacitySearch, promise: Promise, left: float
) -> CapacityResult:
    """The place is bracketed: say between which loads it surely is, and go where that gets narrower."""
    guess, limit = _crossing(trials, kept, broken, promise)
    sides = [(t, standing(t, trials, promise)) for t in trials]
    below, above = _ends(sides)
    low, high = (below[-1].load if below else 0.0), (above[-1].load if above else None)
    load = min(max(guess, low), guess if high is None else high)
    found = CapacityResult(trials, "", load, low, high, limit)
    wide = plan.within_percent / 100 * load
    if _near(load, low, high, wide):
        return replace(found, end="narrow" if high is not None and high - low > 1 else "neighbours")
    if left <= 0:
        return replace(found, end="steps")
    known = {t.load for t in trials}
    first, last = (side[0] if side else None for side in _ends(sides, visits=1))
    inner = (first.load if first else 0.0), (last.load if last else None)
    if broken.load / kept.load > 1 + 2 * plan.within_percent / 100 and broken.load - kept.load > 1:
        wanted = _wanted(load, kept.load, broken.load, known)
    elif _near(load, *inner, wide):
        # Seen once: again, but not the one that has just been measured.
        once = [t for t in (first, last) if t is not None and t.load not in {low, high}]
        wanted = int(min(once, key=lambda t: t.at_ns).load)
    else:
        wanted = _closer(load, *inner, wide, trials)
    return replace(found, next_load=wanted, again=float(wanted) in known)


def _near(load: float, low: float, high: float | None, wide: float) -> bool:
    """True where both ends are as near as is asked for, or no whole load lies between them."""
    return high is not None and (high - low <= 1 or (load - low <= wide and high - load <= wide))


def _ends(
    sides: Sequence[tuple[Trial, StepVerdict]], visits: int = VISITS
) -> tuple[tuple[Trial, ...], tuple[Trial, ...]]:
    """The largest loads that surely keep the promise, and the smallest that surely break it, as many of them as were
    measured so often together: what keeps it under more load keeps it under less. Where the two are the wrong way
    round, the next ones beyond both; empty where there are none.
    """
    kept, broken = ([t for t, side in sides if side == wanted] for wanted in ("kept", "broken"))
    most = max((t.load for t in kept), default=0.0)
    least = min((t.load for t in broken), default=math.inf)
    return (
        _so_often([t for t in reversed(kept) if t.load < least], visits),
        _so_often([t for t in broken if t.load > most], visits),
    )


def _so_often(trials: Sequence[Trial], visits: int) -> tuple[Trial, ...]:
    seen = 0
    for i, trial in enumerate(trials):
        seen += max(1, len(trial.visits))
        if seen >= visits:
            return tuple(trials[: i + 1])
    return ()


def _closer(load: float, low: float, high: float | None, wide: float, trials: Sequence[Trial]) -> int:
    """The whole load that would bring the farther end of the interval near: as far off as is asked for."""
    times = {t.load: max(1, len(t.visits)) for t in trials}
    under = high is not None and load - low > high - load
    aim = math.ceil(load - wide) if under else math.floor(load + wide)
    inside = range(math.floor(low) + 1, math.ceil(high if high is not None else load + wide + 1))
    mine = [v for v in inside if (v <= load if under else v >= load)] or list(inside) or [max(1, round(load))]
    # What was measured often is told by no further visit.
    return min(mine, key=lambda v: (abs(v - aim) + wide * times.get(float(v), 0), v))


def _wanted(load: float, kept: float, broken: float, known: set[float]) -> int:
    """The whole load to measure next: where the crossing is thought to be, a little inside the bracket, and new where
    there is a new one near it."""
    # Far apart the line is a guess, and what breaks at a jump is anywhere: stay off the ends.
    load = min(max(load, kept * (broken / kept) ** OFF), broken / (broken / kept) ** OFF)
    at = round(load)
    near = sorted(
        range(max(1, math.floor(min(kept, load))), math.ceil(max(broken, load)) + 1), key=lambda v: abs(v - at)
    )
    new = [v for v in near if float(v) not in known and abs(v - load) <= max(1.0, 0.1 * load)]
    return new[0] if new else (at if float(at) in known else int(min(known, key=lambda v: abs(v - load))))


def _crossing(trials: Sequence[Trial], kept: Trial, broken: Trial, promise: Promise) -> tuple[float, Limit]:
    """Where the first limit breaks, as far as lines through the nearest steps tell, and which limit that is."""
    limits = sorted({limit for t in trials for limit in t.over})
    ends = math.log(kept.load), math.log(broken.load)
    found = {limit: root for limit in limits if (root := _root(trials, limit, *ends)) is not None}
    if not found:  # it is the failures that break it: nothing to interpolate
        return math.sqrt(kept.load * broken.load), _worst(broken, promise)
    first = min(found, key=lambda limit: found[limit])
    return math.exp(found[first]), first


def _root(trials: Sequence[Trial], limit: Limit, low: float, high: float) -> float | None:
    """Where a line through the nearest steps crosses 0, in the logarithm of the load; None where the limit is far from
    breaking."""
    told = [t for t in trials if limit in t.over]
    x = np.log([t.load for t in told])
    y = np.array([t.over[limit] for t in told])
    if len(x) < 2 or y.max() <= 0:
        return None
    at = (low + high) / 2
    for _ in range(8):
        noise, _df = _noise(told, limit, math.exp(at))
        error = np.array([noise / math.sqrt(t.repeats) for t in told])
        weight = 1 / (error**2 + (CURVE * (x - at) ** 2) ** 2)
        root = _line_root(x, y, weight, low, high)
        if abs(root - at) < 1e-4:
            break
        at = root
    return root


def _line_root(
    x: npt.NDArray[np.float64], y: npt.NDArray[np.float64], weight: npt.NDArray[np.float64], low: float, high: float
) -> float:
    """Where a weighted line crosses 0, kept within bounds."""
    total = weight.sum()
    mx, my = (weight * x).sum() / total, (weight * y).sum() / total
    slope = (weight * (x - mx) * y).sum() / (weight * (x - mx) ** 2).sum()
    root = mx - my / slope if slope > 1e-9 else low if my > 0 else high
    return float(min(max(root, low), high))


def _noise(trials: Sequence[Trial], limit: Limit, at: float) -> tuple[float, float]:
    """How much the percentile of a repeat scatters near a load, and with how many degrees of freedom.

    Waits scatter the more, the nearer the engine is to its limit: only steps near the place tell, where there are any.
    """
    told = [
        (t.spread[limit], t.repeats - 1, abs(math.log(t.load / at)))
        for t in trials
        if not math.isnan(t.spread.get(limit, math.nan))
    ]
    near = [row for row in told if row[2] <= NEAR] or told
    df = sum(d for _, d, _ in near)
    if not df:
        return 0.05, 1.0  # nothing is known of it: a usual value, with the widest interval
    return max(LEAST_NOISE, math.sqrt(sum(s**2 * d for s, d, _ in near) / df)), float(df)


# of a study
def groups(results: StudyResults) -> dict[str, list[CellResults]]:
    """The cells of each search of a study: equal but for their load."""
    factor = results.study.capacity.factor
    out: dict[str, list[CellResults]] = {}
    for cell in results.cells:
        rest = [cell.cell.factors[n].says(v) for n, v in cell.cell.levels.items() if n != factor]
        out.setdefault(" · ".join(rest), []).append(cell)
    return out


def capacities(results: StudyResults) -> dict[str, CapacityResult]:
    """What each search of a study found, by the levels its cells share; empty for a study without one.

    Reads the requests of its cells; kept while none changes.
    """
    if not results.study.capacity.factor:
        return {}
    return results.once("capacities", lambda: {name: _found(results, cells) for name, cells in groups(results).items()})


def _found(results: StudyResults, cells: Sequence[CellResults]) -> CapacityResult:
    study = results.study
    tried = [(c, float(c.cell.levels[study.capacity.factor])) for c in cells if c.done or c.kept.failed]
    trials = {load: _trial(load, c.kept_repeats, study) for c, load in tried}
    found = search([t for t in trials.values() if t is not None], study.capacity, study.promise)
    blind = {load for load, trial in trials.items() if trial is None}
    if found.next_load in blind or (blind and not found.trials):
        return replace(found, end="in-one-piece", next_load=None)
    return found


def next_decisions(
    study: Study, schedule: Schedule, load: Callable[[str], Sequence[KeptRepeat]], at_s: float
) -> list[Decision]:
    """What a search enters into the log of its run once all that was planned is measured; nothing where it has ended.

    A load is added for all combinations of the other factors, and left out where it is not needed.

    Args:
        study: With the levels there are.
        schedule: With the decisions so far.
        load: Reads all repeats of a cell.
        at_s: Now, in seconds since 1970.
    """
    factor, plan = study.capacity.factor, study.capacity
    by_rest: dict[tuple[tuple[str, Level], ...], list[Cell]] = {}
    for cell in study.cells:
        by_rest.setdefault(tuple((n, v) for n, v in cell.levels.items() if n != factor), []).append(cell)
    wanted: dict[tuple[tuple[str, Level], ...], CapacityResult] = {}
    for rest, cells in by_rest.items():
        known = {c.levels[factor]: load(c.key) for c in cells if c.key not in schedule.skipped}
        trials = [t for level, kept in known.items() if (t := _trial(float(level), kept, study)) is not None]
        found = search(trials, plan, study.promise)
        if found.next_load is not None:
            wanted[rest] = found
    return _entered(study, by_rest, wanted, at_s)


def _trial(load: float, kept: Sequence[KeptRepeat], study: Study) -> Trial | None:
    """What a load came to. Blocks of one visit follow each other; further visits have later ones."""
    visits: dict[int, list[Repeat]] = {}
    first = min((row.repeat.block for row in kept), default=0)
    for row in kept:
        if row.state == "measured":
            visits.setdefault((row.repeat.block - first) // max(1, study.repeats.count), []).append(row.repeat)
    lost = sum(1 for row in kept if row.state == "failed")
    return trial_of(load, list(visits.values()), study.promise, lost=lost)


def _entered(
    study: Study,
    by_rest: Mapping[tuple[tuple[str, Level], ...], Sequence[Cell]],
    wanted: Mapping[tuple[tuple[str, Level], ...], CapacityResult],
    at_s: float,
) -> list[Decision]:
    """The decisions for what is wanted: loads that are new, loads to be measured again, and where a load is not."""
    factor = study.capacity.factor
    out: list[Decision] = []
    asked = {found.next_load for found in wanted.values() if found.next_load is not None}
    new = sorted(level for level in asked if level not in study.vary[factor])
    out += [AddLevel(at_s, {factor: level}, by="search") for level in new]
    for rest in by_rest:
        mine = wanted.get(rest)
        level = None if mine is None else mine.next_load
        others = [other for other in new if other != level]
        out += [Skip(at_s, {**dict(rest), factor: other}, by="search") for other in others]
        if mine is not None and level is not None and level not in new:
            # Known to another combination, or measured before.
            meant = {**dict(rest), factor: level}
            more = More(at_s, meant, by="search", count=study.repeats.count)
            out.append(more if mine.again else Restore(at_s, meant, by="search"))
    return out
