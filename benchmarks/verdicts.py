"""How often verdicts are wrong under noises that claims.py does not have: what drifts by step, two modes, what fails.

    python benchmarks/verdicts.py [TRIALS]

Figures are made by formulas of its own; what judges them is the tool's. Writes docs/verdicts.md.
"""

from __future__ import annotations

import random
import sys
from pathlib import Path

import numpy as np
import numpy.typing as npt

from zinc_kettle.core.frontier import knee
from zinc_kettle.core.gate import MORE_FAILURES, held_failures
from zinc_kettle.core.schedule import shuffled
from zinc_kettle.core.stats import fit_line
from zinc_kettle.core.stats.ratios import ALPHA, clearly_apart

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
        wrong += bool(clearly_apart(columns, int(np.log(columns).mean(axis=1).argmax())).any())
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
        claimed += at == 1 and bool(clearly_apart(columns, at)[0])
        picked += bool(np.median(moody) > np.median(steady)) and bool(clearly_apart(columns, 1)[0])
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


FRONTIERS = {
    "straight": (10.0, 7.75, 5.5, 3.25, 1.0), "bent the other way": (10.0, 4.0, 2.5, 1.5, 1.0),
    "bent at the third": (10.0, 9.0, 8.0, 4.0, 1.0),
}  # fmt: skip


def kneed(name: str, blocks: int, sigma: float, trials: int) -> tuple[float, float]:
    """Share of frontiers of five loads that are given a knee, and of those how many have the third in its interval."""
    rng, named, held = np.random.default_rng([len(name), blocks, round(1e3 * sigma)]), 0, 0
    exact = np.stack([np.linspace(1.0, 9.0, 5), np.array(FRONTIERS[name])], axis=1)
    for _ in range(trials):
        found = knee(exact * np.exp(rng.normal(0, sigma, (blocks, 5, 2))))
        named += found is not None
        held += found is not None and found.low <= 2 <= found.high
    return named / trials, held / max(1, named)


def page(trials: int) -> str:
    """docs/verdicts.md."""
    out = [
        "# How often verdicts are wrong under other noises", "",
        f"Written by `make bench-verdicts`: {trials:,} runs for each figure. Figures are made by formulas of the "
        "benchmark; what judges them is the tool's own.", "",
        "## A machine that slows down with every step", "",
        "Equal cells, noise 1%, in the tool's own order of blocks (drawn for each run, mirrored in every other block). "
        "Share of runs in which a cell is put below the best; 5% may be.", "",
        "| cells, slower by step | " + " | ".join(f"{n} repeats" for n in COUNTS) + " |",
        "|---|" + "---|" * len(COUNTS),
    ]  # fmt: skip
    for cells in (2, 6):
        for drift in DRIFTS:
            shares = [told_apart(cells, n, drift, trials) for n in COUNTS]
            out.append(f"| {cells}, {drift:.1%} | " + " | ".join(f"{share:.1%}" for share in shares) + " |")
    out += ["", "## A cell with a slow mode", "",
            "One cell is steady; the other is 3% faster, and 0.6 times as fast in some of its repeats, so that it is "
            "slower on average. Share of runs in which it is called faster (5% may be), and what it would be if the "
            "leader were picked by its median and tested by the distance of the means alone.", "",
            "| slow in | repeats | called faster | picked by median |", "|---|---|---|---|"]  # fmt: skip
    for low in (0.2, 0.4):
        for n in (6, 12, 20):
            ours, median = wrong_best(n, low, trials)
            out.append(f"| {low:.0%} of repeats | {n} | {ours:.1%} | {median:.1%} |")
    out += ["", "## What fails at a gate", "",
            "Builds that fail alike: half of the requests of some repeats. Share of gates that say *worse*; 5% may.",
            "",
            "| repeats of each | one repeat in ten | one in three |", "|---|---|---|"]  # fmt: skip
    for n in (6, 12, 24):
        out.append(f"| {n} | {failing(n, 0.1, 0.5, trials):.1%} | {failing(n, 1 / 3, 0.5, trials):.1%} |")
    out += ["", "A build half of whose repeats crash, against one that never does:", "",
            "| repeats of each | worse | not settled | fine |", "|---|---|---|---|"]  # fmt: skip
    for n in (6, 12, 24):
        worse, fine = caught(n, trials)
        out.append(f"| {n} | {worse:.1%} | {1 - worse - fine:.1%} | {fine:.1%} |")
    out += ["", "## A line that bends, and one that does not", "",
            "TTFT over five prompt lengths; a slow block slows all of its prompts alike. Share of studies called "
            "*curved*: of straight lines 5% may be, of those where the longest takes a tenth more all should be.", "",
            "| blocks, block noise, own noise | straight | a tenth more |", "|---|---|---|"]  # fmt: skip
    for n in (3, 6):
        for slow, sigma in ((0.0, 0.01), (0.1, 0.01), (0.1, 0.03)):
            straight, curved = (bent(n, slow, sigma, bend, trials) for bend in (0.0, 0.1))
            out.append(f"| {n}, {slow:.0%}, {sigma:.0%} | {straight:.1%} | {curved:.1%} |")
    out += ["", "## A frontier and its knee", "",
            "Five loads. Share of frontiers that are given a knee (of those without one 5% may be), and of the bent "
            "ones that are, how many have it in the interval.", "",
            "| blocks, noise | " + " | ".join(FRONTIERS) + " | in the interval |", "|---|" + "---|" * 4]  # fmt: skip
    for n, sigma in ((3, 0.02), (6, 0.02), (6, 0.05), (12, 0.05)):
        found = [kneed(name, n, sigma, trials) for name in FRONTIERS]
        shares = " | ".join(f"{share:.1%}" for share in (*(named for named, _ in found), found[-1][1]))
        out.append(f"| {n}, {sigma:.0%} | {shares} |")
    return "\n".join(out) + "\n"


def main() -> int:
    """Simulate, and write the page."""
    text = page(int(sys.argv[1]) if len(sys.argv) > 1 else TRIALS)
    print(text)
    if len(sys.argv) < 2:
        DOC.write_text(text, encoding="utf-8")
    return 0


if __name__ == "__main__":
    sys.exit(main())
