"""One cell: its repeats drawn together into values with bounds."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from zinc_kettle.core.catalogue import MEASURES
from zinc_kettle.core.family import depth_fall
from zinc_kettle.core.measures import first_output_s, latency_s, repeat_figures
from zinc_kettle.core.repeat import Figure, Missing, Repeat
from zinc_kettle.core.stats import median_interval, quantile, robust_spread, thin
from zinc_kettle.core.stats.interval import Bound, pooled_quantile_interval
from zinc_kettle.core.timeline import Timeline
from zinc_kettle.core.units import NS_PER_S

GAP_QUANTILES = {"gap_p50": 0.50, "gap_p95": 0.95, "gap_p99": 0.99}
REQUEST_QUANTILES: dict[str, tuple[Callable[[Timeline], float | None], float]] = {
    "ttft_p95": (first_output_s, 0.95), "ttft_p99": (first_output_s, 0.99),
    "latency_p95": (latency_s, 0.95), "latency_p99": (latency_s, 0.99),
}  # fmt: skip
"""Percentiles over the requests of all repeats, pooled."""


@dataclass(frozen=True, slots=True)
class Value:
    """A headline with its bounds."""

    value: float
    low: float
    high: float
    bound: Bound
    n: int
    """Repeats behind it; for the load time launches, for percentiles of requests requests."""
    unit: str
    of: str = "repeats"
    """What `n` counts."""
    thin: bool = False
    """True for a percentile with fewer than ten requests beyond it."""


CellFigure = Value | Missing


def cell_values(repeats: Sequence[Repeat], *, seed: int = 0) -> dict[str, CellFigure]:
    """Every measure of a cell: median over repeats with interval or range; a reason where it cannot be had.

    Args:
        repeats: Finished repeats, in the order they ran.
        seed: Seed of the resampling, so that the same repeats give the same bounds.
    """
    each = [repeat_figures(repeat) for repeat in repeats]
    return {name: _value(repeats, each, name, seed) for name in MEASURES}


def single_value(repeats: Sequence[Repeat], name: str, *, seed: int = 0) -> CellFigure:
    """One measure of a cell, for screens that show one at a time.

    Raises:
        KeyError: No such measure.
    """
    return _value(repeats, [repeat_figures(repeat) for repeat in repeats], name, seed)


def _value(repeats: Sequence[Repeat], each: list[dict[str, Figure]], name: str, seed: int) -> CellFigure:
    if name in GAP_QUANTILES:
        return _gap(repeats, GAP_QUANTILES[name], seed)
    if name in REQUEST_QUANTILES:
        return _request_quantile(repeats, *REQUEST_QUANTILES[name], seed)
    if name == "depth_loss":
        return _depth_loss(repeats)
    if name == "load_time":
        return _load_time(repeats, seed)
    if name == "spread":
        return _spread([f["decode"] for f in each if "decode" in f])
    return _over_repeats([f[name] for f in each if name in f], MEASURES[name].unit, seed)


def numbers(figures: Sequence[Figure]) -> list[float]:
    """The figures that are there."""
    return [f for f in figures if not isinstance(f, Missing)]


def per_repeat(repeats: Sequence[Repeat], name: str) -> list[float]:
    """One measure of each repeat that has it, in order."""
    return numbers([f[name] for f in (repeat_figures(r) for r in repeats) if name in f])


def series(repeats: Sequence[Repeat], name: str) -> list[float]:
    """One measure of each repeat, also of those measures that are drawn from launches or pooled gaps."""
    if name == "load_time":
        return _loads(repeats)
    if name in GAP_QUANTILES:
        groups = [[t.chunk_gaps_ns / NS_PER_S for t in r.measured if len(t.stamps) > 1] for r in repeats]
        return [float(np.quantile(np.concatenate(g), GAP_QUANTILES[name])) for g in groups if g]
    if name in REQUEST_QUANTILES:
        of, p = REQUEST_QUANTILES[name]
        pools = [[v for t in r.measured if (v := of(t)) is not None] for r in repeats]
        return [quantile(pool, p) for pool in pools if pool]
    return per_repeat(repeats, name)


def _request_quantile(
    repeats: Sequence[Repeat], value: Callable[[Timeline], float | None], p: float, seed: int
) -> CellFigure:
    groups = [np.array([v for t in r.measured if (v := value(t)) is not None], dtype=np.float64) for r in repeats]
    groups = [g for g in groups if len(g)]
    count = sum(len(g) for g in groups)
    if not count:
        return Missing("no request was answered" if repeats else "nothing was measured")
    # Within one repeat requests are all there is to resample; they are then taken to be independent.
    of = "requests" if len(groups) == 1 else "repeats"
    if len(groups) == 1:
        groups = [groups[0][i : i + 1] for i in range(count)]
    i = pooled_quantile_interval(groups, p, seed=seed)
    return Value(i.value, i.low, i.high, i.bound, i.n, "s", of, thin(count, p))


def _depth_loss(repeats: Sequence[Repeat]) -> CellFigure:
    fall = depth_fall([t for r in repeats for t in r.measured])
    if isinstance(fall, Missing):
        return fall
    return Value(fall.loss, fall.loss_low, fall.loss_high, "interval95", len(repeats), "share")


def _loads(repeats: Sequence[Repeat]) -> list[float]:
    loads = {r.launch.launch_id: r.launch.load_ns for r in repeats if r.launch is not None}
    return [ns / NS_PER_S for ns in loads.values() if ns is not None]


def _over_repeats(figures: Sequence[Figure], unit: str, seed: int) -> CellFigure:
    values = numbers(figures)
    if not values:
        reasons = [f for f in figures if isinstance(f, Missing)]
        return reasons[0] if reasons else Missing("nothing was measured")
    i = median_interval(values, seed=seed)
    return Value(i.value, i.low, i.high, i.bound, i.n, unit)


def _spread(figures: Sequence[Figure]) -> CellFigure:
    values = numbers(figures)
    spread = robust_spread(values)
    if spread is None:
        return Missing("a spread wants two or more repeats")
    return Value(spread, spread, spread, "range", len(values), "share")


def _load_time(repeats: Sequence[Repeat], seed: int) -> CellFigure:
    seconds = _loads(repeats)
    if not seconds:
        return Missing("the engine was not started by this tool" if repeats else "nothing was measured")
    i = median_interval(seconds, seed=seed)
    return Value(i.value, i.low, i.high, i.bound, i.n, "s", "launches")


def _gap(repeats: Sequence[Repeat], p: float, seed: int) -> CellFigure:
    by_repeat = [[t.chunk_gaps_ns / NS_PER_S for t in r.measured if len(t.stamps) > 1] for r in repeats]
    groups: list[npt.NDArray[np.float64]]
    groups = by_repeat[0] if len(repeats) == 1 else [np.concatenate(gaps) for gaps in by_repeat if gaps]
    if not groups:
        return Missing("no answer had more than one output chunk" if repeats else "nothing was measured")
    i = pooled_quantile_interval(groups, p, seed=seed)
    return Value(i.value, i.low, i.high, i.bound, i.n, "s", "requests" if len(repeats) == 1 else "repeats",
                 thin(sum(len(g) for g in groups), p))  # fmt: skip
