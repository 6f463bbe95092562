"""One side against another: what is said, and how often that is wrong."""

from __future__ import annotations

import numpy as np
import pytest

from tests.build import repeats_at, study
from zinc_kettle.core.compare import Side
from zinc_kettle.core.duel import duel, effort
from zinc_kettle.core.results import KeptRepeat, RunInfo, StudyResults
from zinc_kettle.present.duel import duel_json, duel_rows, verdict


def run(name: str, rates: dict[tuple[str, int], list[float]], **changes: object) -> StudyResults:
    """A run whose cells decode at these rates, repeat by repeat."""
    plan = study()
    kept = {
        cell.key: [KeptRepeat("measured", r) for r in repeats_at(*rates[tuple(cell.levels.values())])]  # type: ignore[index]
        for cell in plan.cells if tuple(cell.levels.values()) in rates
    }  # fmt: skip
    return StudyResults.of_repeats(plan, kept, RunInfo(name, **changes))  # type: ignore[arg-type]


def rates(factor: float, noise: float = 0.01, *, seed: int = 1, n: int = 8) -> dict[tuple[str, int], list[float]]:
    """Two quantizations by two threads; Q4_0 so many times as fast, all with the same slow minutes."""
    draw = np.random.default_rng(seed)
    minutes = np.exp(draw.normal(0, 0.1, n))
    return {
        (q, t): list(10 * t * (factor if q == "Q4_0" else 1) * minutes * np.exp(draw.normal(0, noise, n)))
        for q in ("Q8_0", "Q4_0") for t in (1, 2)
    }  # fmt: skip


def sides(results: StudyResults, other: StudyResults | None = None) -> tuple[Side, Side]:
    """Q8_0 and Q4_0."""
    return Side(results, {"quantization": "Q8_0"}), Side(other or results, {"quantization": "Q4_0"})


def test_one_change_in_one_run_is_the_clean_case() -> None:
    """Paired by block over both thread counts, slow minutes cancel: 5% is told, with an interval around it."""
    found = duel(*sides(run("r", rates(1.05))), ["decode"])
    (contest,) = found.contests
    assert found.paired and len(found.alignment.pairs) == 2 and not found.cautions
    assert [d.name for d in found.alignment.differences] == ["quantization"]
    assert contest.ratio is not None and contest.ratio.low < 1.05 < contest.ratio.high < 1.07
    assert contest.verdict == "b" and "B has" in verdict(found, "decode") and "more decode" in verdict(found, "decode")
    told = duel_json(found, "decode")
    assert told["measures"]["decode"]["verdict"] == "b" and told["differences"][0]["b"] == "Q4_0"
    assert duel_rows(found)[0][4] == "B is better"


def test_equal_sides_are_open_and_say_what_is_ruled_out() -> None:
    """No clear difference, with the largest one that is still possible, and what would settle it."""
    found = duel(*sides(run("r", rates(1.0, 0.02))), ["decode"])
    (contest,) = found.contests
    assert contest.verdict == "open" and contest.ruled_out is not None and 0 < contest.ruled_out < 0.06
    assert "is ruled out" in verdict(found, "decode")
    more = effort(found, "decode", smallest=0.03)
    assert more is not None and more.repeats >= 1


def test_two_runs_are_unpaired_and_slow_minutes_stay() -> None:
    """The same figures in two runs: the interval is as wide as the minutes make it, and that is said."""
    one, two = run("one", rates(1.05)), run("two", rates(1.05, seed=2))
    apart, together = duel(*sides(one, two), ["decode"]), duel(*sides(one), ["decode"])
    wide, narrow = apart.contests[0].ratio, together.contests[0].ratio
    assert wide is not None and narrow is not None and wide.high / wide.low > 2 * (narrow.high / narrow.low - 1) + 1
    assert "unpaired" in apart.cautions


@pytest.mark.parametrize("n", [1, 2])
def test_too_few_repeats_make_no_claim(n: int) -> None:
    """Under three nothing is told; who has no counterpart is named."""
    found = duel(*sides(run("r", rates(2.0, n=n))), ["decode"])
    assert found.contests[0].ratio is None and "needs three repeats" in verdict(found, "decode")
    nobody = duel(Side(run("r", rates(2.0))), Side(run("r", rates(2.0)), {"threads": 9}), ["decode"])
    assert verdict(nobody, "decode").startswith("cannot be compared") and "different-workload" in nobody.cautions


def test_equal_sides_are_told_apart_in_few_of_many_runs() -> None:
    """A hundred runs of equal sides, all measures looked at: a difference is claimed in few of them."""
    claimed = sum(
        any(c.verdict in {"a", "b"} for c in duel(*sides(run("r", rates(1.0, 0.03, seed=seed)))).contests)
        for seed in range(100)
    )
    assert claimed <= 12  # 5 are expected; more than 12 has a chance of one in a thousand
