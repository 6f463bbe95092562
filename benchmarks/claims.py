"""`make bench-claims`: how often what the tool says of repeats is right, simulated with the tool's own functions.

    PYTHONPATH=. python benchmarks/claims.py [--trials N] [--check]

Cells are equal, or differ by a known ratio; noise is drawn on the logarithm of a figure. Writes docs/claims.md and
benchmarks/out/claims.json; with --check nothing is written, and a missed target ends it with 1.
"""

from __future__ import annotations

import json
import sys
from collections.abc import Callable
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
from scipy import stats

from zinc_kettle.core.stats.ratios import ALPHA, clearly_apart, holm, paired_ratio, pairs_p

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
    "normal": normal, "slow tail": slow_tail, "bimodal": bimodal, "heavy tails": heavy, "one noisy cell": unequal,
    "drift": drift, "waves 0.5, shared": waves(0.5, shared=True), "waves 0.8, shared": waves(0.8, shared=True),
    "waves 0.5, own": waves(0.5, shared=False), "waves 0.8, own": waves(0.8, shared=False),
}  # fmt: skip
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


def _row(what: str, noise: str, n: int, cells: int, hits: int, trials: int, *, at_least: float = 0.0,
         at_most: float = 1.0, statistic: str = "ratio", rule: str = "fixed") -> Row:  # fmt: skip
    value, target = hits / trials, at_least or at_most
    slack = MARGIN * (max(target * (1 - target), 1e-4) / trials) ** 0.5
    met = value >= target - slack if at_least else value <= target + slack
    bound = target not in {0.0, 1.0} and noise not in IMPOSSIBLE
    return Row(what, statistic, noise, n, cells, rule, trials, round(value, 4), target, bool(met) if bound else None)


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


def false_best(rng: np.random.Generator, noise: str, n: int, cells: int, trials: int) -> Row:
    """How often at least one of some equal cells is put below the best-looking one."""
    wrong = 0
    for _ in range(trials):
        columns = np.exp(NOISES[noise](rng, cells, n))
        wrong += bool(clearly_apart(columns, int(np.argmax(np.median(columns, axis=1)))).any())
    return _row("false_claim", noise, n, cells, wrong, trials, at_most=0.05, statistic="best")


def false_gain(rng: np.random.Generator, noise: str, n: int, cells: int, trials: int) -> Row:
    """How often a factor that does nothing is said to do something anywhere, over all its neighbouring levels."""
    wrong = 0
    for _ in range(trials):
        columns = np.exp(NOISES[noise](rng, cells, n))
        wrong += min(holm(pairs_p(columns, [(i + 1, i) for i in range(cells - 1)]))) < ALPHA
    return _row("false_claim", noise, n, cells, wrong, trials, at_most=0.05, statistic="gains")


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


def rows(trials: int) -> list[Row]:
    """Everything, each row with a seed of its own."""
    out: list[Row] = []
    for noise in NOISES:
        for n in COUNTS:
            rng = np.random.default_rng([11, list(NOISES).index(noise), n])
            out += coverage(rng, noise, n, trials)
            out += [false_best(rng, noise, n, cells, trials) for cells in CELLS]
            out += [false_gain(rng, noise, n, cells, trials) for cells in CELLS[1:]]
            for gain in GAINS if noise in {"normal", "waves 0.8, shared"} else ():
                out += power(rng, noise, n, gain, trials)
    return out


def _table(found: list[Row], what: str, statistic: str, cells: int) -> str:
    lines = [f"| noise | {' | '.join(str(n) for n in COUNTS)} |", f"|---{'|---' * len(COUNTS)}|"]
    for noise in dict.fromkeys(r.noise for r in found if r.what == what):
        mine = {r.n: r for r in found if (r.what, r.statistic, r.cells, r.noise) == (what, statistic, cells, noise)}
        shown = [f"{mine[n].value:.1%}{'' if mine[n].met is not False else ' ✕'}" for n in COUNTS]
        lines.append(f"| {noise} | {' | '.join(shown)} |")
    return "\n".join(lines)


def page(found: list[Row], trials: int) -> str:
    """docs/claims.md."""
    missed = sum(1 for r in found if r.met is False)
    parts = [TEXT.format(trials=f"{trials:,}", rows=len(found), missed=missed or "none")]
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

*Waves, shared* are slow changes of the machine that hit all cells of a block alike; *waves, own* are a cell's own
slow wandering, independent of all others. No order of measuring can tell those from the cell's level: the rows show
how far the claims then are from what they say, and no target is set. Shuffled blocks make them unlikely:
neighbouring repeats of a cell are a whole block apart.

What is missed: with three repeats, a cell that is four times as noisy as all others is told apart too often. Three
repeats tell too little of its noise, and the others' quietness speaks for it. The caution *noisy* stands beside
such a cell."""


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
