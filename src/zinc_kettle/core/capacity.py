"""The largest load that keeps a promise: a search that spends few steps, and what it found, with an interval.

Each step measures one load. Of each limit (first output, pace) it has the logarithm of the percentile over the limit:
below 0 the limit is kept. The search brackets the place where the first limit breaks, by doubling or halving, then goes
to where a line through the nearest steps crosses 0. A step counts by its own noise and by what a line misses at its
distance, so that far steps lead the way and near ones decide. It ends when the interval is as narrow as was asked, when
no whole load lies between the last that kept the promise and the first that broke it, or when the steps are used up.
The interval is from drawing the steps again within their noise, by Student's t; docs/claims.md has how often it holds.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
import numpy.typing as npt

from zinc_kettle.core.factors import Level
from zinc_kettle.core.measures.traffic import first_output_s, in_one_piece
from zinc_kettle.core.plan import Cell, Study
from zinc_kettle.core.repeat import Repeat
from zinc_kettle.core.results import CellResults, KeptRepeat, StudyResults
from zinc_kettle.core.schedule import LOOKING, Decision, DecisionKind, Schedule
from zinc_kettle.core.stats import quantile
from zinc_kettle.core.timeline import Timeline
from zinc_kettle.core.traffic import CapacitySearch, Promise
from zinc_kettle.core.units import NS_PER_S

Limit = Literal["ttft", "tpot", "failures"]
WORDS: dict[Limit, str] = {"ttft": "the first output", "tpot": "the pace", "failures": "failed requests"}
End = Literal["", "narrow", "neighbours", "steps", "most", "least"]
"""Why a search ended: its interval is as narrow as asked; no whole load lies between kept and broken; all steps are
used; the largest load that may be tried still keeps the promise; the smallest breaks it. Empty while it goes on."""
CURVE = 2.0
"""What a line misses: so many times the square of the distance in the logarithm of the load."""
LEAST_NOISE = 0.002
"""Of a step whose repeats happen to agree."""
DRAWS = 2_000
LEAST_STEPS = 3
NEAR = 0.25
"""Steps whose load is as near as this, in the logarithm, tell how much a repeat scatters there."""


@dataclass(frozen=True)
class Trial:
    """What one load came to."""

    load: float
    over: Mapping[Limit, float]
    """Logarithm of the percentile over its limit, of each limit that is promised; 0 is just kept."""
    spread: Mapping[Limit, float]
    """Standard deviation of the same between repeats."""
    repeats: int
    failed: float
    """Share of the requests that failed."""

    def broken(self, promise: Promise) -> bool:
        """True where the promise was not kept."""
        return self.failed * 100 > promise.failures_percent or any(v > 0 for v in self.over.values())


@dataclass(frozen=True)
class Found:
    """How far a search is, or what it found."""

    trials: tuple[Trial, ...] = ()
    end: End = ""
    load: float | None = None
    """The largest load that keeps the promise; None where nothing can be said, or even the smallest breaks it."""
    low: float | None = None
    high: float | None = None
    first: Limit | None = None
    """The limit that breaks first."""
    next_load: int | None = None
    """What to measure next; None where the search has ended."""
    again: bool = False
    """True where that load was measured before, and is to be measured again."""


def trial_of(load: float, repeats: Sequence[Repeat], promise: Promise, *, lost: int = 0) -> Trial | None:
    """What the repeats of a load came to; None where nothing is known of it, or not how a promised pace was kept.

    Args:
        load: Streams, or requests per minute.
        repeats: Those that count.
        promise: What was promised.
        lost: Repeats that failed as a whole: a load of which no repeat can be measured breaks any promise.
    """
    asked = [t for r in repeats for t in r.timelines if t.role == "measured"]
    if not any(r.measured for r in repeats):
        return Trial(load, {}, {}, lost, 1.0) if lost else None
    over: dict[Limit, float] = {}
    spread: dict[Limit, float] = {}
    p = promise.percentile / 100
    for limit, allowed in (("ttft", promise.ttft_s), ("tpot", promise.tpot_s)):
        if allowed is None:
            continue
        each = [values for r in repeats if (values := _values(in_full_load(r), limit))]
        if each:
            logs = [math.log(quantile(values, p) / allowed) for values in each]
            over[limit] = math.log(quantile([v for values in each for v in values], p) / allowed)  # type: ignore[index]
            spread[limit] = float(np.std(logs, ddof=1)) if len(logs) > 1 else math.nan  # type: ignore[index]
    if promise.tpot_s is not None and any(in_one_piece(t) for r in repeats for t in r.measured):
        return None
    failed = sum(1 for t in asked if not t.usable) / len(asked)
    return Trial(load, over, spread, len(repeats), failed)


FILLING, DRAINING = 0.25, 0.1
"""Of an open loop's requests, the first of which meet an engine whose queue is still filling, and the last of which
have no others behind them."""


def in_full_load(repeat: Repeat) -> list[Timeline]:
    """The requests of a repeat that met the load as it is in the long run.

    Of a closed loop without the first request of each stream, which all came at once, and without the last ones, beside
    which streams had nothing left to send; of an open loop without its beginning and its end. All of them, where that
    would leave fewer than half of the streams' number.
    """
    there = sorted((t for t in repeat.measured), key=lambda t: t.wanted_ns)
    many = len(there)
    if repeat.open_loop:
        return there[math.ceil(many * FILLING) : many - math.ceil(many * DRAINING)] or there
    wave = repeat.concurrency
    return there[wave : many - wave] if many - 2 * wave >= max(1, wave / 2) else there


def _values(requests: Iterable[Timeline], limit: str) -> list[float]:
    if limit == "ttft":
        found = (first_output_s(t) for t in requests)
        return [v for v in found if v is not None and v > 0]
    return [t.decode_ns / t.decode_tokens / NS_PER_S for t in requests if t.decode_ns > 0 and t.decode_tokens > 0]


def search(trials: Sequence[Trial], plan: CapacitySearch, promise: Promise) -> Found:
    """How far a search is after these steps, and what it is to measure next.

    Args:
        trials: One for each load that was measured, in any order.
        plan: How far to look, and how narrow the answer is to be.
        promise: What was promised.
    """
    ordered = tuple(sorted(trials, key=lambda t: t.load))
    if not ordered:
        return Found()
    broken = [t for t in ordered if t.broken(promise)]
    kept = [t for t in ordered if not t.broken(promise) and (not broken or t.load < broken[0].load)]
    spent = sum(_times(t, ordered) for t in ordered)
    if not broken:
        return _beyond(ordered, plan, spent)
    if not kept:
        return _below(ordered, broken[0], promise, spent, plan)
    return _between(ordered, kept[-1], broken[0], plan, promise, spent)


def _times(trial: Trial, trials: Sequence[Trial]) -> int:
    """Steps a load took: one, and one more for each time it was measured again."""
    usual = min(t.repeats for t in trials)
    return max(1, trial.repeats // max(1, usual))


def _beyond(trials: tuple[Trial, ...], plan: CapacitySearch, spent: int) -> Found:
    """All loads so far keep the promise."""
    most = trials[-1].load
    if most >= plan.most:
        return Found(trials, "most", most, most, None)
    if spent >= plan.steps:
        return Found(trials, "steps", most, most, None)
    return Found(trials, "", most, most, None, next_load=min(plan.most, int(2 * most)))


def _below(trials: tuple[Trial, ...], first: Trial, promise: Promise, spent: int, plan: CapacitySearch) -> Found:
    """Even the smallest load so far breaks the promise."""
    limit = _worst(first, promise)
    if first.load <= 1:
        return Found(trials, "least", None, 0.0, 1.0, limit)
    if spent >= plan.steps:
        return Found(trials, "steps", None, 0.0, first.load, limit)
    return Found(trials, "", None, 0.0, first.load, limit, next_load=max(1, int(first.load // 2)))


def _worst(trial: Trial, promise: Promise) -> Limit:
    if trial.failed * 100 > promise.failures_percent:
        return "failures"
    return max(trial.over, key=lambda limit: trial.over[limit])


def _between(
    trials: tuple[Trial, ...], kept: Trial, broken: Trial, plan: CapacitySearch, promise: Promise, spent: int
) -> Found:
    """The place is bracketed: say where it is, and go there."""
    load, low, high, limit = _crossing(trials, kept, broken, promise)
    narrow = max(high - load, load - low) <= plan.within_percent / 100 * load
    found = Found(trials, "", load, low, high, limit)
    if narrow and len(trials) >= LEAST_STEPS and broken.load / kept.load <= 1 + 4 * plan.within_percent / 100:
        return _ended(found, "narrow")
    neighbours = broken.load - kept.load <= 1
    if neighbours and (narrow or high - low <= 2):
        return _ended(found, "neighbours")
    if spent >= plan.steps:
        return _ended(found, "steps")
    wanted = _wanted(load, kept.load, broken.load, {t.load for t in trials})
    return Found(trials, "", load, low, high, limit, wanted, again=wanted in {int(t.load) for t in trials})


def _ended(found: Found, end: End) -> Found:
    return Found(found.trials, end, found.load, found.low, found.high, found.first)


def _wanted(load: float, kept: float, broken: float, known: set[float]) -> int:
    """The whole load to measure next: where the crossing is thought to be, a little inside the bracket, and new where
    there is a new one near it."""
    if broken / kept > 1.5:  # far apart: the line is a guess, so stay off the ends
        load = min(max(load, kept * (broken / kept) ** 0.2), broken / (broken / kept) ** 0.2)
    at = round(load)
    near = sorted(
        range(max(1, math.floor(min(kept, load))), math.ceil(max(broken, load)) + 1), key=lambda v: abs(v - at)
    )
    new = [v for v in near if float(v) not in known and abs(v - load) <= max(1.0, 0.1 * load)]
    return new[0] if new else (at if float(at) in known else int(min(known, key=lambda v: abs(v - load))))


def _crossing(
    trials: Sequence[Trial], kept: Trial, broken: Trial, promise: Promise
) -> tuple[float, float, float, Limit]:
    """Where the first limit breaks, its 95% interval, and which limit that is."""
    found: dict[Limit, npt.NDArray[np.float64]] = {}
    limits = {limit for t in trials for limit in t.over}
    for limit in sorted(limits):
        roots = _roots([t for t in trials if limit in t.over], limit, math.log(kept.load), math.log(broken.load))
        if roots is not None:
            found[limit] = roots
    if not found:  # it is the failures that break it: nothing to interpolate
        return math.sqrt(kept.load * broken.load), kept.load, broken.load, _worst(broken, promise)
    first = min(found, key=lambda limit: float(found[limit][0]))
    together = np.min(np.stack(list(found.values())), axis=0)
    low, high = np.quantile(together[1:], [0.025, 0.975])
    return float(np.exp(together[0])), float(np.exp(low)), float(np.exp(high)), first


def _roots(trials: Sequence[Trial], limit: Limit, low: float, high: float) -> npt.NDArray[np.float64] | None:
    """Where a line through the nearest steps crosses 0, in the logarithm of the load; then the same of steps drawn
    again within their noise. None where the limit is far from breaking.
    """
    x = np.log([t.load for t in trials])
    y = np.array([t.over[limit] for t in trials])
    if len(x) < 2 or y.max() <= 0:
        return None
    at = (low + high) / 2
    for _ in range(8):
        noise, df = _noise(trials, limit, math.exp(at))
        error = np.array([noise / math.sqrt(t.repeats) for t in trials])
        weight = 1 / (error**2 + (CURVE * (x - at) ** 2) ** 2)
        root = float(_line_roots(x, y[None, :], weight, low, high)[0])
        if abs(root - at) < 1e-4:
            break
        at = root
    from scipy import special

    # Steps drawn again: their own noise, and what a line misses of them.
    rng = np.random.default_rng(12345)
    wide = float(special.stdtrit(max(1.0, df), 0.975)) / 1.959964
    scale = np.sqrt(error**2 + (CURVE * (x - at) ** 2 / 2) ** 2) * wide
    drawn = y + rng.normal(0.0, 1.0, (DRAWS, len(x))) * scale
    return np.concatenate([[root], _line_roots(x, drawn, weight, low - 1.0, high + 1.0)])


def _line_roots(
    x: npt.NDArray[np.float64], y: npt.NDArray[np.float64], weight: npt.NDArray[np.float64], low: float, high: float
) -> npt.NDArray[np.float64]:
    """Where weighted lines cross 0, kept within bounds; shape (draws,) of y of shape (draws, steps)."""
    total = weight.sum()
    mx, my = (weight * x).sum() / total, (weight * y).sum(axis=1) / total
    slope = (weight * (x - mx) * y).sum(axis=1) / (weight * (x - mx) ** 2).sum()
    with np.errstate(divide="ignore", invalid="ignore"):
        root = np.where(slope > 1e-9, mx - my / np.where(slope > 1e-9, slope, 1.0), np.where(my > 0, low, high))
    return np.clip(root, low, high)


def _noise(trials: Sequence[Trial], limit: Limit, at: float) -> tuple[float, float]:
    """How much the percentile of a repeat scatters near a load, and with how many degrees of freedom.

    Waits scatter the more, the nearer the engine is to its limit: only steps near the place tell, where there are any.
    """
    told = [(t.spread[limit], t.repeats - 1, abs(math.log(t.load / at))) for t in trials
            if not math.isnan(t.spread[limit])]  # fmt: skip
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


def capacities(results: StudyResults) -> dict[str, Found]:
    """What each search of a study found, by the levels its cells share; empty for a study without one.

    Reads the requests of its cells; kept while none changes.
    """
    if not results.study.capacity.factor:
        return {}
    return results.once("capacities", lambda: {name: _found(results, cells) for name, cells in groups(results).items()})


def _found(results: StudyResults, cells: Sequence[CellResults]) -> Found:
    study = results.study
    tried = [(c, float(c.cell.levels[study.capacity.factor])) for c in cells if c.done or c.kept.failed]
    trials = [_trial(load, c.kept_repeats, study.promise) for c, load in tried]
    return search([t for t in trials if t is not None], study.capacity, study.promise)


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
    wanted: dict[tuple[tuple[str, Level], ...], Found] = {}
    for rest, cells in by_rest.items():
        known = {c.levels[factor]: load(c.key) for c in cells if c.key not in schedule.skipped}
        trials = [t for level, kept in known.items() if (t := _trial(float(level), kept, study.promise)) is not None]
        found = search(trials, plan, study.promise)
        if found.next_load is not None:
            wanted[rest] = found
    return _entered(study, by_rest, wanted, at_s)


def _trial(load: float, kept: Sequence[KeptRepeat], promise: Promise) -> Trial | None:
    measured = [r.repeat for r in kept if r.state == "measured"]
    return trial_of(load, measured, promise, lost=sum(1 for r in kept if r.state == "failed"))


def _entered(
    study: Study, by_rest: Mapping[tuple[tuple[str, Level], ...], Sequence[Cell]],
    wanted: Mapping[tuple[tuple[str, Level], ...], Found], at_s: float,
) -> list[Decision]:  # fmt: skip
    """The decisions for what is wanted: loads that are new, loads to be measured again, and where a load is not."""
    factor = study.capacity.factor
    out: list[Decision] = []
    asked = {found.next_load for found in wanted.values() if found.next_load is not None}
    new = sorted(level for level in asked if level not in study.vary[factor])
    out += [Decision("add-level", at_s, {factor: level}, text=LOOKING) for level in new]
    for rest in by_rest:
        mine = wanted.get(rest)
        level = None if mine is None else mine.next_load
        others = [other for other in new if other != level]
        out += [Decision("skip", at_s, {**dict(rest), factor: other}, text=LOOKING) for other in others]
        if mine is not None and level is not None and level not in new:
            # Known to another combination, or measured before.
            kind: DecisionKind = "more" if mine.again else "restore"
            count = study.repeats.count if mine.again else 0
            out.append(Decision(kind, at_s, {**dict(rest), factor: level}, count=count, text=LOOKING))
    return out
