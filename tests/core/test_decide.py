"""What a study decides: who may be chosen, who is best and by how much, and how something changes."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from tests.build import KNOWN, decode_timeline, repeat, repeats_at, study
from zinc_kettle.core.anonymise import Anonymiser
from zinc_kettle.core.checks.conditions import Condition, read_condition
from zinc_kettle.core.checks.sections import section_problems
from zinc_kettle.core.compare.cells import standing
from zinc_kettle.core.compare.choice import choice, marked
from zinc_kettle.core.compare.loads import load_verdicts
from zinc_kettle.core.compare.promise import promise_verdict
from zinc_kettle.core.facts import RunFacts
from zinc_kettle.core.measures.traffic import TPOT_LIMIT, TTFT_LIMIT
from zinc_kettle.core.plan.decide import Decide
from zinc_kettle.core.plan.study import Repeats, Study
from zinc_kettle.core.plan.traffic import Promise
from zinc_kettle.core.results import Failure, KeptRepeat, RunInfo, StudyResults
from zinc_kettle.core.run.stopping import answer_of, candidates_of
from zinc_kettle.formats.shared_study import shared_study
from zinc_kettle.formats.study import parse_study
from zinc_kettle.formats.study_writer import write_study
from zinc_kettle.present.answer import answer, main_measure
from zinc_kettle.present.decided import decide_json

RIGS = ("petrel", "gannet", "cormorant")
NEAR = (0.99, 1.0, 1.01, 1.0, 0.99, 1.01)
"""Six repeats with little noise."""


def of_rates(plan: Study, rates: dict[tuple[Any, ...], float], *, n: int = 6, **run: Any) -> StudyResults:
    """A run whose cells decode at these rates, by their levels; the noise of a block is not shared."""
    kept = {
        cell.key: [
            KeptRepeat("measured", r)
            for r in repeats_at(*(rates[levels] * NEAR[(i + cell.index) % 6] for i in range(n)))
        ]
        for cell in plan.cells
        if (levels := tuple(cell.levels.values())) in rates
    }
    return StudyResults.of_repeats(plan, kept, RunInfo("run", **run))


def rigs(decide: Decide | None = None, **changes: Any) -> Study:
    """Three rigs, one model."""
    return study({"rig": RIGS}, decide=decide or Decide(), **changes)


SPEEDS = {("petrel",): 20.0, ("gannet",): 100.0, ("cormorant",): 240.0}


def test_what_is_chosen_among_follows_from_what_varies() -> None:
    """Settings and rigs are chosen among; loads, lengths, depths and models are conditions, unless a plan says so."""
    both = study({"rig": ("petrel", "gannet"), "depth": (100, 200), "model": ("brine-15m", "brine-60m")}, hold={})
    assert both.chosen == ("rig",) and both.conditions == ("depth", "model")
    named = study({"rig": ("petrel", "gannet"), "model": ("brine-15m", "brine-60m")}, decide=Decide(choose=("model",)))
    assert named.chosen == ("model",) and named.conditions == ("rig",)
    assert not study({"concurrency": (1, 2)}).ranked
    asked = study({"threads": (1, 2), "depth": (100, 200)}, repeats=Repeats(3, until_answered="depth", ceiling=9))
    assert not asked.ranked, "it is repeated until it is known what the depth does"
    best = study({"concurrency": (1, 2)}, repeats=Repeats(3, until_answered="best", ceiling=9))
    assert best.chosen == ("concurrency",)


def test_the_best_is_held_against_the_next_or_against_what_one_has() -> None:
    """Ratios stand the way round that is above 1, with the figure they are to."""
    found = choice(of_rates(rigs(), SPEEDS), "decode")
    assert found.best is not None and found.best.levels == {"rig": "cormorant"}
    assert found.against is not None and found.against.levels == {"rig": "gannet"} and not found.baseline
    assert found.ratio is not None and found.ratio.value == pytest.approx(2.4, rel=0.02) and found.ratio.low > 1
    now = of_rates(rigs(Decide(baseline={"rig": "petrel"})), SPEEDS)
    against = choice(now, "decode")
    assert against.baseline and against.ratio is not None and against.ratio.value == pytest.approx(12, rel=0.02)
    said = answer(now)
    assert (
        said.startswith("cormorant is the fastest in decode: 240 ")
        and "12.0 times as fast (" in said
        and "petrel" in said
    )
    waits = answer(now, "tpot")
    assert waits.startswith("cormorant has the shortest TPOT") and "petrel" in waits and "12.0 times" in waits


def test_who_could_not_be_measured_is_said() -> None:
    """A rig that never loads is no rival, and no silence."""
    plan = rigs()
    whole = of_rates(plan, {("cormorant",): SPEEDS[("cormorant",)]})
    broken = KeptRepeat("failed", repeats_at(1.0)[0], Failure("launch", "no memory", ""))
    kept = {cell.cell.key: list(cell.kept_repeats) or [broken] for cell in whole.cells}
    said = answer(StudyResults.of_repeats(plan, kept, RunInfo("run")))
    assert said.startswith("only cormorant could be measured") and "petrel and gannet could not be measured" in said
    assert answer(whole).startswith("so far only cormorant is measured: decode 240 ")


def test_conditions_are_no_candidates() -> None:
    """Of two rigs at two depths the best is found over both, and a depth is never best."""
    plan = study({"rig": ("petrel", "gannet"), "depth": (100, 3_000)})
    rates = {("petrel", 100): 100.0, ("petrel", 3_000): 50.0, ("gannet", 100): 90.0, ("gannet", 3_000): 80.0}
    results = of_rates(plan, rates)
    found = choice(results, "decode")
    assert found.best is not None and found.best.levels == {"rig": "gannet"} and not found.tied
    assert found.ratio is not None and found.ratio.value == pytest.approx((90 * 80 / 5_000) ** 0.5, rel=0.02)
    assert [c.cell.levels["rig"] for c in standing(results, "decode").bests] == ["petrel", "gannet"]
    assert [c.cell.levels for c in found.elsewhere] == [{"rig": "petrel", "depth": 100}]
    assert "petrel at 100 tokens deep is ahead" in answer(results)


def test_how_something_changes_is_told_from_the_first_to_the_last() -> None:
    """Where nothing is chosen, nothing is best: a fall or a rise with its interval."""
    plan = study({"depth": (100, 700, 1_400)})
    results = of_rates(plan, {(100,): 60.0, (700,): 50.0, (1_400,): 30.0})
    said = answer(results)
    assert "falls from 60" in said and "to 30" in said and "by 50% (" in said and "fastest" not in said
    assert not standing(results, "decode").all and choice(results, "decode").best is None
    level = answer(of_rates(plan, {(100,): 60.0, (700,): 60.0, (1_400,): 60.0}))
    assert level.startswith("no clear difference in decode")
    models = study({"model": ("brine-15m", "brine-60m")}, hold={})
    assert answer(of_rates(models, {("brine-15m",): 90.0, ("brine-60m",): 30.0})) == (
        "decode: brine-15m 90.0 tok/s, brine-60m 30.0 tok/s"
    )


def test_one_or_two_repeats_are_told_as_what_was_seen() -> None:
    """Without a claim, and without a ratio."""
    results = of_rates(rigs(), SPEEDS, n=2)
    found = choice(results, "decode")
    assert found.too_early and found.best is not None and found.ratio is None
    said = answer(results)
    assert said.startswith("so far cormorant looks fastest") and "2 repeats" in said and "times" not in said


def test_alike_is_an_answer_and_open_says_what_would_settle_it() -> None:
    """No more repeats are offered to tell apart what is known to be alike."""
    level = choice(of_rates(rigs(), dict.fromkeys(SPEEDS, 100.0), n=6), "decode")
    assert level.within_percent == 3.0 and len(level.tied) == 2
    alike = answer(of_rates(rigs(), dict.fromkeys(SPEEDS, 100.0), n=6))
    assert "differ by no more than 3%" in alike and "would tell" not in alike
    few = of_rates(rigs(), {("petrel",): 100.0, ("gannet",): 101.5, ("cormorant",): 102.0}, n=3)
    assert choice(few, "decode").within_percent is None and "would tell a difference" in answer(few)


PRICES = {"petrel": 650.0, "gannet": 1_400.0, "cormorant": 4_200.0}
FACTS: RunFacts = {"rigs": {name: {"price": price} for name, price in PRICES.items()}}


@pytest.mark.parametrize(
    ("provided", "best", "out"),
    [
        (("decode >= 50",), "cormorant", {"petrel"}),
        (("decode ≥ 50 tok/s", "price <= 2000"), "gannet", {"petrel", "cormorant"}),
        (("tpot <= 8 ms",), "cormorant", {"gannet", "petrel"}),
        (("decode >= 500",), None, set(RIGS)),
        ((), "cormorant", set()),
    ],
)
def test_what_has_to_hold_rules_out(provided: tuple[str, ...], best: str | None, out: set[str]) -> None:
    """A measure with a bound, in its own units, and a price; who is out is named, and a map marks who was chosen."""
    results = of_rates(rigs(Decide(provided=provided)), SPEEDS, facts=FACTS)
    found = choice(results, "decode")
    assert (None if found.best is None else found.best.levels["rig"]) == best
    assert {str(c.levels["rig"]) for c in found.unfit} == out
    said = answer(results)
    assert all(name in said for name in (out if best else [])) and (best or "none of the 3") in said
    if best and provided:
        assert [c.cell.levels["rig"] for c in marked(results, "decode").bests] == [best]


def test_the_cheapest_that_is_fast_enough() -> None:
    """By price the order is that of the prices, among those whose condition is not broken."""
    results = of_rates(rigs(Decide(by="price", provided=("decode >= 50",))), SPEEDS, facts=FACTS)
    assert main_measure(results.study) == "decode"
    said = answer(results)
    assert said.startswith("gannet is the cheapest") and "1,400" in said and "4,200 for cormorant" in said
    told = decide_json(results, "decode", said)
    assert told["by"] == "price" and told["best"]["levels"] == {"rig": "gannet"} and told["best"]["price"] == 1_400


def test_nothing_is_the_cheapest_where_a_price_is_not_known() -> None:
    """Nor is a condition claimed that is not settled: of three repeats nothing is sure."""
    unknown: RunFacts = {"rigs": {"gannet": {"price": 1_400.0}}}
    plan = rigs(Decide(by="price", provided=("decode >= 50",)))
    found = choice(of_rates(plan, SPEEDS, facts=unknown), "decode")
    assert not found.by_price and found.best is not None and found.best.levels == {"rig": "cormorant"}
    assert "cheapest" not in answer(of_rates(plan, SPEEDS, facts=unknown))
    few = answer(of_rates(plan, SPEEDS, n=3, facts=FACTS))
    assert few.startswith("petrel is the cheapest: 650") and "does not settle" in few


def test_what_keeps_its_speed_at_depth() -> None:
    """The share of the first condition's figure that is kept at every other."""
    plan = study({"rig": ("petrel", "gannet"), "depth": (100, 3_000)}, decide=Decide(provided=("decode keeps 80%",)))
    rates = {("petrel", 100): 100.0, ("petrel", 3_000): 50.0, ("gannet", 100): 60.0, ("gannet", 3_000): 55.0}
    found = choice(of_rates(plan, rates), "decode")
    assert found.best is not None and found.best.levels == {"rig": "gannet"}
    [out] = found.unfit
    assert out.unfit is not None and out.unfit.value == pytest.approx(0.5, rel=0.03)


def test_up_to_which_load_a_promise_is_kept() -> None:
    """The largest load below the first that is not sure, and the limit that breaks."""
    plan = study({"concurrency": (1, 2, 4)}, promise=Promise(ttft_s=1.0, tpot_s=0.1))
    promise = {TTFT_LIMIT: 1.0, TPOT_LIMIT: 0.1}
    waits: dict[object, float] = {1: 200.0, 2: 500.0, 4: 3_000.0}
    kept = {
        cell.key: [
            KeptRepeat(
                "measured",
                repeat(decode_timeline(50.0, ttft_ms=waits[cell.levels["concurrency"]]), block=i, extras=promise),
            )
            for i in range(6)
        ]
        for cell in plan.cells
    }
    results = StudyResults.of_repeats(plan, kept, RunInfo("run"))
    [verdict] = load_verdicts(results).values()
    assert (verdict.kept, verdict.unsettled) == (2, None)
    assert verdict.broken is not None and (verdict.broken.load, verdict.broken.first) == (4, "ttft")
    said = answer(results)
    assert said.startswith("the promise is kept up to 2 streams; at 4 streams it is broken") and "first output" in said
    assert load_verdicts(StudyResults.of_repeats(study({"concurrency": (1, 2)}), {}, RunInfo("run"))) == {}


def test_few_requests_keep_a_promise_only_far_below_its_limit() -> None:
    """Six repeats of one request: kept at a fifth of the limit, open right below it; many are kept by their share, and
    broken where too many do not."""
    promise = Promise(ttft_s=1.0, tpot_s=None)

    def stands(*waits_ms: float, repeats: int = 6) -> str:
        made = [
            repeat(*(decode_timeline(50.0, ttft_ms=ms + i) for ms in waits_ms), block=i, extras={TTFT_LIMIT: 1.0})
            for i in range(repeats)
        ]
        return promise_verdict(made, promise).stands

    assert [stands(ms) for ms in (200.0, 990.0)] == ["kept", "open"]
    assert stands(200.0, repeats=2) == "open" == promise_verdict([repeat(decode_timeline(50.0))], promise).stands
    assert [stands(*[980.0] * n) for n in (6, 40)] == ["open", "kept"]
    assert stands(*[200.0] * 20, *[1_500.0] * 20) == "broken"
    assert promise_verdict([], promise).stands == "open"


def test_the_looks_of_a_study_with_conditions_are_of_its_candidates() -> None:
    """A candidate that is clearly behind over both depths drops out with all its cells; a depth never does."""
    repeats = Repeats(3, until_answered="best", smallest_percent=3, ceiling=20)
    plan = study({"rig": ("petrel", "gannet"), "depth": (100, 3_000)}, repeats=repeats)
    rates = {("petrel", 100): 100.0, ("petrel", 3_000): 50.0, ("gannet", 100): 200.0, ("gannet", 3_000): 90.0}
    of = {c.key: rates[tuple(c.levels.values())] for c in plan.cells}  # type: ignore[index]
    cells = {key: {b: rate * NEAR[b % 6] for b in range(20)} for key, rate in of.items()}
    found = answer_of(plan, cells)
    whole = candidates_of(plan)
    assert [plan.by_key[key].levels["rig"] for key in whole[found.leader]] == ["gannet", "gannet"]
    assert set(found.settled) == set(plan.by_key) and set(found.left) == set(whole[found.leader])


@pytest.mark.parametrize(
    ("text", "condition"),
    [
        ("promise", Condition("promise", "promise_kept", 0.95)),
        ("decode >= 7", Condition("least", "decode", 7.0)),
        ("memory <= 8 GB", Condition("most", "memory", 8e9)),
        ("ttft ≤ 500 ms", Condition("most", "ttft", 0.5)),
        ("decode keeps 80%", Condition("keeps", "decode", 0.8)),
        ("price <= 1500", Condition("most", "price", 1_500.0)),
    ],
)
def test_conditions_are_read(text: str, condition: Condition) -> None:
    """As a person types them."""
    assert read_condition(text, percentile=95) == condition


@pytest.mark.parametrize(
    ("decide", "field"),
    [
        (Decide(choose=("threads",)), "choose"),
        (Decide(by="speed"), "by"),
        (Decide(by="prompt_tokens"), "by"),
        (Decide(baseline={"rig": "tern"}), "baseline"),
        (Decide(provided=("fast",)), "provided"),
        (Decide(provided=("decode >= 7 GB",)), "provided"),
        (Decide(provided=("price keeps 80%",)), "provided"),
        (Decide(provided=("promise",)), "provided"),
    ],
)
def test_what_does_not_fit_the_plan_is_said(decide: Decide, field: str) -> None:
    """Each with its place."""
    assert [p.path for p in section_problems(rigs(decide))] == [("decide", field)]


def test_repeats_end_by_the_measure_that_decides() -> None:
    """Where the plan names no other for the rule."""
    file = """
format = 1
name = "asks"
question = "Which?"
[decide]
by = "ttft"
[vary]
quantization = ["Q8_0", "Q4_0"]
[hold]
model = "brine-15m"
prompt_tokens = 64
[repeats]
until_answered = "best"
"""
    assert parse_study(file, KNOWN, file="f", folder=Path()).repeats.until_measure == "ttft"
    other = parse_study(f'{file}until_measure = "decode"\n', KNOWN, file="f", folder=Path())
    assert other.repeats.until_measure == "decode"


def test_what_is_decided_goes_along_with_a_copy_and_a_bundle() -> None:
    """The plan that is written from a plan, and the one that is handed on, decide the same."""
    decide = Decide(("rig",), "ttft", {"rig": "petrel"}, ("decode >= 7", "decode keeps 80%"))
    plan = rigs(decide)
    for one in (plan, shared_study(plan, Anonymiser())):
        again = parse_study(write_study(one), KNOWN, file="f", folder=Path())
        assert again.decide == decide
