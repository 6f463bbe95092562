"""From best to worst: what is ranked, what is not told apart, money and watts, and an index."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest

from tests.build import powered, rates, repeats_at, run, study
from zinc_kettle.core.chart import Ranges
from zinc_kettle.core.compare.lineup import WORK, Entrant, Lineup, constant, lineup, missing_fact, watts_of
from zinc_kettle.core.compare.sides import Side
from zinc_kettle.core.compare.speed_index import index
from zinc_kettle.core.frontier import frontier, knee
from zinc_kettle.core.plan.study import Repeats
from zinc_kettle.core.preferences import Money, Pace
from zinc_kettle.core.results import KeptRepeat, RunInfo, StudyResults
from zinc_kettle.present.charts.lineup import index_chart, lineup_chart
from zinc_kettle.present.lineup import (
    COUNTED,
    bracket_marks,
    heads,
    index_json,
    index_rows,
    lineup_json,
    lineup_rows,
    money_line,
    page,
    verdict,
)


def fleet(speeds: dict[str, float], *, noise: float = 0.01, n: int = 8, seed: int = 3) -> list[Entrant]:
    """Quantizations that decode at these speeds, in one run whose minutes are slow and fast for all alike."""
    plan = study({"quantization": tuple(speeds), "threads": (1, 2)}, repeats=Repeats(count=n))
    draw = np.random.default_rng(seed)
    minutes = np.exp(draw.normal(0, 0.1, n))
    kept = {
        cell.key: [
            KeptRepeat("measured", r)
            for r in repeats_at(
                *(
                    speeds[str(cell.levels["quantization"])]
                    * int(cell.levels["threads"])
                    * minutes
                    * np.exp(draw.normal(0, noise, n))
                )
            )
        ]
        for cell in plan.cells
    }
    results = StudyResults.of_repeats(plan, kept, RunInfo("run", number=1))
    return [Entrant(name, Side(results, {"quantization": name})) for name in speeds]


def names(found: Lineup) -> list[str]:
    """In their order."""
    return [p.entrant.name for g in found.groups for p in g.places]


def test_best_first_with_brackets_around_what_is_alike() -> None:
    """Two that are equal stand in one bracket; one 20% faster leads alone; values are the mean of both cells."""
    found = lineup(fleet({"Q8_0": 10.0, "Q4_0": 12.0, "F16": 10.02}), "decode", pace=14.0)
    (group,) = found.groups
    assert names(found)[0] == "Q4_0" and group.brackets == ((1, 2),) and found.shared == 2
    assert bracket_marks(group) == [" ", "┌", "└"] and not group.places[0].alike
    assert group.places[0].value == pytest.approx(12.0 * math.sqrt(2), rel=0.1)
    assert [p.keeps_pace for p in group.places] == [True, None, None] or group.places[1].low < 14.0
    assert verdict(found).startswith("Q4_0 leads with 1")
    told = lineup_json(found)
    assert told["groups"][0]["brackets"] == [[1, 2]] and len(lineup_rows(found)) == 3
    chart = lineup_chart(found, Pace(14.0, origin="mine"))
    bars = next(m for m in chart.panels[0].marks if isinstance(m, Ranges))
    assert chart.panels[0].y.labels[0] == "Q4_0" and bars.tones[0] == "best"
    assert any("decode" in line for line in page(group.places[0], found, None, [("decode", 1, 3)]))


def test_equal_ones_are_told_apart_in_few_of_many() -> None:
    """Forty lineups of four equal sides: in few of them any is set apart from any other."""
    wrong = 0
    for seed in range(40):
        found = lineup(fleet({"Q8_0": 10.0, "Q4_0": 10.0, "F16": 10.0, "Q6_K": 10.0}, noise=0.03, seed=seed), "decode")
        wrong += found.groups[0].brackets != ((0, 3),)
    assert wrong <= 7  # 2 are expected; more than 7 has a chance of one in a thousand


def test_sides_of_two_runs_are_unpaired_and_said_to_be() -> None:
    """In the note, in JSON and beside an index; those of one run are not."""
    one, two = run("one", rates(1.2)), run("two", rates(1.2, seed=2))
    apart = [Entrant("a", Side(one, {"quantization": "Q8_0"})), Entrant("b", Side(two, {"quantization": "Q4_0"}))]
    together = [apart[0], Entrant("b", Side(one, {"quantization": "Q4_0"}))]
    for entrants, paired in ((apart, False), (together, True)):
        found = lineup(entrants, "decode")
        assert found.paired is paired and lineup_json(found)["paired"] is paired
        assert money_line(found, Pace(14.0, origin="mine")).startswith("unpaired") is not paired
        held = index(entrants, entrants[0])[1]
        assert held.paired is paired and (index_rows([held])[0][-1] == "unpaired") is not paired


def test_equal_rigs_are_rarely_apart_by_the_watt() -> None:
    """Forty lineups of four equal sides whose power is measured with 3% of noise: its scatter is in the comparison, so
    that few are set apart; a power that is typed in divides as a constant."""
    wrong = 0
    for seed in range(40):
        draw = np.random.default_rng(seed)
        plan = study({"quantization": ("Q8_0", "Q4_0", "F16", "Q6_K")}, repeats=Repeats(count=8))
        kept = {}
        for cell in plan.cells:
            speeds = 10 * np.exp(draw.normal(0, 0.003, 8))
            powers = 50 * np.exp(draw.normal(0, 0.03, 8))
            kept[cell.key] = [
                KeptRepeat("measured", replace(r, trace=powered((float(watts),) * 8)))
                for r, watts in zip(repeats_at(*speeds), powers, strict=True)
            ]
        results = StudyResults.of_repeats(plan, kept, RunInfo("run", number=1))
        entrants = [Entrant(str(c.levels["quantization"]), Side(results, dict(c.levels))) for c in plan.cells]
        entrants = [replace(e, watts=watts_of(e.side.cells())) for e in entrants]
        assert entrants[0].watts == pytest.approx(50, rel=0.05)
        found = lineup(entrants, "decode", per="watt")
        assert found.groups[0].places[0].value == pytest.approx(10 / 50, rel=0.05)
        wrong += found.groups[0].brackets != ((0, 3),)
    assert wrong <= 7  # 2 are expected; more than 7 has a chance of one in a thousand


def test_a_power_that_some_repeats_lack_divides_as_a_constant() -> None:
    """Which repeats had it is not known any more: the order still follows, and nothing breaks; by the device, too."""
    plan = study({"quantization": ("Q8_0", "Q4_0")}, repeats=Repeats(count=8))
    kept = {
        cell.key: [
            KeptRepeat("measured", r if i == 3 else replace(r, trace=powered((50.0,) * 8)))
            for i, r in enumerate(repeats_at(*[10.0 * (1 + cell.index) + i / 100 for i in range(8)]))
        ]
        for cell in plan.cells
    }
    results = StudyResults.of_repeats(plan, kept, RunInfo("run", number=1))
    entrants = [Entrant(str(c.levels["quantization"]), Side(results, dict(c.levels))) for c in plan.cells]
    by_watt = lineup([replace(e, watts=watts_of(e.side.cells())) for e in entrants], "decode", per="watt")
    assert names(by_watt) == ["Q4_0", "Q8_0"] and not by_watt.groups[0].brackets
    one, two = (replace(e, devices=count) for e, count in zip(entrants, (1, 4), strict=True))
    assert names(lineup([one, two], "decode", per="device")) == ["Q8_0", "Q4_0"]
    assert lineup([one, replace(two, devices=0)], "decode", per="device").left[0].needs == "devices"


def test_few_repeats_claim_no_pace() -> None:
    """Three repeats are a range: far above the pace or far below it, nothing is said of it."""
    for pace in (1.0, 1000.0):
        found = lineup(fleet({"Q8_0": 10.0, "Q4_0": 12.0}, n=3), "decode", pace=pace)
        assert [p.keeps_pace for p in found.groups[0].places] == [None, None]


def test_money_and_watts_change_the_order() -> None:
    """A dear rig that is twice as fast loses by price; costs are those worked out by hand; gaps are said."""
    slow, quick = fleet({"Q8_0": 10.0, "Q4_0": 20.0})
    slow, quick = replace(slow, price=200.0, watts=20.0), replace(quick, price=2_000.0, watts=300.0)
    money = Money("EUR", energy_per_kwh=0.30, hours_per_day=10, days_per_year=300, years=5)
    assert names(lineup([slow, quick], "decode")) == ["Q4_0", "Q8_0"]
    by_price = lineup([slow, quick], "decode", per="price", money=money)
    assert names(by_price) == ["Q8_0", "Q4_0"]
    cost = lineup([slow, quick], "decode", per="cost", money=money)
    place = next(p for p in cost.groups[0].places if p.entrant is slow)
    rate = next(p for p in lineup([slow, quick], "decode").groups[0].places if p.entrant is slow).value
    second = (200 / (10 * 300 * 5) + 0.020 * 0.30) / 3_600
    # Every request reads 100 tokens in 0.2 s, then writes 11, all but the first at its rate.
    assert place.input_cost == pytest.approx(second / 500 * 1e6) and place.output_cost == pytest.approx(
        second / rate * 1e6
    )
    assert place.input_cost is not None and place.output_cost is not None
    mixed = (100 * place.input_cost + 10 * place.output_cost) / 111
    assert place.value == pytest.approx(mixed, rel=0.02) and place.low < place.value < place.high
    assert cost.measure == WORK and COUNTED in money_line(cost, Pace(14.0, origin="mine"))
    assert {len(row) for row in lineup_rows(cost)} == {len(heads(cost))} == {len(heads(by_price)) + 2}
    assert names(cost)[0] == "Q8_0" and constant(slow, "cost", Money()) is None
    unknown = lineup([slow, replace(quick, watts=None)], "decode", per="watt")
    assert [left.needs for left in unknown.left] == ["load_w"] and not unknown.asked
    none = lineup([replace(slow, watts=None), replace(quick, watts=None)], "decode", per="watt")
    assert none.asked == "watt" and names(none) == names(lineup([slow, quick], "decode"))
    assert missing_fact(slow, "cost", Money()) == "energy_per_kwh" and missing_fact(slow, "price", Money()) is None
    with pytest.raises(ValueError, match="no rate of tokens"):
        lineup([slow, quick], "ttft", per="price")


def test_other_work_is_not_ranked() -> None:
    """A run with other prompts stands aside with the reason, and has no index either."""
    mine = [
        Entrant("mine", Side(run("one", rates(1.0)), {"quantization": "Q8_0"})),
        Entrant("its", Side(run("one", rates(1.0)), {"quantization": "Q4_0"})),
    ]
    plan = study(hold={"model": "brine-15m", "prompt_tokens": 99, "output_tokens": 8, "context": 256})
    kept = {cell.key: [KeptRepeat("measured", r) for r in repeats_at(5.0, 5.1, 5.2)] for cell in plan.cells}
    other = Entrant("other", Side(StudyResults.of_repeats(plan, kept, RunInfo("two")), {"quantization": "Q8_0"}))
    found = lineup([*mine, other], "decode")
    assert "other" not in names(found) and "did other work" in found.left[0].reason
    assert index([other], mine[0])[0].reason == "it shares no work with the reference"


def test_the_index_of_a_side_against_itself_is_one() -> None:
    """Exactly; and of one that decodes 20% faster with the same prefill it is the root of 1.2, with an interval."""
    sides = fleet({"Q8_0": 10.0, "Q4_0": 12.0})
    own, other = index(sides, sides[0])
    assert own.both is not None and (own.both.value, own.both.low, own.both.high) == (1.0, 1.0, 1.0)
    assert other.decode is not None and other.decode.low < 1.2 < other.decode.high
    assert other.prefill is not None and other.prefill.value == pytest.approx(1.0)
    assert other.both is not None and other.both.value == pytest.approx(math.sqrt(1.2), rel=0.01)
    assert index_rows([own, other])[0][0] == "Q4_0" and index_json([own, other], "Q8_0")["reference"] == "Q8_0"
    assert index_chart([own, other], "Q8_0").panels[0].title == "prefill and decode together"


def test_a_frontier() -> None:
    """What no other point beats in both."""
    points = [(10.0, 1.0), (9.0, 8.0), (5.0, 9.0), (4.0, 8.5), (1.0, 10.0)]
    assert frontier(points) == [4, 2, 1, 0]


@pytest.mark.parametrize(
    ("y", "at"),
    [
        ([10.0, 9.0, 8.0, 4.0, 1.0], 2),  # bent: beyond the third point a little speed costs much throughput
        ([10.0, 7.75, 5.5, 3.25, 1.0], None),  # straight
        ([10.0, 4.0, 2.5, 1.5, 1.0], None),  # bent the other way
    ],
)
def test_a_knee_is_named_where_a_frontier_bends(y: list[float], at: int | None) -> None:
    """Of 300 frontiers measured in four blocks with 5% of noise: the bend nearly always, within its interval; one that
    is straight or bends the other way in at most 5%."""
    rng = np.random.default_rng(4)
    exact = np.stack([np.linspace(1.0, 9.0, 5), np.array(y)], axis=1)
    found = [knee(exact * np.exp(rng.normal(0, 0.05, (4, 5, 2)))) for _ in range(300)]
    named = [k for k in found if k is not None]
    if at is None:
        assert len(named) <= 24  # 15 are expected at most; more has a chance of one in a hundred
    else:
        assert len(named) >= 270 and sum(k.low <= at <= k.high for k in named) >= 0.94 * len(named)
    assert knee(exact[None].repeat(2, axis=0)) is None and knee(exact[None, :2].repeat(4, axis=0)) is None
