"""One side against another: what is said, and how often that is wrong."""

from __future__ import annotations

from dataclasses import replace

import pytest

from tests.build import decode_timeline, rates, repeat, repeats_at, run, study
from zinc_kettle.core.chart import Ranges
from zinc_kettle.core.compare.cells import in_turn
from zinc_kettle.core.compare.duel import duel, effort, ladder, prompt_by_prompt
from zinc_kettle.core.compare.sides import Side
from zinc_kettle.core.plan.study import Repeats
from zinc_kettle.core.record.telemetry import Launch
from zinc_kettle.core.results import KeptRepeat, RunInfo, StudyResults
from zinc_kettle.present.charts.duel import duel_chart, ladder_chart
from zinc_kettle.present.duel import duel_json, duel_rows, ladder_sum, verdict


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
    assert contest.verdict == "b" and verdict(found, "decode").startswith("B's decode is 4.7% faster, between")
    told = duel_json(found, "decode")
    assert told["measures"]["decode"]["verdict"] == "b" and told["differences"][0]["b"] == "Q4_0"
    assert duel_rows(found)[0][4] == "B is better"


def test_a_measure_that_is_asked_about_is_judged_and_cells_without_it_are_left_out() -> None:
    """Also one that the map does not show; a pair that lacks it takes the others' verdict from nobody."""
    plan = study({"quantization": ("Q8_0", "Q4_0"), "threads": (1, 2)})
    kept = {}
    for cell in plan.cells:
        slower = 2 if cell.levels["quantization"] == "Q4_0" else 1
        bare = cell.levels["threads"] == 2
        kept[cell.key] = [
            KeptRepeat("measured", replace(r, launch=None if bare else _launch(cell.index, i, slower)))
            for i, r in enumerate(repeats_at(*[10.0 * slower + i / 10 for i in range(8)]))
        ]
    results = StudyResults.of_repeats(plan, kept)
    found = duel(*sides(results), ["decode"], asked="load_time")
    assert [c.measure for c in found.contests] == ["load_time", "decode"]
    loading = found.contest("load_time")
    assert loading is not None and loading.verdict == "a" and loading.ratio is not None
    assert loading.ratio.value == pytest.approx(2.0, rel=0.01)


def _launch(cell: int, block: int, seconds: float) -> Launch:
    """The launches of the second cell are shared by two repeats each, so that they have no blocks."""
    shared = block // 2 if cell else block
    return Launch(f"{cell}-{shared}", int((seconds + shared / 1000) * 1e9), None)


def test_a_run_launch_by_launch_is_not_paired_between_launches() -> None:
    """Its blocks have no minutes in common but within a launch: unpaired, and said so; in turn within one launch."""
    plan = study(repeats=Repeats(count=8, order="by-launch"))
    kept = {
        cell.key: [KeptRepeat("measured", r) for r in repeats_at(*rates(1.05)[tuple(cell.levels.values())])]  # type: ignore[index]
        for cell in plan.cells
        if cell.levels["quantization"] != "F16"
    }
    results = StudyResults.of_repeats(plan, kept, RunInfo("r"))
    found = duel(*sides(results), ["decode"])
    assert not found.paired and "unpaired" in found.cautions and found.contests[0].verdict == "open"
    loads = study(
        {"quantization": ("Q8_0", "Q4_0"), "concurrency": (1, 2)}, repeats=Repeats(count=8, order="by-launch")
    )
    cells = [StudyResults.of_repeats(loads, {}, RunInfo("r")).cell(cell.key) for cell in loads.cells]
    of = {(str(c.cell.levels["quantization"]), c.cell.levels["concurrency"]): c for c in cells}
    assert in_turn([of["Q8_0", 1], of["Q8_0", 2]]) is (of["Q8_0", 1].cell.launch == of["Q8_0", 2].cell.launch)
    assert not in_turn([of["Q8_0", 1], of["Q4_0", 1]])


def test_what_is_ruled_out_is_no_less_than_the_verdict_left_open() -> None:
    """With several measures open at once the bounds hold together, so that they are wider than each by itself."""
    found = duel(*sides(run("r", rates(1.0, 0.02))))
    still = [c for c in found.contests if c.verdict == "open" and c.ratio is not None]
    assert len(still) > 1
    for contest in still:
        assert contest.ratio is not None and contest.ruled_out is not None
        alone = max(contest.ratio.high, 1 / contest.ratio.low) - 1
        assert contest.ruled_out > alone or alone == 0


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
    """Forty runs of equal sides, all measures looked at: a difference is claimed in few of them."""
    claimed = sum(
        any(c.verdict in {"a", "b"} for c in duel(*sides(run("r", rates(1.0, 0.03, seed=seed)))).contests)
        for seed in range(40)
    )
    assert claimed <= 7  # 2 are expected; more than 7 has a chance of one in a thousand


def test_a_ladder_adds_up() -> None:
    """Steps of known size: each is told, and they multiply to the last over the first."""
    results = run("r", rates(1.3))
    sides = [
        Side(results, dict(zip(("quantization", "threads"), levels, strict=True)))
        for levels in (("Q8_0", 1), ("Q8_0", 2), ("Q4_0", 2))
    ]
    steps = ladder(sides, ["decode"])
    found = [rung.step.contests[0].ratio for rung in steps]
    whole = steps[-1].whole.contests[0].ratio
    assert all(found) and whole is not None
    first, second = (r.value for r in found if r is not None)
    assert first == pytest.approx(2.0, rel=0.03) and second == pytest.approx(1.3, rel=0.03)
    assert first * second == pytest.approx(whole.value, rel=1e-9)
    assert ladder_sum(steps, "decode").startswith("the steps multiply to 2.")
    chart = ladder_chart(steps, "decode")
    assert chart.panels[0].y.labels == ("threads 1 → 2", "quantization Q8_0 → Q4_0")


def test_a_bar_lies_on_the_side_of_the_one_it_favours() -> None:
    """More tokens and less waiting both favour B: both bars lie right of the line, whatever the ratio says."""
    found = duel(*sides(run("r", rates(1.5))), ["decode", "latency_p95"])
    (panel,) = duel_chart(found, "decode").panels
    (bars,) = (mark for mark in panel.marks if isinstance(mark, Ranges))
    assert [found.contests[1].ratio is not None and found.contests[1].ratio.value < 1] == [True]
    assert min(bars.value) > 1 and min(bars.low) > 1 and bars.tones[0] == "best"


def test_prompt_by_prompt_matches_requests_by_their_place() -> None:
    """Two prompts of which only the second is slower on the other side: that is where the difference is found."""
    study_ = study()
    kept = {}
    for cell in study_.cells:
        slow = cell.levels["quantization"] == "Q4_0"
        kept[cell.key] = [
            KeptRepeat(
                "measured",
                repeat(
                    decode_timeline(20.0 + block, request_id=f"x-{1 + 2 * block}"),
                    decode_timeline((5.0 if slow else 10.0) + block, sent_ms=9000, request_id=f"x-{2 + 2 * block}"),
                    block=block,
                ),
            )
            for block in range(5)
        ]
    results = StudyResults.of_repeats(study_, kept, RunInfo("r"))
    rows = prompt_by_prompt(duel(*sides(results), ["decode"]), "decode")
    assert [row.place for row in rows] == [0, 1, 0, 1]
    assert [row.verdict for row in rows] == ["open", "a", "open", "a"] and rows[0].ratio.value == 1.0
