"""The gate: what it lets through, what it stops, what it leaves open, and how often that is wrong."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from scipy import stats

from tests.build import run
from zinc_kettle.core.compare.gate import Gate, gate, held_failures, planned_looks
from zinc_kettle.core.compare.sides import Side
from zinc_kettle.core.results import Failure, KeptRepeat, StudyResults
from zinc_kettle.core.stats.ratios import ALPHA, one_sided, paired_ratio, unpaired_ratio
from zinc_kettle.present.gate import gate_json, gate_markdown, gate_sentence


def build(name: str, factor: float, noise: float, *, seed: int, n: int = 6) -> StudyResults:
    """A run of one build: all cells so many times as fast as the usual one."""
    draw = np.random.default_rng(seed)
    return run(
        name,
        {(q, t): list(10 * t * factor * np.exp(draw.normal(0, noise, n))) for q in ("Q8_0", "Q4_0") for t in (1, 2)},
    )


def held(factor: float, noise: float = 0.02, *, seed: int = 1, **given: object) -> Gate:
    """A build that is so many times as fast, held against the usual one, which was measured in a run of its own."""
    old, new = build("old", 1.0, noise, seed=2 * seed), build("new", factor, noise, seed=2 * seed + 1)
    return gate(Side(old), Side(new), ["decode"], **given)  # type: ignore[arg-type]


def test_one_sided_bounds_are_those_of_the_textbook() -> None:
    """A bound at 5% is where the t test of that hypothesis has a p of 5%; narrower chances give wider bounds."""
    draw = np.random.default_rng(5)
    a, b = (np.exp(draw.normal(0, 0.05, n)) for n in (7, 9))
    for alpha in (0.05, 0.01):
        low, high = one_sided(unpaired_ratio(list(a), list(b)), alpha)
        below = stats.ttest_ind(np.log(a) - np.log(low), np.log(b), equal_var=False, alternative="greater")
        above = stats.ttest_ind(np.log(a) - np.log(high), np.log(b), equal_var=False, alternative="less")
        assert [below.pvalue, above.pvalue] == pytest.approx([alpha, alpha], rel=1e-6)
    paired = one_sided(paired_ratio(list(a), list(b[:7])), 0.025)
    both = paired_ratio(list(a), list(b[:7]))
    assert paired == pytest.approx((both.low, both.high))
    assert one_sided(paired_ratio([2.0, 4.0, 6.0], [1.0, 2.0, 3.0]), 0.01) == (2.0, 2.0)
    with pytest.raises(ValueError, match="range"):
        one_sided(paired_ratio([1.0, 2.0], [1.0, 1.0]), 0.05)


@pytest.mark.parametrize(("factor", "verdict"), [(1.0, "fine"), (1.2, "fine"), (0.9, "worse"), (0.97, "open")])
def test_a_loss_is_told_where_it_is_beyond_what_may_be(factor: float, verdict: str) -> None:
    """As fast or faster passes, a tenth slower does not, and what lies at the limit is not settled."""
    found = held(factor)
    (guarded,) = found.guarded
    assert found.verdict == verdict and guarded.loss == pytest.approx(1 - factor, abs=0.02)
    assert guarded.loss is not None and guarded.low is not None and guarded.high is not None
    assert guarded.low < guarded.loss < guarded.high
    told = gate_json(found)
    assert told["verdict"] == verdict and told["measures"]["decode"]["loss"] == pytest.approx(guarded.loss, rel=1e-3)
    assert gate_sentence(found)[:1].upper() in gate_markdown(found)


@pytest.mark.parametrize("factor", [0.8, 0.96, 1.0, 1.3])
def test_speed_and_time_per_token_tell_the_same(factor: float) -> None:
    """Less is better of one, more of the other: a clear loss of speed is a clear gain of time, never the other way."""
    old, new = build("old", 1.0, 0.01, seed=6), build("new", factor, 0.01, seed=7)
    speed, time = gate(Side(old), Side(new), ["decode", "tpot"]).guarded
    assert speed.loss is not None and time.loss is not None
    assert (1 - speed.loss) * (1 + time.loss) == pytest.approx(1.0)
    assert {speed.verdict, time.verdict} not in ({"worse", "fine"}, {"fine", "worse"})


def test_more_measures_need_more_to_stop_a_build() -> None:
    """The chance of stopping a good build is divided among the measures; that of letting a bad one pass is not."""
    old, new = build("old", 1.0, 0.02, seed=4), build("new", 0.95, 0.02, seed=5)
    alone = gate(Side(old), Side(new), ["decode"]).guarded[0]
    among = gate(Side(old), Side(new), ["decode", "ttft", "latency_p95"]).guarded[0]
    assert alone.low is not None and among.low is not None and among.low < alone.low and among.high == alone.high


def test_looks_share_the_chance() -> None:
    """Six repeats at first and twenty-four at most: looks grow, and their shares make 5% together."""
    planned = planned_looks(6, 24)
    assert planned[0] == 6 and planned[-1] == 24 and list(planned) == sorted(set(planned))
    widths = [held(1.0, look=look, planned=planned).guarded[0] for look in range(1, len(planned) + 1)]
    highs = [g.high for g in widths if g.high is not None]
    assert highs == sorted(highs, reverse=True) and len(highs) == len(planned)
    assert sum(ALPHA * n / sum(planned) for n in planned) == pytest.approx(ALPHA)


def test_a_build_that_cannot_be_measured_fails_and_too_few_repeats_settle_nothing() -> None:
    """No verdict on speed stands in for a build that does not start; two repeats are open, not fine."""
    few = gate(Side(build("a", 1.0, 0.02, seed=1, n=2)), Side(build("b", 1.0, 0.02, seed=2, n=2)), ["decode"])
    assert few.verdict == "open" and "three of each" in gate_markdown(few)
    nothing = Side(run("b", {}))
    assert gate(Side(build("a", 1.0, 0.02, seed=1)), nothing, ["decode"]).verdict == "open"
    with pytest.raises(ValueError, match="no better"):
        gate(nothing, nothing, ["output_tokens"])
    with pytest.raises(ValueError, match="share"):
        gate(nothing, nothing, ["decode"], worse_than=0.0)


def test_equal_builds_are_rarely_stopped_and_slower_ones_rarely_pass() -> None:
    """Fifteen of each, two runs apart: the full count is in docs/answers.md."""
    equal = [held(1.0, 0.015, seed=seed).verdict for seed in range(15)]
    slower = [held(0.92, 0.015, seed=100 + seed).verdict for seed in range(15)]
    assert equal.count("worse") <= 1 and slower.count("fine") <= 1
    assert equal.count("fine") > 10 and slower.count("worse") > 10


def failing(results: StudyResults, requests: float, repeats: int = 0) -> StudyResults:
    """The run with a share of the requests of every repeat failed, and so many repeats of each cell failed outright."""
    kept = {}
    for cell in results.cells:
        whole = list(cell.read_repeats())
        spoilt = [_with_failed(k, requests) for k in whole[repeats:]]
        lost = [replace(k, state="failed", failure=Failure("requests", "it crashed", "")) for k in whole[:repeats]]
        kept[cell.cell.key] = [*lost, *spoilt]
    return StudyResults.of_repeats(results.study, kept, results.run)


def _with_failed(kept: KeptRepeat, share: float) -> KeptRepeat:
    good = kept.repeat.timelines[-1]
    many = [replace(good, request_id=f"r-{i}") for i in range(20)]
    bad = [replace(t, complete=False, error="reset") for t in many[: round(20 * share)]]
    warm = [t for t in kept.repeat.timelines if t.role != "measured"]
    return replace(kept, repeat=replace(kept.repeat, timelines=(*warm, *bad, *many[len(bad) :])))


@pytest.mark.parametrize(
    ("requests", "repeats", "verdict"),
    [(0.0, 0, "fine"), (0.75, 0, "worse"), (0.0, 3, "worse"), (0.0, 1, "open"), (0.05, 0, "worse")],
)
def test_a_build_that_fails_more_is_never_fine(requests: float, repeats: int, verdict: str) -> None:
    """Three of four requests in every repeat, or half of the repeats, stop it; a single repeat is not settled."""
    old, new = build("old", 1.0, 0.01, seed=1), failing(build("new", 1.0, 0.01, seed=2), requests, repeats)
    found = gate(Side(old), Side(new), ["decode"])
    assert found.failures.verdict == verdict and found.verdict == ("open" if verdict == "open" else verdict)
    told = gate_json(found)
    assert told["failures"]["verdict"] == verdict and told["failures"]["b"] == pytest.approx(found.failures.b, rel=1e-4)
    same = failing(build("old", 1.0, 0.01, seed=1), requests)
    if not repeats:
        assert gate(Side(same), Side(new), ["decode"]).failures.verdict == "fine", "no more than before"


def test_the_chance_of_failures_is_the_hypergeometric_one() -> None:
    """Whole repeats that failed: Fisher's exact test, found another way."""
    found = held_failures([0.0] * 6, [1.0, 1.0, 0.0, 0.0, 0.0, 0.0], 0.0, ALPHA)
    chance = stats.fisher_exact(np.array([[2, 4], [0, 6]]), alternative="greater").pvalue
    assert found.p == pytest.approx(chance) and found.verdict == "open"


def test_failures_of_equal_builds_are_rarely_called_worse() -> None:
    """Half of the requests of one repeat in ten fail, on both sides alike; claimed in no more than 5%."""
    draw = np.random.default_rng(3)
    both = 0.5 * (draw.random((200, 2, 8)) < 0.1)
    claims = sum(held_failures(list(a), list(b), 0.01, ALPHA).verdict == "worse" for a, b in both)
    assert claims <= 16


def test_a_cell_that_has_no_counterpart_keeps_a_gate_from_being_fine() -> None:
    """It was measured before and is not now, whatever the others say."""
    old = build("old", 1.0, 0.01, seed=1)
    kept = {c.cell.key: list(c.read_repeats()) for c in build("new", 1.0, 0.01, seed=2).cells[:-1]}
    new = StudyResults.of_repeats(old.study, kept, replace(old.run, run_id="new"))
    found = gate(Side(old), Side(new), ["decode"])
    assert found.verdict == "open" and [u.cell.title for u in found.missing] == gate_json(found)["missing"]
    assert all(g.verdict == "fine" for g in found.guarded)
