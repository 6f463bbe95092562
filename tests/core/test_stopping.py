"""Until the question is answered: who drops out, when it ends, and what is said to be alike."""

from __future__ import annotations

import re

import numpy as np

from tests.build import measured, repeats_at, study
from zinc_kettle.core.compare.cells import ratio, repeats_needed, standing
from zinc_kettle.core.plan.study import Repeats
from zinc_kettle.core.results import StudyResults
from zinc_kettle.core.run.stopping import best_so_far, neighbours, pairs_so_far
from zinc_kettle.core.stats.ratios import paired_ratio, required_repeats
from zinc_kettle.present.findings import findings

PLAN = Repeats(count=3, until_answered="best", smallest_percent=3.0, ceiling=30)


def by_block(middle: float, noise: float, seed: int, n: int = 30) -> dict[int, float]:
    """A cell's figures in its blocks."""
    drawn = np.random.default_rng(seed).normal(0, noise, n)
    return {block: float(middle * np.exp(x)) for block, x in enumerate(drawn)}


def test_the_slow_drop_out_and_the_alike_end_together() -> None:
    """A cell far behind is settled first; of two that are alike neither is put below the other."""
    cells = {"slow": by_block(50, 0.01, 1), "a": by_block(100, 0.01, 2), "b": by_block(100.2, 0.01, 3)}
    found = best_so_far(PLAN, cells, more=True)
    assert found.settled["slow"] < found.settled["a"] == found.settled["b"]
    assert set(found.left) == {"a", "b"} and found.alike and found.leader in {"a", "b"}
    fewest = best_so_far(PLAN, cells, more=False)
    assert fewest.leader == "slow" and fewest.left == ("slow",)


def test_nothing_is_answered_before_the_first_look() -> None:
    """Two blocks, or a block that one cell lacks: no leader, and everybody stays."""
    early = best_so_far(PLAN, {"a": by_block(10, 0.1, 1, 2), "b": by_block(20, 0.1, 2, 2)}, more=True)
    assert (early.leader, early.left, early.settled) == ("", ("a", "b"), {})
    gap = by_block(20, 0.1, 2, 3)
    gap.pop(1)
    assert best_so_far(PLAN, {"a": by_block(10, 0.1, 1, 3), "b": gap}, more=True).looked == 0


def test_at_the_ceiling_everything_is_settled_and_open_stays_open() -> None:
    """Noise that hides the answer: the ceiling ends it, and nothing is claimed."""
    cells = {"a": by_block(100, 0.3, 1), "b": by_block(104, 0.3, 2)}
    found = best_so_far(PLAN, cells, more=True)
    assert set(found.left) == {"a", "b"} and not found.alike
    assert set(found.settled.values()) == {30}


def test_pairs_of_a_factor_are_told_apart_or_alike() -> None:
    """A cell goes on while any of its pairs is open."""
    plan = study({"threads": (1, 2, 4)}, repeats=Repeats(count=3, until_answered="threads", ceiling=30))
    one, two, four = (c.key for c in plan.cells)
    assert neighbours(plan, "threads") == [(two, one), (four, two)]
    cells = {one: by_block(50, 0.01, 1), two: by_block(100, 0.01, 2), four: by_block(100.3, 0.01, 3)}
    found = pairs_so_far(plan.repeats, cells, neighbours(plan, "threads"))
    assert found.settled[one] < found.settled[two] == found.settled[four] and found.alike
    assert found.apart == {(two, one)} and found.same == {(four, two)}


def test_what_a_factor_brings_is_told_as_its_looks_told_it() -> None:
    """A study that is repeated until a factor is answered: told apart, or no difference worth knowing."""
    repeats = Repeats(count=3, until_answered="threads", smallest_percent=4.0, ceiling=30)
    plan = study({"threads": (1, 2, 4)}, repeats=repeats)
    noise = np.random.default_rng(3)
    kept = {
        c.key: measured(*repeats_at(*(rate * np.exp(noise.normal(0, 0.004, 6)))))
        for c, rate in zip(plan.cells, (20.0, 30.0, 30.1), strict=True)
    }
    texts = [f.text for f in findings(StudyResults.of_repeats(plan, kept))]
    assert any(re.match(r"2 threads against 1 thread: 1\.(49|50|51) times the decode", t) for t in texts), texts
    assert "4 threads against 2 threads: no difference of more than 4% in decode." in texts


def test_an_open_step_says_what_would_settle_it() -> None:
    """Of a fixed number of repeats: how many more, and how long."""
    plan = study({"threads": (1, 2)}, repeats=Repeats(count=3))
    kept = {c.key: measured(*repeats_at(20.0, 20.5, 19.5 + i)) for i, c in enumerate(plan.cells)}
    texts = [f.text for f in findings(StudyResults.of_repeats(plan, kept))]
    told = next(t for t in texts if "no clear difference in decode; about" in t)
    assert "more repeats" in told and "would tell a difference of" in told


def test_a_standing_follows_the_looks() -> None:
    """What was settled early stays settled: later blocks that a cell lacks are not asked of it."""
    plan = study({"threads": (1, 2)}, repeats=PLAN)
    slow, fast = plan.cells
    results = StudyResults.of_repeats(
        plan, {slow.key: measured(*repeats_at(20.0, 20.1, 19.9)), fast.key: measured(*repeats_at(30.0, 30.1, 30.0))}
    )
    rank = standing(results, "decode")
    assert rank.best is results.cell(fast.key) and not rank.tied


def test_repeats_that_would_settle_it_do() -> None:
    """Simulated: with as many repeats as it says, a difference of that size is told in about nine of ten."""
    rng = np.random.default_rng(9)
    first = paired_ratio(*np.exp(rng.normal(0, 0.03, (2, 400))).tolist())
    n = required_repeats(first, 0.03)
    told = sum(
        paired_ratio(*(np.exp(rng.normal(0, 0.03, (2, n))) * [[1.03], [1.0]]).tolist()).p < 0.05 for _ in range(400)
    )
    assert 0.84 <= told / 400 <= 0.96


def test_effort_needs_something_to_go_by() -> None:
    """Three repeats of both say how it scatters; two say nothing."""
    plan = study({"threads": (1, 2)})
    a, b = plan.cells
    few = StudyResults.of_repeats(
        plan, {a.key: measured(*repeats_at(20.0, 21.0)), b.key: measured(*repeats_at(20.5, 20.0))}
    )
    assert repeats_needed(ratio(few.cells[0], few.cells[1], "decode"), few.cells[:2], smallest=0.03) is None
    some = StudyResults.of_repeats(
        plan, {a.key: measured(*repeats_at(20.0, 21.0, 19.5)), b.key: measured(*repeats_at(20.5, 20.0, 20.2))}
    )
    effort = repeats_needed(ratio(some.cells[0], some.cells[1], "decode"), some.cells[:2], smallest=0.03)
    assert effort is not None and effort.repeats > 3 and effort.share >= 0.03
