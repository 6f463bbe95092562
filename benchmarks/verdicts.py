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

from zinc_kettle.core.gate import MORE_FAILURES, held_failures
from zinc_kettle.core.schedule import shuffled
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
