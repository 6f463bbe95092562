"""How often verdicts are wrong under noises that claims.py does not have: what drifts by step, two modes, what fails.

    python benchmarks/verdicts.py [TRIALS]

Figures are made by formulas of its own; what judges them is the tool's. Writes docs/verdicts.md.
"""

from __future__ import annotations

import math
import random
import sys
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
from scipy import special

from zinc_kettle.core.compare.gate import MORE_FAILURES, held_failures
from zinc_kettle.core.frontier import knee
from zinc_kettle.core.plan.traffic import CapacitySearch, Promise
from zinc_kettle.core.run.schedule import shuffled
from zinc_kettle.core.search.capacity import CapacityResult, search
from zinc_kettle.core.search.trial import Trial
from zinc_kettle.core.stats import fit_line
from zinc_kettle.core.stats.ratios import (
    ALPHA,
    allowing_for_runs,
    holm,
    paired_ratio,
    pairs_p,
    pooled_ratios,
    significantly_different,
    unpaired_ratio,
)
from zinc_kettle.core.stats.waves import waves

DOC = Path(__file__).parents[1] / "docs" / "verdicts.md"
TRIALS = 2_000
DRIFTS = (0.0, 0.002, 0.01)
"""By which share the machine gets slower with each step."""
SIGMA = 0.01
COUNTS = (3, 4, 6, 12)


def drifting(rng: np.random.Generator, cells: int, blocks: int, drift: float, run: int) -> npt.NDArray[np.float64]:
    """Equal cells, measured in the order of the tool, on a machine that slows down with every step."""
    keys = tuple(f"c{i}" for i in range(cells))
    logs = rng.normal(0, SIGMA, (cells, blocks))
    for block in range(blocks):
        for place, key in enumerate(shuffled(keys, f"1-run{run}", block)):
            logs[keys.index(key), block] -= drift * (block * cells + place)
    return np.exp(logs)


def told_apart(cells: int, blocks: int, drift: float, trials: int) -> float:
    """Share of runs of equal cells in which one is put below the best."""
    rng, wrong = np.random.default_rng([cells, blocks, round(drift * 1e4)]), 0
    for run in range(trials):
        columns = drifting(rng, cells, blocks, drift, run)
        wrong += bool(significantly_different(columns, int(np.log(columns).mean(axis=1).argmax())).any())
    return wrong / trials


def wrong_best(blocks: int, low: float, trials: int) -> tuple[float, float]:
    """Two cells, one steady, one a little faster with a slow mode, whose long-run mean is lower: how often the slower
    is claimed to be faster by the mean that is tested, and how often the median alone would pick it."""
    rng, claimed, picked = np.random.default_rng([blocks, round(100 * low)]), 0, 0
    for _ in range(trials):
        steady = rng.normal(0, SIGMA, blocks)
        moody = rng.normal(0.03, SIGMA, blocks) + np.where(rng.random(blocks) < low, np.log(0.6), 0.0)
        columns = np.exp(np.array([steady, moody]))
        at = int(np.log(columns).mean(axis=1).argmax())
        claimed += at == 1 and bool(significantly_different(columns, at)[0])
        picked += bool(np.median(moody) > np.median(steady)) and bool(significantly_different(columns, 1)[0])
    return claimed / trials, picked / trials


def failing(repeats: int, chance: float, share: float, trials: int) -> float:
    """Share of gates that call a build worse which fails as often as the old one, whole repeats at a time."""
    draw, wrong = random.Random(f"{repeats}-{chance}"), 0
    for _ in range(trials):
        old, new = ([share * (draw.random() < chance) for _ in range(repeats)] for _ in range(2))
        wrong += held_failures(old, new, MORE_FAILURES, ALPHA).verdict == "worse"
    return wrong / trials


def caught(repeats: int, trials: int) -> tuple[float, float]:
    """A build half of whose repeats crash, against one that never does: called worse, and called fine."""
    draw, worse, fine = random.Random(repeats), 0, 0
    for _ in range(trials):
        new = [float(draw.random() < 0.5) for _ in range(repeats)]
        verdict = held_failures([0.0] * repeats, new, MORE_FAILURES, ALPHA).verdict
        worse, fine = worse + (verdict == "worse"), fine + (verdict == "fine")
    return worse / trials, fine / trials


Array = npt.NDArray[np.float64]


def wandering(rng: np.random.Generator, n: int, rho: float) -> Array:
    """A first-order process with variance 1, from its middle."""
    steps = rng.normal(0, 1, n + 100)
    for i in range(1, len(steps)):
        steps[i] += rho * steps[i - 1]
    return np.asarray(steps[100:] * (1 - rho**2) ** 0.5)


def run_of(wave: Array, rng: np.random.Generator, cells: int) -> Array:
    """Equal cells of a run whose blocks wander by 2%, with half as much noise of their own."""
    return np.asarray(np.exp(0.02 * (wave[None] + rng.normal(0, 0.5, (cells, len(wave))))))


def two_runs(n: int, rho: float, trials: int, *, launches: bool = False) -> tuple[float, float]:
    """Share of ratios of equal cells whose 95% interval leaves 1 out: with the runs' own memory, and as if repeats were
    independent. Of two runs of four cells; or of two launches of one run, measured one after the other."""
    rng, wrong, plain = np.random.default_rng([n, round(100 * rho), launches]), 0, 0
    for _ in range(trials):
        if launches:
            wave = wandering(rng, 2 * n, rho)
            whole = [run_of(part, rng, 1) for part in (wave[:n], wave[n:])]
            wide = waves([part[0].tolist() for part in whole]).apart(n)
            both = [(part, wide) for part in whole]
        else:
            runs = [run_of(wandering(rng, n, rho), rng, 4) for _ in range(2)]
            both = [(run, waves(run.tolist()).apart(n)) for run in runs]
        a, b = (cells[0].tolist() for cells, _ in both)
        found, usual = unpaired_ratio(a, b, (both[0][1], both[1][1])), unpaired_ratio(a, b)
        wrong += not found.low <= 1 <= found.high
        plain += not usual.low <= 1 <= usual.high
    return wrong / trials, plain / trials


def with_history(n: int, earlier: int, luck: float, trials: int) -> tuple[float, float, float]:
    """Two runs of one build, whose whole runs differ by luck: share of ratios whose interval leaves 1 out, allowing for
    how far earlier runs lay apart, and by what the two have seen; and the same of a build 10% slower, allowing."""
    rng, wrong, plain, caught = np.random.default_rng([n, earlier, round(1e4 * luck)]), 0, 0, 0
    for _ in range(trials):
        runs = rng.normal(0, luck, (earlier + 2, 1)) + rng.normal(0, SIGMA, (earlier + 2, n))
        a, b = np.exp(runs[0]).tolist(), np.exp(runs[1]).tolist()
        usual, known = unpaired_ratio(a, b), float(runs[2:].mean(axis=1).var(ddof=1))
        found = allowing_for_runs(usual, (2 * known) ** 0.5, earlier - 1.0)
        slower = allowing_for_runs(unpaired_ratio((0.9 * np.array(a)).tolist(), b), (2 * known) ** 0.5, earlier - 1.0)
        wrong, plain = wrong + (not found.low <= 1 <= found.high), plain + (not usual.low <= 1 <= usual.high)
        caught += slower.high < 1
    return wrong / trials, plain / trials, caught / trials


def by_the_watt(noise: float, n: int, trials: int) -> tuple[float, float]:
    """Share of lineups of four equal rigs in which any is set below the best: by a quotient in each repeat, and by a
    power that is taken as known, the median of what was measured."""
    rng, wrong, plain = np.random.default_rng([round(1e3 * noise), n]), 0, 0
    for _ in range(trials):
        rates, watts = np.exp(rng.normal(0, 0.003, (4, n))), np.exp(rng.normal(0, noise, (4, n)))
        each, known = rates / watts, rates / np.median(watts, axis=1)[:, None]
        wrong, plain = wrong + _any_behind(each), plain + _any_behind(known)
    return wrong / trials, plain / trials


def _any_behind(columns: Array) -> bool:
    return bool(significantly_different(columns, int(np.log(columns).mean(axis=1).argmax())).any())


Shares = tuple[float, float]
"""Wrong with what cells share known, and as if nothing were shared."""


def sharing(rigs: int, launches: int, cells: int, luck: tuple[float, float], n: int, trials: int) -> tuple[Shares, ...]:
    """Studies of equal cells that share the luck of their rig and of their launch in each block: how often any is put
    below the best, a factor of rigs, of launches and of cells within a launch is said to do something."""
    rig = np.repeat(np.arange(rigs), launches * cells)
    launch = np.repeat(np.arange(rigs * launches), cells)
    strata = list(zip(rig.tolist(), launch.tolist(), strict=True))
    steps = (launches * cells, cells, 1)
    inside = (np.zeros_like(rig), rig, launch)
    families = [
        [(i + by, i) for i in range(len(rig) - by) if among[i] == among[i + by]]
        for by, among in zip(steps, inside, strict=True)
    ]
    rng, wrong = np.random.default_rng([rigs, launches, cells, n, *(round(1e3 * s) for s in luck)]), np.zeros((4, 2))
    for _ in range(trials):
        logs = rng.normal(0, luck[0], (rigs, n))[rig] + rng.normal(0, luck[1], (rigs * launches, n))[launch]
        columns = np.exp(logs + rng.normal(0, 3 * SIGMA, logs.shape))
        at = int(np.log(columns).mean(axis=1).argmax())
        for way, known in enumerate((strata, ())):
            wrong[0, way] += bool(significantly_different(columns, at, strata=known).any())
            for row, pairs in enumerate(families, start=1):
                wrong[row, way] += bool(pairs) and min(holm(pairs_p(columns, pairs, known))) < ALPHA
    return tuple((float(a), float(b)) for a, b in wrong / trials)


def many_rows(noise: str, rows: int, n: int, trials: int) -> tuple[float, float]:
    """Share of duels of equal sides, prompt by prompt, that call any prompt different: with the scatter of all prompts,
    and each by its own alone."""
    rng, wrong, plain = np.random.default_rng([len(noise), rows, n]), 0, 0
    for _ in range(trials):
        values = np.exp(rng.normal(0, 0.01, (rows, 2, n)))
        if noise == "two modes":
            values *= np.where(rng.random((rows, 2, n)) < 0.3, 0.7, 1.0)
        elif noise == "a coarse clock":
            values = np.round(values * 50) / 50
        pairs = [(x.tolist(), y.tolist()) for x, y in values]
        wrong += min(holm([r.p for r in pooled_ratios(pairs, paired=True)])) < ALPHA
        plain += min(holm([paired_ratio(x, y).p for x, y in pairs])) < ALPHA
    return wrong / trials, plain / trials


LENGTHS = np.array([128.0, 256.0, 512.0, 1_024.0, 2_048.0])


def bent(blocks: int, slow: float, sigma: float, bend: float, trials: int) -> float:
    """Share of studies of five prompt lengths that are called curved, where a squared term adds `bend` to the time of
    the longest, a block slows all of its prompts alike, and a point has noise of its own."""
    rng, called = np.random.default_rng([blocks, round(1e3 * slow), round(1e3 * sigma), round(1e3 * bend)]), 0
    line = 0.02 + LENGTHS / 500
    times = line + bend * line[-1] * (LENGTHS / LENGTHS[-1]) ** 2
    x, of = np.tile(LENGTHS, blocks).tolist(), np.repeat(range(blocks), len(LENGTHS)).tolist()
    for _ in range(trials):
        y = times * np.exp(rng.normal(0, slow, (blocks, 1)) + rng.normal(0, sigma, (blocks, len(LENGTHS))))
        found = fit_line(x, y.ravel().tolist(), of)
        called += found is not None and found.curved
    return called / trials


FRONTIER_NOISES = ((3, 0.02), (6, 0.02), (6, 0.05), (12, 0.05))
"""Blocks, and the noise of a point."""
FRONTIERS = {
    "straight": (10.0, 7.75, 5.5, 3.25, 1.0),
    "bent the other way": (10.0, 4.0, 2.5, 1.5, 1.0),
    "bent at the third": (10.0, 9.0, 8.0, 4.0, 1.0),
}


def kneed(name: str, blocks: int, sigma: float, trials: int) -> tuple[float, float]:
    """Share of frontiers of five loads that are given a knee, and of those how many have the third in its interval."""
    rng, named, held = np.random.default_rng([len(name), blocks, round(1e3 * sigma)]), 0, 0
    exact = np.stack([np.linspace(1.0, 9.0, 5), np.array(FRONTIERS[name])], axis=1)
    for _ in range(trials):
        found = knee(exact * np.exp(rng.normal(0, sigma, (blocks, 5, 2))))
        named += found is not None
        held += found is not None and found.low <= 2 <= found.high
    return named / trials, held / max(1, named)


def table(title: str, said: str, heads: Sequence[str], rows: Iterable[Sequence[str]]) -> list[str]:
    """A section of the page: a sentence, and a table below it."""
    lines = ["| " + " | ".join(row) + " |" for row in (heads, ["---"] * len(heads), *rows)]
    return ["", f"## {title}", "", said, "", *lines]


def shares(*values: float) -> list[str]:
    """As percentages."""
    return [f"{value:.1%}" for value in values]


def beside(pairs: Iterable[tuple[float, float]]) -> list[str]:
    """What the tool does, and in brackets what would be without it."""
    return [f"{ours:.1%} ({plain:.1%})" for ours, plain in pairs]


def order_and_modes(trials: int) -> list[str]:
    """A drift by step, and a cell with two modes."""
    return [
        *table(
            "A machine that slows down with every step",
            "Equal cells, noise 1%, in the tool's own order of blocks (drawn for each run, mirrored in every other "
            "block). Share of runs in which a cell is put below the best; 5% may be.",
            ["cells, slower by step", *(f"{n} repeats" for n in COUNTS)],
            [
                [f"{cells}, {drift:.1%}", *shares(*(told_apart(cells, n, drift, trials) for n in COUNTS))]
                for cells in (2, 6)
                for drift in DRIFTS
            ],
        ),
        *table(
            "A cell with a slow mode",
            "One cell is steady; the other is 3% faster, and 0.6 times as fast in some of its repeats, so that it is "
            "slower on average. Share of runs in which it is called faster (5% may be), and what it would be if the "
            "leader were picked by its median and tested by the distance of the means alone.",
            ["slow in", "repeats", "called faster", "picked by median"],
            [
                [f"{low:.0%} of repeats", str(n), *shares(*wrong_best(n, low, trials))]
                for low in (0.2, 0.4)
                for n in (6, 12, 20)
            ],
        ),
    ]


def failures(trials: int) -> list[str]:
    """What fails at a gate."""
    worse_fine = {n: caught(n, trials) for n in (6, 12, 24)}
    return [
        *table(
            "What fails at a gate",
            "Builds that fail alike: half of the requests of some repeats. Share of gates that say *worse*; 5% may.",
            ["repeats of each", "one repeat in ten", "one in three"],
            [[str(n), *shares(*(failing(n, chance, 0.5, trials) for chance in (0.1, 1 / 3)))] for n in (6, 12, 24)],
        ),
        *table(
            "A build that crashes",
            "Half of its repeats crash; the other build never does.",
            ["repeats of each", "worse", "not settled", "fine"],
            [[str(n), *shares(worse, 1 - worse - fine, fine)] for n, (worse, fine) in worse_fine.items()],
        ),
    ]


def memory(trials: int) -> list[str]:
    """Runs and launches that wander."""
    return table(
        "Cells of two runs, or of launches that ran one after the other",
        "Equal cells on a machine whose blocks remember the one before, with half as much noise of their own. Share of "
        "ratios whose 95% interval leaves 1 out: with the runs' own memory, and (in brackets) as if repeats were "
        "independent.",
        ["repeats, of what", "no memory", "0.5", "0.8", "0.9"],
        [
            [
                f"{n}, {'launches' if launches else 'two runs'}",
                *beside(two_runs(n, rho, trials, launches=launches) for rho in (0.0, 0.5, 0.8, 0.9)),
            ]
            for launches in (False, True)
            for n in (3, 6, 12, 20, 40)
        ],
    )


def histories(trials: int) -> list[str]:
    """Two runs, where earlier ones show how far runs lie apart."""

    def cell(n: int, earlier: int, luck: float) -> str:
        wrong, plain, caught = with_history(n, earlier, luck, trials)
        return f"{wrong:.1%} ({plain:.1%}), {caught:.0%}"

    lucks = (0.0, 0.003, 0.01, 0.03)
    return table(
        "Two runs, with earlier runs of the study",
        "Equal builds in two runs; repeats scatter by 1%, and whole runs by their luck. Share of ratios whose 95% "
        "interval leaves 1 out (5% may be) where earlier runs show how far runs lie apart, and (in brackets) where "
        "nothing does; then how often a build that is 10% slower is told from the old one.",
        ["repeats, earlier runs", *(f"luck {luck:.1%}" for luck in lucks)],
        [[f"{n}, {earlier}", *(cell(n, earlier, luck) for luck in lucks)] for n in (3, 6, 12) for earlier in (2, 3, 6)],
    )


def quotients_and_rows(trials: int) -> list[str]:
    """By the watt; prompt by prompt."""
    kinds = ("normal", "two modes", "a coarse clock")
    return [
        *table(
            "By the watt",
            "Four equal rigs, speed with 0.3% of noise, power with more. Share of lineups in which one is set below "
            "the best (5% may be): by a quotient in each repeat, and (in brackets) by a power that is taken as known.",
            ["repeats", "1%", "3%", "5%"],
            [[str(n), *beside(by_the_watt(noise, n, trials) for noise in (0.01, 0.03, 0.05))] for n in (3, 6, 12)],
        ),
        *table(
            "Prompt by prompt, pair by pair",
            "Equal sides. Share of duels in which any row is called different (5% may be): with the scatter of all "
            "rows, and (in brackets) each by its own alone.",
            ["rows, repeats", *kinds],
            [
                [f"{rows}, {n}", *beside(many_rows(noise, rows, n, trials) for noise in kinds)]
                for rows, n in ((2, 3), (8, 3), (8, 6))
            ],
        ),
    ]


def bends(trials: int) -> list[str]:
    """Lines and frontiers."""
    edges = [[kneed(name, n, sigma, trials) for name in FRONTIERS] for n, sigma in FRONTIER_NOISES]
    return [
        *table(
            "A line that bends, and one that does not",
            "TTFT over five prompt lengths; a slow block slows all of its prompts alike. Share of studies called "
            "*curved*: of straight lines 5% may be, of those where the longest takes a tenth more all should be.",
            ["blocks, block noise, own noise", "straight", "a tenth more"],
            [
                [f"{n}, {slow:.0%}, {sigma:.0%}", *shares(*(bent(n, slow, sigma, bend, trials) for bend in (0.0, 0.1)))]
                for n in (3, 6)
                for slow, sigma in ((0.0, 0.01), (0.1, 0.01), (0.1, 0.03))
            ],
        ),
        *table(
            "A frontier and its knee",
            "Five loads. Share of frontiers that are given a knee (of those without one 5% may be), and of the bent "
            "ones that are, how many have it in the interval.",
            ["blocks, noise", *FRONTIERS, "in the interval"],
            [
                [f"{n}, {sigma:.0%}", *shares(*(named for named, _ in found), found[-1][1])]
                for (n, sigma), found in zip(FRONTIER_NOISES, edges, strict=True)
            ],
        ),
    ]


CURVES: dict[str, Callable[[float, float], float]] = {
    "steep": lambda load, limit: 2.0 * math.log(load / limit),
    "flat": lambda load, limit: 0.5 * math.log(load / limit),
    "a jump": lambda load, limit: math.log(0.78) if load <= limit else math.log(1.8),
}
"""Logarithm of a percentile over its limit, by load and by the load at which it breaks."""
LIMITS = (10, 41, 120)
SLOW = 0.4
"""What a slow minute adds to all repeats of the step that meets it, in the logarithm."""
STEP_REPEATS = 3


def searched(
    curve: str, limit: int, sigma: float, trials: int, *, slow: bool = False, tail: tuple[int, float] | None = None
) -> tuple[float, float, float]:
    """Searches from 8 streams on: how often the interval holds the limit, how often a search settles, and how often it
    settles and is wrong.

    Args:
        curve: Name of how the percentile grows with the load.
        limit: The most streams that keep the promise.
        sigma: Noise of a repeat.
        trials: Searches.
        slow: One step of each meets a slow minute, which is gone when it is measured again.
        tail: Requests of a repeat, whose times scatter by half, and the percentile that is promised of them; None
            takes the percentile as it is.
    """
    rng, plan = np.random.default_rng([limit, round(1e3 * sigma), slow]), CapacitySearch("concurrency", 256)
    promise = Promise(ttft_s=1.0, percentile=95.0 if tail is None else 100 * tail[1])
    held = settled = wrong = 0
    for _ in range(trials):
        seen: dict[int, list[tuple[int, npt.NDArray[np.float64]]]] = {}
        told: dict[int, Trial] = {}
        found, hit, steps = CapacityResult(next_load=8), int(rng.integers(0, 8)) if slow else -1, 0
        while (load := found.next_load) is not None:
            shift = CURVES[curve](load, limit + 0.5) + (SLOW if steps == hit else 0.0)
            noise = shift + rng.normal(0, sigma, (STEP_REPEATS, 1))
            seen.setdefault(load, []).append((steps, noise if tail is None else _times(rng, noise, *tail)))
            steps += 1
            told[load] = _step(load, seen[load], tail)
            found = search(list(told.values()), plan, promise)
        good = math.floor((found.low or 0.0) + 1e-9) <= limit and (found.high is None or limit <= found.high)
        held, settled = held + good, settled + (found.end in {"narrow", "neighbours"})
        wrong += found.end in {"narrow", "neighbours"} and not good
    return held / trials, settled / trials, wrong / trials


def _times(rng: np.random.Generator, noise: npt.NDArray[np.float64], n: int, p: float) -> npt.NDArray[np.float64]:
    """Logarithms of single times whose true percentile lies where the noise says."""
    return noise + 0.5 * (rng.normal(0, 1, (len(noise), n)) - float(special.ndtri(p)))


def _step(load: int, visits: Sequence[tuple[int, npt.NDArray[np.float64]]], tail: tuple[int, float] | None) -> Trial:
    """A step as the tool makes it of its requests: pooled percentiles of each visit, and how repeats scatter."""

    def percentile(logs: npt.NDArray[np.float64]) -> float:
        return float(logs.mean() if tail is None else np.quantile(logs.ravel(), tail[1], method="weibull"))

    each = [percentile(logs) for _, logs in visits]
    pooled = np.vstack([logs for _, logs in visits])
    over = float(np.median(each)) if len(each) > 2 else percentile(pooled)
    spread = float(np.std([percentile(row) for row in pooled], ddof=1))
    thin = tail is not None and (STEP_REPEATS * tail[0] + 1) * (1 - tail[1]) < 1
    told = tuple({"ttft": value} for value in each)
    return Trial(float(load), {"ttft": over}, {"ttft": spread}, len(pooled), 0.0, told, thin, visits[-1][0])  # type: ignore[arg-type]


def capacity(trials: int) -> list[str]:
    """The largest load that keeps a promise."""
    ways: list[tuple[str, dict[str, Any]]] = [
        ("2% of noise", {"sigma": 0.02}),
        ("6% of noise", {"sigma": 0.06}),
        ("2%, one slow minute", {"sigma": 0.02, "slow": True}),
        ("p99 of 3 × 48 requests", {"sigma": 0.02, "tail": (48, 0.99)}),
        ("p99 of 3 × 24 requests", {"sigma": 0.02, "tail": (24, 0.99)}),
    ]
    return table(
        "The largest load that keeps a promise",
        "Searches from 8 streams on, three repeats a step. The percentile grows with the square of the load (steep), "
        "with its root (flat), or jumps from 0.78 of the limit to 1.8 of it; a slow minute makes all repeats of one "
        "step half as long again. Share of searches whose interval holds the limit (94% should be), and in brackets of "
        "those that settle, and of those that settle and are wrong.",
        ["curve, limit", *(name for name, _ in ways)],
        [
            [f"{curve}, {limit}", *(_three(searched(curve, limit, trials=trials, **how)) for _, how in ways)]
            for curve in CURVES
            for limit in LIMITS
        ],
    )


def _three(found: tuple[float, float, float]) -> str:
    held, settled, wrong = found
    return f"{held:.1%} ({settled:.0%}, {wrong:.1%})"


SHARED = (
    ((2, 1, 10), (0.0, 0.0)),
    ((2, 1, 10), (0.0, 0.03)),
    ((2, 1, 10), (0.09, 0.0)),
    ((2, 3, 4), (0.06, 0.03)),
    ((4, 1, 5), (0.06, 0.0)),
    ((1, 6, 4), (0.0, 0.06)),
)
"""Rigs, launches on each, cells of each; and how much the luck of rigs and launches scatters."""


def shared_luck(trials: int) -> list[str]:
    """Cells that share the luck of a rig or a launch."""

    def row(sizes: tuple[int, int, int], luck: tuple[float, float], n: int) -> list[str]:
        rigs, launches, cells = sizes
        found = sharing(*sizes, luck, n, trials)
        asked = (True, rigs > 1, launches > 1, cells > 1)
        shown = [f"{a:.1%} ({b:.1%})" if yes else "" for (a, b), yes in zip(found, asked, strict=True)]
        return [f"{rigs} × {launches} × {cells}, {luck[0]:.0%}, {luck[1]:.0%}", str(n), *shown]

    return table(
        "Cells that share a rig, or a launch",
        "Equal cells with noise of 3% of their own, and more that all cells of a rig or of a launch share in a block. "
        "Share of studies in which one is put below the best, and in which a factor is said to do something (5% may "
        "be): rigs, settings of a launch, settings of requests. In brackets as if nothing were shared.",
        ["rigs × launches × cells, luck of each", "repeats", "best", "rigs", "launches", "cells of a launch"],
        [row(sizes, luck, n) for sizes, luck in SHARED for n in (3, 6, 12)],
    )


SECTIONS = (order_and_modes, shared_luck, failures, memory, histories, quotients_and_rows, bends, capacity)


def page(trials: int) -> str:
    """docs/verdicts.md."""
    head = [
        "# How often verdicts are wrong under other noises",
        "",
        f"Written by `make bench-verdicts`: {trials:,} runs for each figure. Figures are made by formulas of the "
        "benchmark; what judges them is the tool's own.",
    ]
    return "\n".join([*head, *(line for section in SECTIONS for line in section(trials))]) + "\n"


def main() -> int:
    """Simulate, and write the page."""
    text = page(int(sys.argv[1]) if len(sys.argv) > 1 else TRIALS)
    print(text)
    if len(sys.argv) < 2:
        DOC.write_text(text, encoding="utf-8")
    return 0


if __name__ == "__main__":
    sys.exit(main())
