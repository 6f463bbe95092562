"""Two sets of cells laid beside each other: who belongs together, what differs, and who has no counterpart."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping

import numpy as np
import pytest

from tests.build import repeat, repeats_at, study, timeline
from zinc_kettle.core.compare.cells import Samples, differs, ratio, standing
from zinc_kettle.core.compare.duel import duel
from zinc_kettle.core.compare.gains import gains
from zinc_kettle.core.compare.sides import Alignment, Side, align
from zinc_kettle.core.compare.worked import last_worked
from zinc_kettle.core.plan.factors import Level
from zinc_kettle.core.plan.study import Study
from zinc_kettle.core.record.value import Value
from zinc_kettle.core.results import Failure, KeptRepeat, RunInfo, StudyResults
from zinc_kettle.core.stats import Interval


def results(plan: Study | None = None, rate: float = 10.0, *, engine: str = "1", kernel: str = "6.1") -> StudyResults:
    """A study whose every cell has three repeats, of this version of an engine, on this machine."""
    made = plan or study()
    kept = {
        c.key: [
            KeptRepeat("measured", r, facts={"version": engine}) for r in repeats_at(rate, rate * 1.01, rate * 1.02)
        ]
        for c in made.cells
    }
    run = RunInfo("run", facts={"processor": "made up", "kernel": kernel})
    return StudyResults.of_repeats(made, kept, run)


def told(found: Alignment) -> set[tuple[str, str, str]]:
    """What differs in all pairs."""
    return {(d.name, d.a, d.b) for d in found.differences}


def test_levels_of_one_study_are_paired_with_all_else_equal() -> None:
    """Q8_0 against Q4_0: a pair for each thread count, and exactly one thing differs."""
    one = results()
    found = align(Side(one, {"quantization": "Q8_0"}), Side(one, {"quantization": "Q4_0"}))
    assert [(p.a.cell.levels["threads"], p.b.cell.levels["threads"]) for p in found.pairs] == [(1, 1), (2, 2)]
    assert all(p.clean for p in found.pairs) and told(found) == {("quantization", "Q8_0", "Q4_0")} and not found.without


def test_another_engine_is_one_change() -> None:
    """What it says of itself, and settings it does not have, are no further differences."""
    plan = study({"engine": ("built-in", "mistralrs")}, hold={"model": "brine-15m"})
    kept = {
        c.key: [KeptRepeat("measured", r, facts={"version": str(c.index)}) for r in repeats_at(9.0, 9.1)]
        for c in plan.cells
    }
    one = StudyResults.of_repeats(plan, kept)
    found = align(Side(one, {"engine": "built-in"}), Side(one, {"engine": "mistralrs"}))
    assert [p.clean for p in found.pairs] == [True] and told(found) == {("engine", "built-in", "mistralrs")}


def test_two_runs_pair_cell_by_cell_and_every_change_is_listed() -> None:
    """Same study, another version of the engine and another kernel: two changes, so no pair is clean."""
    found = align(Side(results(engine="1")), Side(results(engine="2", kernel="6.2")))
    assert len(found.pairs) == 6 and not any(p.clean for p in found.pairs)
    assert told(found) == {("version", "1", "2"), ("kernel", "6.1", "6.2")}
    alone = align(Side(results(engine="1")), Side(results(engine="2")))
    assert all(p.clean for p in alone.pairs)


REASONS: dict[str, tuple[Study, Mapping[str, Level], str]] = {
    "other work": (study(hold={**study().hold, "output_tokens": 9}), {}, "did the same work"),
    "no such level": (study({"quantization": ("Q6_K",), "threads": (1,)}), {}, "the same levels"),
    "nothing there": (study(), {"threads": 16}, "no cells"),
    "several": (study({"quantization": ("F16",), "threads": (1,), "batch": (32, 64)}), {}, "choose one by batch"),
}


@pytest.mark.parametrize("name", REASONS)
def test_who_has_no_counterpart_says_why(name: str) -> None:
    """Other prompts, other levels, nothing there, or more than one that fits."""
    other, levels, reason = REASONS[name]
    found = align(Side(results(), {"threads": 1}), Side(results(other), levels))
    assert not found.pairs and reason in found.without[0].reason


def test_the_rule_of_ratios_can_be_replaced_and_a_ratio_is_kept_until_a_cell_changes() -> None:
    """One function says what interval a ratio has; what was computed is computed again only for a changed cell."""
    fast, slow = results(rate=20.0).cells[0], results(rate=10.0).cells[0]
    seen: list[tuple[Samples, Samples]] = []

    def rule(a: Samples, b: Samples) -> Interval:
        seen.append((a, b))
        return Interval(2.0, 1.9, 2.1, "interval95", 3)

    assert ratio(fast, slow, "decode", rule=rule) == Interval(2.0, 1.9, 2.1, "interval95", 3)
    assert seen[0][0].blocks == (0, 1, 2), "a paired rule needs to know the blocks"
    usual = ratio(fast, slow, "decode")
    assert usual is not None and usual.value == pytest.approx(2.0) and differs(usual) and not differs(None)
    assert ratio(fast, slow, "decode") is usual
    assert ratio(fast, results(rate=10.0).cells[0], "decode") is not usual


def test_gains_look_at_every_pair_and_leave_out_what_is_not_there() -> None:
    """Three quantizations by two threads: three pairs for threads, and the best quantization against each other one."""
    plan = study()
    rates = {c.key: 10.0 * (c.index + 1) for c in plan.cells[:5]}
    kept = {key: [KeptRepeat("measured", r) for r in repeats_at(v, 1.01 * v, v)] for key, v in rates.items()}
    found = {(g.factor, g.low, g.high): g for g in gains(StudyResults.of_repeats(plan, kept), "decode")}
    assert len(found["threads", 1, 2].ratios) == 2, "the pair of Q4_0 is not complete"
    assert [r.value for r in found["quantization", "F16", "Q4_0"].ratios] == pytest.approx([5.0])
    assert [r.value for r in found["quantization", "Q8_0", "Q4_0"].ratios] == pytest.approx([5 / 3])
    assert ("quantization", "F16", "Q8_0") not in found
    empty = dataclasses.replace(plan, name="nothing")
    assert gains(StudyResults(empty), "decode") == []


def test_a_ratio_of_percentiles_is_that_of_the_headlines() -> None:
    """Each pools all requests of its cell; bounds lie about it as far as those of the repeats' own percentiles."""
    rng = np.random.default_rng(6)
    plan = study({"threads": (1, 2)})
    one, two = plan.cells

    def waits(scale: float) -> list[KeptRepeat]:
        of_block = [rng.lognormal(0, 0.4, 40) * 100 * scale for _ in range(4)]
        return [
            KeptRepeat("measured", repeat(*(timeline([w, w + 20]) for w in block), block=i))
            for i, block in enumerate(of_block)
        ]

    results = StudyResults.of_repeats(plan, {one.key: waits(1.5), two.key: waits(1.0)})
    a, b = results.cells
    found, x, y = ratio(a, b, "ttft_p95"), a.value("ttft_p95"), b.value("ttft_p95")
    assert found is not None and isinstance(x, Value) and isinstance(y, Value)
    assert found.value == pytest.approx(x.value / y.value) and found.low < found.value < found.high
    each = np.log(a.series("ttft_p95")) - np.log(b.series("ttft_p95"))
    assert np.log(found.high / found.low) / 2 == pytest.approx(3.1824 * each.std(ddof=1) / 2, rel=1e-3)


def test_the_cell_that_leads_is_the_one_the_test_finds_ahead() -> None:
    """One cell is usually a little faster and at times half as fast: its median leads, its mean does not, and it is the
    mean that is tested. Found by the mean on the logarithm, in either direction of better."""
    steady, moody = [10.0, 10.1, 10.2] * 8, [10.4, 10.5, 5.0] * 8
    plan = study({"threads": (1, 2)})
    rates = dict(zip(plan.by_key, (steady, moody), strict=True))
    kept = {key: [KeptRepeat("measured", r) for r in repeats_at(*values)] for key, values in rates.items()}
    found = standing(StudyResults.of_repeats(plan, kept, RunInfo("run")), "decode")
    assert found.best is not None and found.best.cell.key == next(iter(plan.by_key)) and not found.tied
    slow = standing(StudyResults.of_repeats(plan, kept, RunInfo("run")), "tpot")
    assert slow.best is not None and slow.best.cell.key == found.best.cell.key


def test_a_duel_shows_the_figures_its_ratio_is_of() -> None:
    """B over A is the quotient of the two that stand beside it, whatever their medians are."""
    plan = study({"threads": (1, 2)})
    rates = dict(zip(plan.by_key, ([10.0, 10.1, 10.2] * 4, [10.4, 10.5, 5.0] * 4), strict=True))
    kept = {key: [KeptRepeat("measured", r) for r in repeats_at(*values)] for key, values in rates.items()}
    run = StudyResults.of_repeats(plan, kept, RunInfo("run"))
    (contest,) = duel(Side(run, {"threads": 1}), Side(run, {"threads": 2}), ["decode"]).contests
    assert contest.a and contest.b and contest.ratio is not None
    assert contest.b / contest.a == pytest.approx(contest.ratio.value)
    assert contest.a == pytest.approx(float(np.exp(np.log(rates[next(iter(rates))]).mean())), rel=1e-6)


def test_what_changed_since_a_cell_was_measured_last() -> None:
    """The newest run that has it counts; what is not as it was then is told, also by a duel that compares nothing."""
    plan = study({"threads": (1, 2)}, hold={"model": "brine-15m", "prompt_tokens": 64, "context": 512})
    old, newer = results(plan, engine="1"), results(plan, engine="2", kernel="6.2")
    key = plan.cells[0].key
    failed = StudyResults.of_repeats(
        plan,
        {key: [KeptRepeat("failed", repeat(block=0), facts={"version": "2"}, failure=Failure("launch", "no memory"))]},
        RunInfo("run", facts={"processor": "made up", "kernel": "6.3"}),
    )
    cell = failed.cell(key)
    assert cell.state == "failed"
    worked = last_worked(failed, cell, [newer, old])
    assert worked is not None and worked.results is newer
    assert [(d.name, d.a, d.b) for d in worked.changed] == [("kernel", "6.2", "6.3")]
    assert last_worked(failed, cell, []) is None
    found = duel(Side(old, {"threads": 1}), Side(failed, {"threads": 1}))
    assert not found.alignment.pairs and told(found.alignment) == {("version", "1", "2"), ("kernel", "6.1", "6.3")}
