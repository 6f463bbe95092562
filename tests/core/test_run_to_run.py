"""How far runs lie apart, and what a comparison of two makes of it."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import stats

from tests.build import repeats_at, study
from zinc_kettle.core.compare.duel import duel, effort, pair_by_pair
from zinc_kettle.core.compare.gate import gate
from zinc_kettle.core.compare.run_to_run import run_to_run
from zinc_kettle.core.compare.sides import Side
from zinc_kettle.core.facts import EngineFacts
from zinc_kettle.core.results import KeptRepeat, RunInfo, StudyResults
from zinc_kettle.core.stats.ratios import allowing_for_runs, one_sided, unpaired_ratio
from zinc_kettle.present.duel import NO_EARLIER, caution_text, duel_json

PLAN = study({"quantization": ("Q8_0", "Q4_0")})


def run(name: str, factor: float, *, seed: int = 1, version: str = "1", missing: str = "") -> StudyResults:
    """Eight repeats of two cells, all so many times as fast as usual."""
    draw = np.random.default_rng(seed)
    kept = {
        cell.key: [
            KeptRepeat("measured", r, facts=EngineFacts(version=version))
            for r in repeats_at(*(20 * factor * np.exp(draw.normal(0, 0.003, 8))))
        ]
        for cell in PLAN.cells
        if cell.levels["quantization"] != missing
    }
    return StudyResults.of_repeats(PLAN, kept, RunInfo(name))


def geometric(results: StudyResults) -> float:
    """The logarithm of the mean figure of a run."""
    return float(np.mean([np.log(cell.series("decode")) for cell in results.cells]))


def test_how_far_runs_lie_apart_is_that_of_earlier_runs_of_the_same_build() -> None:
    """The variance of their means, twice, without the two that are compared, another build, or half a run."""
    a, b = run("a", 1.0), run("b", 1.04, seed=2)
    others = [run(f"run {i}", factor, seed=3 + i) for i, factor in enumerate((0.97, 1.0, 1.05))]
    odd = (run("newer", 1.5, seed=9, version="2"), run("half", 1.5, seed=9, missing="Q4_0"))
    whole = [Side(results, earlier=(*others, a, b, *odd)) for results in (a, b)]
    cells = a.cells, b.cells
    found = run_to_run((whole[0], whole[1]), cells, "decode")
    means = [geometric(results) for results in others]
    assert found is not None and (found.runs, found.df) == (3, 2.0)
    assert found.error == pytest.approx((2 * np.var(means, ddof=1)) ** 0.5, rel=1e-9)
    one = Side(a, earlier=(others[0], b))
    assert run_to_run((one, Side(b)), cells, "decode") is None, "how far one lies from nothing is not known"
    other = Side(odd[0], earlier=tuple(run(f"new {i}", f, seed=20 + i, version="2") for i, f in enumerate((1, 1.02))))
    both = run_to_run((whole[0], other), (a.cells, odd[0].cells), "decode")
    assert both is not None and (both.runs, both.df) == (6, 4.0), "runs of both builds show it"


def test_a_difference_that_earlier_runs_had_by_chance_is_none() -> None:
    """4% between runs that scatter by as much is open, however well each run was measured, and more repeats are not
    said to settle it; where no earlier run is known it is told apart, and that is said."""
    a, b = run("a", 1.0), run("b", 1.04, seed=2)
    others = tuple(run(f"run {i}", factor, seed=3 + i) for i, factor in enumerate((0.97, 1.0, 1.05)))
    plain, known = (
        duel(Side(a), Side(b), ["decode"]),
        duel(Side(a, earlier=others), Side(b, earlier=others), ["decode"]),
    )
    assert plain.contests[0].verdict == "b" and known.contests[0].verdict == "open"
    assert (plain.earlier_runs, known.earlier_runs) == (0, 3) and effort(known, "decode", smallest=0.03) is None
    assert NO_EARLIER in caution_text(plain, "unpaired") and NO_EARLIER not in caution_text(known, "unpaired")
    assert duel_json(known, "decode")["earlier_runs"] == 3
    assert {row.verdict for row in pair_by_pair(known, "decode")} == {"open"}
    assert {row.verdict for row in pair_by_pair(plain, "decode")} == {"b"}
    assert gate(Side(b), Side(a), ["decode"], worse_than=0.02).verdict == "worse"
    assert gate(Side(b, earlier=others), Side(a, earlier=others), ["decode"], worse_than=0.02).verdict == "open"
    within = duel(Side(a, {"quantization": "Q8_0"}, others), Side(a, {"quantization": "Q4_0"}, others), ["decode"])
    assert within.paired and within.earlier_runs == 0, "of one run there is nothing to allow for"


def test_bounds_are_the_wider_ones_at_every_level() -> None:
    """Of few earlier runs Student's bounds grow faster as less may be wrong: neither test is passed over."""
    ratio = unpaired_ratio([1.0, 1.02, 0.98, 1.01], [1.1, 1.12, 1.11, 1.08])
    wide = allowing_for_runs(ratio, 0.01, 1.0)
    assert wide.by_runs and not allowing_for_runs(ratio, 1e-4, 9.0).by_runs and not ratio.by_runs
    for alpha in (0.2, 0.05, 0.001):
        half = max(stats.t.ppf(1 - alpha, df) * error for df, error in ((ratio.df, ratio.error), (1.0, 0.01)))
        assert one_sided(wide, alpha) == pytest.approx((ratio.value * np.exp(-half), ratio.value * np.exp(half)))
    assert wide.p == pytest.approx(2 * stats.t.sf(abs(np.log(ratio.value)) / 0.01, 1)) and wide.p > ratio.p
    assert allowing_for_runs(unpaired_ratio([1.0, 1.1], [1.0, 1.2]), 0.01, 1.0).run_error == 0, "a range claims nothing"
