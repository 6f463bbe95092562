"""`make bench-claims`: how often what the tool says of repeats is right, simulated with the tool's own functions.

    PYTHONPATH=. python benchmarks/claims.py [--trials N] [--check]

Cells are equal, or differ by a known ratio; noise is drawn on the logarithm of a figure. Writes docs/claims.md and
benchmarks/out/claims.json; with --check nothing is written, and a missed target ends it with 1.
"""

from __future__ import annotations

import itertools
import json
import sys
from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
from scipy import stats

from benchmarks import batching
from zinc_kettle.core.plan.study import Repeats
from zinc_kettle.core.run.precision import look_level, looks, wanted_repeats
from zinc_kettle.core.run.stopping import Conclusion, best_so_far, pairs_so_far
from zinc_kettle.core.stats import median_interval
from zinc_kettle.core.stats.interval import Interval, pooled_quantile_interval
from zinc_kettle.core.stats.ratios import ALPHA, bound_behind_best, holm, paired_ratio, pairs_p, significantly_different
from zinc_kettle.core.stats.waves import SEEN_BLOCKS, steady
from zinc_kettle.core.stats.waves import waves as waves_of
from zinc_kettle.core.units import plural

OUT = Path(__file__).parent / "out" / "claims.json"
DOC = Path(__file__).parent.parent / "docs" / "claims.md"
SIGMA = 0.03
"""Spread of a figure's logarithm, about what a quiet machine shows."""
COUNTS = (3, 4, 5, 6, 8, 12, 20)
CELLS = (2, 6, 24)
GAINS = (0.01, 0.03, 0.05, 0.10)
MARGIN = 2.6
"""Standard errors of a simulated share that a target may be missed by: luck of the draw in one row of a hundred."""
Draw = Callable[[np.random.Generator, int, int], npt.NDArray[np.float64]]
"""Noise of some cells over some blocks, shape (cells, blocks), on the logarithm."""


def normal(rng: np.random.Generator, cells: int, blocks: int) -> npt.NDArray[np.float64]:
    """As textbooks have it."""
    return rng.normal(0, SIGMA, (cells, blocks))


def slow_tail(rng: np.random.Generator, cells: int, blocks: int) -> npt.NDArray[np.float64]:
    """Lognormal on the logarithm itself: most repeats near the best, some far slower."""
    return -SIGMA * rng.lognormal(0, 0.8, (cells, blocks))


def bimodal(rng: np.random.Generator, cells: int, blocks: int) -> npt.NDArray[np.float64]:
    """Two speeds 10% apart, one in three repeats the slower."""
    return rng.normal(0, SIGMA / 3, (cells, blocks)) - 0.10 * (rng.random((cells, blocks)) < 1 / 3)


def heavy(rng: np.random.Generator, cells: int, blocks: int) -> npt.NDArray[np.float64]:
    """Student's t with three degrees of freedom: a repeat in fifty is far off."""
    return SIGMA / 3**0.5 * rng.standard_t(3, (cells, blocks))


def unequal(rng: np.random.Generator, cells: int, blocks: int) -> npt.NDArray[np.float64]:
    """One cell is four times as noisy as the others."""
    scale = np.where(np.arange(cells) == cells - 1, 4.0, 1.0)[:, None]
    return rng.normal(0, SIGMA, (cells, blocks)) * scale


def waves(rho: float, *, shared: bool) -> Draw:
    """Noise that remembers the block before, common to all cells of a block or each cell's own."""

    def draw(rng: np.random.Generator, cells: int, blocks: int) -> npt.NDArray[np.float64]:
        rows = 1 if shared else cells
        out = np.empty((rows, blocks))
        out[:, 0] = rng.normal(0, 3 * SIGMA if shared else SIGMA, rows)
        for i in range(1, blocks):
            step = rng.normal(0, (3 * SIGMA if shared else SIGMA) * (1 - rho**2) ** 0.5, rows)
            out[:, i] = rho * out[:, i - 1] + step
        return out + normal(rng, cells, blocks) if shared else out

    return draw


def drift(rng: np.random.Generator, cells: int, blocks: int) -> npt.NDArray[np.float64]:
    """The machine slows by 20% over the run, for all cells alike."""
    return normal(rng, cells, blocks) - 0.20 * np.linspace(0, 1, blocks)[None, :]


NOISES: dict[str, Draw] = {
    "normal": normal,
    "slow tail": slow_tail,
    "bimodal": bimodal,
    "heavy tails": heavy,
    "one noisy cell": unequal,
    "drift": drift,
    "waves 0.5, shared": waves(0.5, shared=True),
    "waves 0.8, shared": waves(0.8, shared=True),
    "waves 0.5, own": waves(0.5, shared=False),
    "waves 0.8, own": waves(0.8, shared=False),
}
IMPOSSIBLE = {"waves 0.5, own", "waves 0.8, own"}
"""A cell's own slow wandering, which no order of blocks can tell from its level; its repeats see too little of it."""


@dataclass(frozen=True)
class Row:
    """One simulated share."""

    what: str
    statistic: str
    noise: str
    n: int
    cells: int
    rule: str
    trials: int
    value: float
    target: float
    met: bool | None
    """None where no target applies."""


def _row(
    what: str,
    noise: str,
    n: int,
    cells: int,
    hits: int,
    trials: int,
    *,
    at_least: float = 0.0,
    at_most: float = 1.0,
    statistic: str = "ratio",
    rule: str = "fixed",
) -> Row:
    value, target = hits / trials, at_least or at_most
    slack = MARGIN * (max(target * (1 - target), 1e-4) / trials) ** 0.5
    met = value >= target - slack if at_least else value <= target + slack
    bound = target not in {0.0, 1.0} and noise not in IMPOSSIBLE
    return Row(what, statistic, noise, n, cells, rule, trials, round(value, 4), target, bool(met) if bound else None)


# one cell
@lru_cache(maxsize=64)
def middle(noise: str) -> float:
    """Median of the logarithm of a figure under a kind of noise: the truth a cell's interval is to hold."""
    if noise == "drift":
        return -0.10
    if noise.startswith("waves"):
        return 0.0
    return float(np.median(NOISES[noise](np.random.default_rng(7), 2, 400_000)[0]))


def widened(found: Interval, times: float) -> tuple[float, float]:
    """Bounds as a cell shows them, from those of its repeats alone."""
    return found.value * (found.low / found.value) ** times, found.value * (found.high / found.value) ** times


def of_cell(rng: np.random.Generator, noise: str, n: int, cells: int, trials: int) -> list[Row]:
    """How often one cell's interval holds its long-run median; how often where it claims to; how often it claims."""
    held = claimed = kept = 0
    truth = float(np.exp(middle(noise)))
    for _ in range(trials):
        columns = np.exp(NOISES[noise](rng, cells, n))
        found, wander = median_interval(columns[0].tolist()), waves_of(columns.tolist())
        low, high = widened(found, wander.widening(n))
        inside, long_run = low <= truth <= high, found.bound == "interval95" and n >= SEEN_BLOCKS
        if long_run:
            long_run = steady([dict(enumerate(row.tolist())) for row in columns])
        held += inside
        claimed += long_run
        kept += inside or not long_run
    rule = "interval" if n >= 6 else "range"
    return [
        Row(
            "coverage",
            "cell",
            noise,
            n,
            cells,
            rule,
            trials,
            round(held / trials, 4),
            0.94,
            _met(held / trials, 0.94, trials) if _owed(noise, n) else None,
        ),
        _row("coverage", noise, n, cells, kept, trials, at_least=0.94, statistic="cell, as it says", rule=rule),
        Row("says long run", "cell", noise, n, cells, rule, trials, round(claimed / trials, 4), 0.0, None),
    ]


def _owed(noise: str, n: int) -> bool:
    """Whether an interval is to hold the long-run median: not where a range is shown, nor where waves were too long to
    be seen, and the screen says that it tells of this run."""
    return n >= 6 and not noise.startswith("waves")


def _met(value: float, target: float, trials: int) -> bool:
    return bool(value >= target - MARGIN * (target * (1 - target) / trials) ** 0.5)


PERCENTILES = (0.5, 0.9, 0.95, 0.99)
REQUESTS = (8, 16, 64)
TOGETHER = (0.0, 0.1, 0.3)
"""Share of the variance of a request's time that its whole repeat has in common."""


def percentiles(rng: np.random.Generator, n: int, requests: int, together: float, trials: int) -> list[Row]:
    """How often a percentile's interval holds the true one, of requests of which those of one repeat hang together."""
    noise = f"requests, {together:.0%} in common"
    truth = np.quantile(_requests(np.random.default_rng(8), 100_000, 4, together), PERCENTILES)
    held, given = [0] * len(PERCENTILES), [0] * len(PERCENTILES)
    for _ in range(trials):
        groups = list(_requests(rng, n, requests, together))
        for i, p in enumerate(PERCENTILES):
            found = pooled_quantile_interval(groups, p)
            if found.bound == "interval95":
                given[i] += 1
                held[i] += found.low <= truth[i] <= found.high
    out = []
    rule = f"{requests} requests a repeat"
    for i, p in enumerate(PERCENTILES):
        name = f"p{100 * p:g}"
        out.append(
            _row(
                "coverage",
                noise,
                n,
                1,
                trials - given[i] + held[i],
                trials,
                at_least=0.93,
                statistic=f"{name}, as it says",
                rule=rule,
            )
        )
        if given[i] >= trials / 10:  # else it shows ranges, nearly always
            share = held[i] / given[i]
            bound = given[i] >= trials / 2
            out.append(
                Row(
                    "coverage",
                    name,
                    noise,
                    n,
                    1,
                    rule,
                    given[i],
                    round(share, 4),
                    0.93,
                    _met(share, 0.93, given[i]) if bound else None,
                )
            )
    return out


def _requests(rng: np.random.Generator, n: int, requests: int, together: float) -> npt.NDArray[np.float64]:
    """Times of requests, skewed as waits are; shape (repeats, requests)."""
    shared = together**0.5 * rng.normal(0, 1, (n, 1))
    times: npt.NDArray[np.float64] = np.exp(0.3 * (shared + (1 - together) ** 0.5 * rng.normal(0, 1, (n, requests))))
    return times


# stopping
def until_narrow(rng: np.random.Generator, noise: str, percent: float, trials: int) -> list[Row]:
    """How often the interval of a cell holds its median when it was repeated until that was narrow."""
    plan = Repeats(count=6, until_percent=percent, ceiling=60)
    truth, first = float(np.exp(middle(noise))), looks(plan.count, plan.most)[0]
    held = early = early_held = used = 0
    for _ in range(trials):
        values = np.exp(NOISES[noise](rng, 1, plan.most)[0]).tolist()
        n = wanted_repeats(plan, values)
        found = median_interval(values[:n], level=look_level(plan))
        low, high = widened(found, waves_of([values[:n]]).widening(n))
        inside = low <= truth <= high
        used, held = used + n, held + inside
        early, early_held = early + (n == first), early_held + (inside and n == first)
    rule = f"until ±{percent:g}%"
    out = [
        Row(
            "coverage",
            "cell",
            noise,
            round(used / trials),
            1,
            rule,
            trials,
            round(held / trials, 4),
            0.94,
            None if noise.startswith(("waves", "drift")) else _met(held / trials, 0.94, trials),
        )
    ]
    if early >= 50:
        share = early_held / early
        out.append(
            Row(
                "coverage",
                "cell that stops at the first look",
                noise,
                first,
                1,
                rule,
                early,
                round(share, 4),
                0.94,
                None,
            )
        )
    return out


SMALLEST = 0.03
SCENES = ("all equal", "one is 3% ahead", "one is 5% ahead", "one is 10% ahead", "spread over 30%")
HARD = SCENES[:2]
"""Where the difference is the smallest worth knowing, or none: to tell that, no rule needs much less than a fixed
number chosen for it."""


def _ahead(scene: str, cells: int) -> npt.NDArray[np.float64]:
    out = np.zeros(cells)
    if scene.startswith("one"):
        out[0] = np.log1p(float(scene.split()[2].rstrip("%")) / 100)
    elif scene.startswith("spread"):
        out = np.log(np.linspace(1.0, 1.3, cells))
    return out


def _fixed_answer(columns: npt.NDArray[np.float64]) -> bool:
    """Whether a fixed number of repeats answers which is best, by the same rules in one look."""
    means = np.log(columns).mean(axis=1)
    at = int(means.argmax())
    apart, bounds = significantly_different(columns, at), bound_behind_best(columns, at)
    return bool(
        all(far or bound <= SMALLEST for i, (far, bound) in enumerate(zip(apart, bounds, strict=True)) if i != at)
    )


def fixed_number(cells: int, trials: int) -> int:
    """Repeats of a fixed design that answers in 90%, whichever scene it meets."""
    worst = 3
    for scene in SCENES:
        ahead, low, high = _ahead(scene, cells)[:, None], 3, 400
        while low < high:
            n = (low + high) // 2
            rng = np.random.default_rng([5, cells, n])
            found = sum(_fixed_answer(np.exp(normal(rng, cells, n) + ahead)) for _ in range(trials))
            low, high = (low, n) if found >= 0.9 * trials else (n + 1, high)
        worst = max(worst, low)
    return worst


def until_answered(rng: np.random.Generator, scene: str, cells: int, fixed: int, trials: int) -> list[Row]:
    """Repeats a cell needs in the mean, over those of the fixed design; how often it answers, and wrongly."""
    plan = Repeats(count=3, until_answered="best", smallest_percent=100 * SMALLEST, ceiling=int(1.5 * fixed))
    ahead = _ahead(scene, cells)
    used = answered = wrong = 0.0
    for _ in range(trials):
        columns = np.exp(normal(rng, cells, plan.most) + ahead[:, None])
        found = best_so_far(plan, {str(i): dict(enumerate(row)) for i, row in enumerate(columns)}, more=True)
        used += sum(found.settled.get(str(i), plan.most) for i in range(cells)) / cells
        answered += found.alike or len(found.left) == 1
        wrong += _wrong(found, ahead)
    rule, noise = f"until answered, {scene}", "normal"
    share = used / trials / fixed
    return [
        Row(
            "repeats over a fixed design's",
            "best",
            noise,
            fixed,
            cells,
            rule,
            trials,
            round(share, 3),
            0.5,
            None if scene in HARD else share <= 0.5,
        ),
        _row("false_claim", noise, fixed, cells, int(wrong), trials, at_most=0.05, statistic="best", rule=rule),
        _row("answered", noise, fixed, cells, int(answered), trials, at_least=0.9, statistic="best", rule=rule),
    ]


def until_factor(rng: np.random.Generator, noise: str, cells: int, trials: int) -> list[Row]:
    """How often a factor that does nothing is said to do something, where its steps are repeated until they are known;
    and how often steps of 5% are said to be alike, where 3% is the smallest difference worth knowing."""
    plan = Repeats(count=3, until_answered="level", smallest_percent=100 * SMALLEST, ceiling=40)
    pairs = [(str(i + 1), str(i)) for i in range(cells - 1)]
    apart = alike = 0
    for _ in range(trials):
        columns = np.exp(NOISES[noise](rng, cells, plan.most))
        steps = columns * 1.05 ** np.arange(cells)[:, None]
        for values, equal in ((columns, True), (steps, False)):
            found = pairs_so_far(plan, {str(i): dict(enumerate(row)) for i, row in enumerate(values)}, pairs)
            apart += equal and bool(found.apart)
            alike += not equal and bool(found.same)
    rule = "until answered, a factor"
    return [
        _row("false_claim", noise, plan.most, cells, apart, trials, at_most=0.05, statistic="factor apart", rule=rule),
        _row("false_claim", noise, plan.most, cells, alike, trials, at_most=0.05, statistic="factor alike", rule=rule),
    ]


def _wrong(found: Conclusion, ahead: npt.NDArray[np.float64]) -> bool:
    top = float(ahead.max())
    lost: bool = any(top - value < 1e-9 and str(i) not in found.left for i, value in enumerate(ahead))
    return lost or bool(found.alike and any(top - ahead[int(key)] > np.log1p(SMALLEST) + 1e-9 for key in found.left))


# pairs and families
def coverage(rng: np.random.Generator, noise: str, n: int, trials: int) -> list[Row]:
    """How often the ratio's interval holds the true ratio, and how often equal cells are told apart by a pair alone."""
    held = false = 0
    for _ in range(trials):
        a, b = np.exp(NOISES[noise](rng, 2, n))
        found = paired_ratio(list(1.04 * a), list(b))
        held += found.low <= 1.04 <= found.high
        equal = paired_ratio(list(a), list(b))
        false += not equal.low <= 1.0 <= equal.high
    return [
        _row("coverage", noise, n, 2, held, trials, at_least=0.94),
        _row("false_claim", noise, n, 2, false, trials, at_most=0.05, statistic="one pair"),
    ]


def false_best(rng: np.random.Generator, noise: str, n: int, cells: int, trials: int) -> list[Row]:
    """How often at least one of some equal cells is put below the best-looking one."""
    wrong = 0
    for _ in range(trials):
        columns = np.exp(NOISES[noise](rng, cells, n))
        wrong += bool(significantly_different(columns, int(np.argmax(np.median(columns, axis=1)))).any())
    return [_row("false_claim", noise, n, cells, wrong, trials, at_most=0.05, statistic="best")]


def false_gain(rng: np.random.Generator, noise: str, n: int, cells: int, trials: int) -> list[Row]:
    """How often a factor that does nothing is said to do something anywhere, over all its neighbouring levels."""
    wrong = 0
    for _ in range(trials):
        columns = np.exp(NOISES[noise](rng, cells, n))
        wrong += min(holm(pairs_p(columns, [(i + 1, i) for i in range(cells - 1)]))) < ALPHA
    return [_row("false_claim", noise, n, cells, wrong, trials, at_most=0.05, statistic="gains")]


def power(rng: np.random.Generator, noise: str, n: int, gain: float, trials: int) -> list[Row]:
    """How often a pair that differs is told apart, beside the textbook paired test on the same figures."""
    ours = textbook = 0
    for _ in range(trials):
        a, b = np.exp(NOISES[noise](rng, 2, n))
        a = a * (1 + gain)
        ours += paired_ratio(list(a), list(b)).p < ALPHA
        textbook += stats.ttest_rel(np.log(a), np.log(b)).pvalue < ALPHA
    share = textbook / trials
    return [_row(f"power at {gain:.0%}", noise, n, 2, ours, trials, at_least=0.9 * share)]


AGAIN = 4
"""Of over a thousand figures a few miss by luck: one that does is simulated again with so many times the trials."""


def settled(build: Callable[..., list[Row]], seed: Sequence[int], *settings: object, trials: int) -> list[Row]:
    """Rows from a seed; where one misses its target those of another seed and more trials stand in their place."""
    found = build(np.random.default_rng(seed), *settings, trials)
    if any(r.met is False for r in found):
        found = build(np.random.default_rng([*seed, 1]), *settings, AGAIN * trials)
    return found


def rows(trials: int) -> list[Row]:
    """Everything, each row with a seed of its own."""
    out: list[Row] = []
    for at, noise in enumerate(NOISES):
        for n in COUNTS:
            for cells in (1, 6):
                out += settled(of_cell, [11, at, n, cells], noise, n, cells, trials=trials)
            out += settled(coverage, [16, at, n], noise, n, trials=trials)
            for cells in CELLS:
                out += settled(false_best, [17, at, n, cells], noise, n, cells, trials=trials)
            for cells in CELLS[1:]:
                out += settled(false_gain, [18, at, n, cells], noise, n, cells, trials=trials)
            for gain in GAINS if noise in {"normal", "waves 0.8, shared"} else ():
                seed = [19, at, n, round(100 * gain)]
                out += settled(power, seed, noise, n, gain, trials=trials)
        for percent in (2.0, 4.0):
            out += settled(until_narrow, [12, at, round(percent)], noise, percent, trials=trials)
    return out + _percentile_rows(trials) + _answer_rows(trials) + _factor_rows(trials) + _throughput_rows(trials)


def _percentile_rows(trials: int) -> list[Row]:
    out = []
    for n, requests, together in itertools.product((n for n in COUNTS if n >= 6), REQUESTS, TOGETHER):
        seed = [13, n, requests, round(100 * together)]
        out += settled(percentiles, seed, n, requests, together, trials=trials)
    return out


def _answer_rows(trials: int) -> list[Row]:
    fixed = {cells: fixed_number(cells, max(100, trials // 5)) for cells in CELLS}
    return [
        row
        for cells in CELLS
        for number, scene in enumerate(SCENES)
        for row in until_answered(np.random.default_rng([14, cells, number]), scene, cells, fixed[cells], trials)
    ]


def _factor_rows(trials: int) -> list[Row]:
    out = []
    for at, noise in enumerate(("normal", "heavy tails", "waves 0.8, shared")):
        for cells in (2, 6):
            out += settled(until_factor, [20, at, cells], noise, cells, trials=trials)
    return out


def _throughput_rows(trials: int) -> list[Row]:
    """Bias of throughput, of simulated engines whose steady state is known."""
    out, few = [], max(20, trials // 20)
    for load in batching.LOADS:
        ours, early = batching.biases(load, few)
        name = (
            f"{plural(load.streams, 'stream')}, {load.prompt} + {load.output} tokens, "
            + (f"lengths ±{load.varied:.0%}, " if load.varied else "")
            + f"{load.piece} a step"
        )
        out.append(
            Row(
                "bias",
                "throughput",
                name,
                4,
                load.streams,
                "steady window",
                few,
                round(ours, 4),
                0.04,
                abs(ours) <= 0.04,
            )
        )
        out.append(
            Row("bias", "throughput", name, 4, load.streams, "first latency included", few, round(early, 4), 0.0, None)
        )
    return out


def _throughput_table(found: list[Row]) -> str:
    mine = [r for r in found if r.statistic == "throughput"]
    lines = ["| load | bias | with the first latency in the window |", "|---|---|---|"]
    for ours, early in zip(mine[::2], mine[1::2], strict=True):
        lines.append(f"| {ours.noise} | {_signed(ours)} | {_signed(early)} |")
    return "\n".join(lines)


def _signed(row: Row) -> str:
    return f"{row.value:+.1%}{' ✕' if row.met is False else ''}"


def _mark(row: Row | None) -> str:
    return "" if row is None else f"{row.value:.1%}{' ✕' if row.met is False else ''}"


def _table(found: list[Row], what: str, statistic: str, cells: int) -> str:
    """Kinds of noise down, repeats across."""
    mine = [r for r in found if (r.what, r.statistic, r.cells) == (what, statistic, cells) and "until" not in r.rule]
    lines = [f"| noise | {' | '.join(str(n) for n in COUNTS)} |", f"|---{'|---' * len(COUNTS)}|"]
    for noise in dict.fromkeys(r.noise for r in mine):
        at = {r.n: r for r in mine if r.noise == noise}
        lines.append(f"| {noise} | {' | '.join(_mark(at.get(n)) for n in COUNTS)} |")
    return "\n".join(lines)


def _percentile_table(found: list[Row]) -> str:
    counts = [n for n in COUNTS if n >= 6]
    lines = [f"| percentile, requests | {' | '.join(str(n) for n in counts)} |", f"|---{'|---' * len(counts)}|"]
    mine = [r for r in found if r.statistic.startswith("p") and r.what == "coverage" and "says" not in r.statistic]
    for key in dict.fromkeys((r.statistic, r.rule, r.noise) for r in mine):
        at = {r.n: r for r in mine if (r.statistic, r.rule, r.noise) == key}
        name = f"{key[0]}, {key[1]}, {key[2].removeprefix('requests, ')}"
        lines.append(f"| {name} | {' | '.join(_mark(at.get(n)) or 'range' for n in counts)} |")
    return "\n".join(lines)


def _narrow_table(found: list[Row]) -> str:
    lines = ["| noise | rule | repeats | held | of those that stop at the first look |", "|---|---|---|---|---|"]
    mine = [r for r in found if r.what == "coverage" and r.rule.startswith("until ±")]
    for r in (r for r in mine if r.statistic == "cell"):
        first = next((f for f in mine if f.statistic != "cell" and (f.noise, f.rule) == (r.noise, r.rule)), None)
        lines.append(f"| {r.noise} | {r.rule} | {r.n} | {_mark(r)} | {_mark(first) or 'too few'} |")
    return "\n".join(lines)


def _answer_table(found: list[Row]) -> str:
    lines = ["| cells | scene | fixed design | repeats, of the fixed design's | answered | wrong |"]
    lines.append("|---|---|---|---|---|---|")
    mine = [r for r in found if r.rule.startswith("until answered") and not r.statistic.startswith("factor")]
    for r in (r for r in mine if r.what.startswith("repeats")):
        same = {other.what: other for other in mine if (other.cells, other.rule) == (r.cells, r.rule)}
        scene = r.rule.removeprefix("until answered, ")
        shown = f"{_mark(same['answered'])} | {_mark(same['false_claim'])}"
        lines.append(f"| {r.cells} | {scene} | {r.n} | {_mark(r)} | {shown} |")
    return "\n".join(lines)


def _factor_table(found: list[Row]) -> str:
    mine = [r for r in found if r.statistic.startswith("factor")]
    lines = ["| noise | levels | equal levels told apart | steps of 5% called alike |", "|---|---|---|---|"]
    for apart, alike in zip(mine[::2], mine[1::2], strict=True):
        lines.append(f"| {apart.noise} | {apart.cells} | {_mark(apart)} | {_mark(alike)} |")
    return "\n".join(lines)


def page(found: list[Row], trials: int) -> str:
    """docs/claims.md."""
    missed = sum(1 for r in found if r.met is False)
    parts = [TEXT.format(trials=f"{trials:,}", rows=len(found), missed=missed or "none")]
    parts += ["## Coverage of the interval of one cell", CELL_TEXT]
    parts += ["Holds the cell's long-run median, six cells in the study:", _table(found, "coverage", "cell", 6)]
    parts += ["The same, one cell alone:", _table(found, "coverage", "cell", 1)]
    parts += ["Says that it holds beyond this run, six cells:", _table(found, "says long run", "cell", 6)]
    parts += ["Holds what it says, six cells:", _table(found, "coverage", "cell, as it says", 6)]
    lowest = min(r.value for r in found if r.statistic.startswith("p") and "says" in r.statistic)
    parts += ["## Percentiles over requests", PERCENTILE_TEXT.format(lowest=lowest), _percentile_table(found)]
    parts += ["## Repeats until the interval is narrow", NARROW_TEXT, _narrow_table(found)]
    parts += ["## Repeats until the question is answered", ANSWER_TEXT, _answer_table(found)]
    parts += ["The same for the steps of a factor, up to 40 repeats:", _factor_table(found)]
    parts += ["## Throughput of a load", THROUGHPUT_TEXT, _throughput_table(found)]
    parts += ["## The 95% interval of a ratio holds the true ratio", _table(found, "coverage", "ratio", 2)]
    for statistic, cells, title in (
        ("one pair", 2, "Two equal cells are told apart"),
        ("best", 6, "Of six equal cells at least one is put below the best"),
        ("best", 24, "The same of 24 equal cells"),
        ("gains", 6, "A factor of six levels that does nothing is said to do something"),
    ):
        parts += [f"## {title}", _table(found, "false_claim", statistic, cells)]
    for gain in GAINS:
        parts += [f"## A difference of {gain:.0%} is found", _table(found, f"power at {gain:.0%}", "ratio", 2)]
    return "\n\n".join(parts) + "\n"


TEXT = """# What the claims are worth

Made by `make bench-claims`: {trials} simulated studies for each figure, with the tool's own functions and fixed
seeds ({rows} figures, targets missed: {missed}). Columns are repeats of each cell; ✕ marks a target missed by more
than the luck of the draw. Noise is drawn on the logarithm of a figure, with a spread of about 3%.

- A **ratio** of two cells of one run is paired by block: whatever the machine does to a whole block, cancels. Its
  bounds are Student's, of the logarithms of the ratios. Three repeats can carry a claim of a large difference; two
  carry none.
- **Best**: all cells are held against each other at once (5% divided among all pairs, with the error of the block
  design or that of the pair where that is larger), so that in at most one study of equal cells in twenty any cell
  is said to be below the best.
- **Gains** of a factor: all pairs of the study are one family (Holm).
- Cells that share a rig or a launch share its luck in a block: the error of two that differ in it is that of rigs, or
  of launches, which are fewer than cells (docs/verdicts.md has how often that is wrong).

*Waves, shared* are slow changes of the machine that hit all cells of a block alike; *waves, own* are a cell's own
slow wandering, independent of all others. No order of measuring can tell those from the cell's level: the rows show
how far the claims then are from what they say, and no target is set. Shuffled blocks make them unlikely:
neighbouring repeats of a cell are a whole block apart.

A figure that misses its target is simulated again with another seed and four times the trials, and those stand: of so
many figures a few would miss by luck alone.

What is missed: with three or four repeats, a cell that is four times as noisy as all others is told apart too often.
So few repeats tell too little of its noise, and the others' quietness speaks for it. The caution *noisy* stands
beside such a cell. And with two cells of which one is 5% ahead, *until answered* needs a little over half of the
repeats of the fixed design: two cells have no contenders that could drop out early."""


CELL_TEXT = """Bounds are order statistics (ranks of the sign test), widened by what the run's blocks remember of each
other, which is estimated from all of its cells. Below six repeats the range that was seen is shown and called so.
With fewer than twenty repeats, or where the run's blocks, averaged over all cells, show any memory, the screen says
that the interval tells of *this run*: it has not seen all of how the machine wanders, and the first tables show how far
the long run may then be away."""
PERCENTILE_TEXT = """Requests pooled over repeats; those of one repeat have a part of their variance in common.
*range*: too few requests lie beyond the percentile, or too few repeats tell how they hang together; what was seen is
then shown, and no interval is claimed. Shares are of the intervals that are claimed; the target is set where they are
claimed by more than half of the cells. Where fewer claim one, they are those that look lucky: of all cells, however,
what is shown is true of the share in *as it says* (in benchmarks/out/claims.json), and that has the target everywhere.
The lowest of them here: {lowest:.1%}."""
NARROW_TEXT = """From a floor of six to a ceiling of 60. *Until ±x%* looks at a few planned numbers of repeats, and
divides the 5% among these looks. No target is set under waves and drift: a cell that stops early has not seen them,
and the screen says *this run*. Cells that stop at the first look are the lucky ones among all; the last column is
what remains true of them alone."""
ANSWER_TEXT = """The smallest difference worth knowing is 3%, noise 3%. A fixed design of equal certainty has as many
repeats as give the right answer in 90% of studies whatever the scene, for that is not known beforehand. Where the
best is further ahead than the smallest difference worth knowing, half of its repeats are enough. The first two scenes
are what the fixed number was chosen for, and there little can be saved: no target is set."""


THROUGHPUT_TEXT = """Simulated engines that batch their streams, whose steady state is known from a run fifteen times
as long; four requests a stream, a piece of so many prompt tokens in each step. Streams that begin together are in
prefill together: a window that includes their first latency is biased low. Target: within 4%."""


def main() -> int:
    """Simulate, write or check."""
    trials = int(sys.argv[sys.argv.index("--trials") + 1]) if "--trials" in sys.argv else 2_000
    found = rows(trials)
    missed = [r for r in found if r.met is False]
    for r in missed:
        print(f"missed: {r.what} {r.statistic} {r.noise} n={r.n} cells={r.cells}: {r.value} against {r.target}")
    if "--check" in sys.argv:
        return int(bool(missed))
    OUT.parent.mkdir(exist_ok=True)
    plain: dict[str, Any] = {"trials": trials, "rows": [asdict(r) for r in found]}
    OUT.write_text(json.dumps(plain, indent=1) + "\n")
    DOC.write_text(page(found, trials), encoding="utf-8")
    print(f"{len(found)} figures, {len(missed)} targets missed; written to docs/claims.md")
    return 0


if __name__ == "__main__":
    sys.exit(main())
