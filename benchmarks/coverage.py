"""How often the interval holds the truth when repeating stops as soon as it is narrow enough.

    python benchmarks/coverage.py [TRIALS]

Made-up repeats of a machine with 5% noise (normal, and with a heavy tail), repeated until ±2%, ±4% or a fixed number;
the share of trials whose 95% interval holds the true median. Writes benchmarks/out/coverage.json.
"""

from __future__ import annotations

import json
import sys
from pathlib import Path

import numpy as np

from zinc_kettle.core.plan import Repeats
from zinc_kettle.core.precision import wanted_repeats
from zinc_kettle.core.stats import median_interval

OUT = Path(__file__).parent / "out" / "coverage.json"
TRUE, NOISE = 100.0, 0.05


def trial(rng: np.random.Generator, plan: Repeats, *, heavy: bool) -> tuple[bool, int]:
    """One cell repeated by the rule; whether its interval holds the truth, and how many repeats it took."""
    values: list[float] = []
    while len(values) < plan.most and len(values) < wanted_repeats(plan, values):
        step = rng.standard_t(3) if heavy else rng.normal()
        values.append(TRUE * (1 + NOISE * float(step)))
    interval = median_interval(values)
    return interval.low <= TRUE <= interval.high, len(values)


def main() -> None:
    """Simulate and print."""
    trials = int(sys.argv[1]) if len(sys.argv) > 1 else 400
    rng = np.random.default_rng(7)
    rows = []
    plans = {"fixed 12": Repeats(count=12), "until ±4%": Repeats(count=6, until_percent=4.0, ceiling=60),
             "until ±2%": Repeats(count=6, until_percent=2.0, ceiling=60)}  # fmt: skip
    for name, plan in plans.items():
        for heavy in (False, True):
            seen = [trial(rng, plan, heavy=heavy) for _ in range(trials)]
            row = {
                "rule": name, "noise": "heavy tail" if heavy else "normal", "trials": trials,
                "held": round(sum(ok for ok, _ in seen) / trials, 3),
                "repeats": round(float(np.mean([n for _, n in seen])), 1),
            }  # fmt: skip
            rows.append(row)
            print(json.dumps(row), flush=True)
    OUT.parent.mkdir(parents=True, exist_ok=True)
    OUT.write_text(json.dumps(rows, indent=1) + "\n")


if __name__ == "__main__":
    main()
