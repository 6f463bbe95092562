"""The largest load that keeps a promise: held against made-up engines whose true limit their physics tell."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import replace
from functools import cache
from pathlib import Path

import pytest

from tests.build import KNOWN, repeat, study, timeline
from zinc_kettle.core.plan.study import Repeats, Study
from zinc_kettle.core.plan.traffic import CapacitySearch, Promise
from zinc_kettle.core.record.repeat import Repeat
from zinc_kettle.core.results import Failure, KeptRepeat, RunInfo, StudyResults
from zinc_kettle.core.run.decisions import AddLevel, More
from zinc_kettle.core.run.schedule import Schedule
from zinc_kettle.core.search.capacity import UNSETTLED, CapacityResult, capacities, next_decisions, search, standing
from zinc_kettle.core.search.trial import Limit, Trial, trial_of
from zinc_kettle.core.stats import median
from zinc_kettle.formats.study import parse_study
from zinc_kettle.present.capacity import ENDS, HOW_FAR, UNBOUNDED, found_json, found_text, trial_rows
from zinc_kettle.sim.virtual import VirtualEngine

PROMISE = Promise(ttft_s=0.5, tpot_s=0.03)
PLAN = CapacitySearch("concurrency", most=64)
SETTINGS = {"model": "brine-1b", "quantization": "Q8_0", "threads": 8, "slots": 64, "context": 256}


def measured(streams: int, *, seed: int, repeats: int = 3, waves: int = 4) -> list[Repeat]:
    """A closed loop on the made-up rig gannet, in no time."""
    engine = VirtualEngine("gannet", SETTINGS, seed=seed)
    engine.closed(streams, streams, prompt=64, output=4)
    return [engine.closed(streams, max(8, waves * streams), prompt=64, output=24, block=b) for b in range(repeats)]


@cache
def truth() -> int:
    """The most streams that keep the promise in long repeats, found by going through them all."""
    for streams in range(30, 64):
        trial = trial_of(streams + 1, [measured(streams + 1, seed=99, repeats=1, waves=24)], PROMISE)
        if trial is not None and trial.broken(PROMISE):
            return streams
    raise AssertionError("the promise never breaks")


@pytest.mark.parametrize("seed", range(1, 6))
def test_the_limit_of_a_made_up_engine_is_found(seed: int) -> None:
    """Within 5%, in no more than twelve steps, with an interval that holds the truth, and what breaks first."""
    data: dict[int, list[list[Repeat]]] = {}
    found = CapacityResult(next_load=8)
    while (load := found.next_load) is not None:
        visits = data.setdefault(load, [])
        visits.append(measured(load, seed=seed * 100 + load + 7 * len(visits)))
        found = search(
            [t for at, seen in data.items() if (t := trial_of(at, seen, PROMISE)) is not None], PLAN, PROMISE
        )
    assert found.load is not None and found.low is not None and found.high is not None
    assert abs(math.floor(found.load) / truth() - 1) <= 0.05 and len(data) <= 12
    assert math.floor(found.low) <= truth() <= found.high and found.first == "ttft"
    assert "the first output breaks it first" in found_text(found, "concurrency")
    assert found_json(found, PROMISE, "concurrency")["end"] in {"narrow", "neighbours"}
    assert [row[-1] for row in trial_rows(found, PROMISE, "concurrency")].count("kept") >= 2


def trial(load: float, *over: float, failed: float = 0.0) -> Trial:
    """A step whose first output stands so far over its limit, in the logarithm, each time it was measured."""
    visits: tuple[Mapping[Limit, float], ...] = tuple({"ttft": value} for value in over)
    return Trial(load, {"ttft": median(over)}, {"ttft": 0.01}, 3 * len(over), failed, visits)


def test_it_doubles_halves_and_ends_at_the_edges() -> None:
    """All kept: twice the load, up to the most; all broken: half, down to one; nothing measured: nothing said."""
    assert search([], PLAN, PROMISE) == CapacityResult()
    assert search([trial(4, -2.0)], PLAN, PROMISE).next_load == 8
    assert search([trial(64, -0.1)], PLAN, PROMISE).end == "most"
    assert search([trial(40, -0.1)], PLAN, PROMISE).next_load == 64
    assert search([trial(9, 0.5)], PLAN, PROMISE).next_load == 4
    least = search([trial(1, 0.5)], PLAN, PROMISE)
    assert least.end == "least" and found_text(least, "concurrency").startswith("breaks the promise even at 1 stream")
    spent = search([trial(2.0**k, -1.0) for k in range(4)], CapacitySearch("rate", 4096, steps=4), PROMISE)
    assert spent.end == "steps" and "where it breaks is not known" in found_text(spent, "rate")


def test_failures_break_a_promise_too() -> None:
    """Fast answers with failures among them: the bracket is all that is known, and they are what breaks it."""
    steps = [trial(8, -1.0, -1.1), trial(16, -0.9, failed=0.2), trial(9, -1.0, -1.0, failed=0.1)]
    found = search(steps, PLAN, PROMISE)
    assert found.first == "failures" and found.end == "neighbours" and (found.low, found.high) == (8.0, 9.0)


def test_a_jump_may_be_anywhere_between_what_was_seen() -> None:
    """Kept well at 40 and broken well at 48: no line says where; what was seen once is measured again, the older one
    first, and only when both were seen twice it is settled."""
    plan = CapacitySearch("concurrency", most=64, within_percent=10)
    early = search([trial(32, -0.3), trial(40, -0.25), trial(48, 0.6), trial(64, 0.7)], plan, PROMISE)
    assert (early.low, early.high, early.end) == (32.0, 64.0, "") and 40 < (early.next_load or 0) < 48
    once = [trial(32, -0.3), replace(trial(42, -0.25), at_ns=5), replace(trial(48, 0.6), at_ns=9), trial(64, 0.7)]
    found = search(once, plan, PROMISE)
    assert found.end == "" and found.again and found.next_load == 42
    twice = search([trial(32, -0.3), trial(42, -0.25, -0.2), trial(48, 0.6, 0.5), trial(64, 0.7)], plan, PROMISE)
    assert (twice.low, twice.high, twice.end) == (42.0, 48.0, "narrow") and 42 < (twice.load or 0) < 48


def test_a_slow_minute_decides_nothing() -> None:
    """A load that broke the promise the first time and keeps it the second stands open; of three one is outvoted."""
    others = [trial(8, -1.0), trial(16, -0.9, -0.9), trial(32, 0.9, 0.9)]
    for seen, stands in (
        ((0.3,), "broken"),
        ((0.3, -0.3), "open"),
        ((0.3, -0.3, -0.3), "kept"),
        ((0.3, -0.3, 0.3, -0.3), "open"),
    ):
        step = trial(20, *seen)
        assert standing(step, [*others, step], PROMISE) == stands
    astray = search([*others, trial(20, 0.3, 0.3), trial(24, -0.3, -0.3)], PLAN, PROMISE)
    assert (astray.low, astray.high) == (16.0, 32.0)  # one of the two met a bad hour: neither is believed


def test_few_requests_keep_no_high_percentile() -> None:
    """Of twelve requests none lies beyond the 95th: that a load keeps it cannot be seen, that it breaks it can."""
    quick = trial_of(2, [[repeat(*(timeline() for _ in range(12)), concurrency=2, block=b)] for b in range(2)], PROMISE)
    slow = trial_of(4, [[repeat(timeline([900.0, 910.0]), concurrency=4, block=b)] for b in range(2)], PROMISE)
    assert quick is not None and slow is not None and quick.thin and quick.over["ttft"] < 0 < slow.over["ttft"]
    assert (standing(quick, [quick], PROMISE), standing(slow, [slow], PROMISE)) == ("open", "broken")


def test_a_load_of_which_nothing_can_be_measured_breaks_the_promise() -> None:
    """An engine that dies under 16 streams: that load counts as broken, and the search goes below it."""
    planned = study({"concurrency": (8, 16)}, promise=PROMISE, capacity=PLAN, repeats=Repeats(count=3))
    eight, sixteen = (cell.key for cell in planned.cells)
    dead = KeptRepeat("failed", Repeat("r", 0, 16, ()), Failure("launch", "it died"))
    kept = {eight: [KeptRepeat("measured", r) for r in measured(8, seed=1)], sixteen: [dead] * 3}
    (added,) = next_decisions(planned, Schedule(planned), lambda key: kept[key], 7.0)
    assert added.kind == "add-level" and 8 < int(added.levels["concurrency"]) < 16
    results = StudyResults.of_repeats(planned, kept, RunInfo("r"))
    (found,) = capacities(results).values()
    assert found.first == "failures" and found.trials[-1].failed == 1.0 and 8 < (found.load or 0) < 16


def test_answers_in_one_piece_are_bounded_where_they_are_few_and_end_a_search_where_they_are_not() -> None:
    """One of thirty counts as its whole time by its tokens; where they are many, the load tells nothing, and why."""
    promise, whole = Promise(tpot_s=0.03), timeline((200.0,), tokens=(20,))
    paced = [timeline([100.0 + 20.0 * i for i in range(20)], request_id=f"r{i}") for i in range(29)]
    few = trial_of(1, [[repeat(*paced, whole)]], promise)
    assert few is not None and few.over["tpot"] == pytest.approx(math.log(0.02 / 0.03))
    planned = study({"concurrency": (1,)}, promise=promise, capacity=PLAN, repeats=Repeats(count=1))
    kept = {planned.cells[0].key: [KeptRepeat("measured", repeat(*paced, *[whole] * 9))]}
    (found,) = capacities(StudyResults.of_repeats(planned, kept, RunInfo("r"))).values()
    assert found.end == "in-one-piece" and found.end in UNSETTLED and found.next_load is None
    assert ENDS[found.end] in found_text(found, "concurrency")


def test_what_only_seems_to_keep_a_promise_is_not_said_to() -> None:
    """One load under the limit by less than its noise, or of too few requests: nothing is surely kept."""
    for step in (Trial(8, {"ttft": -0.1}, {"ttft": 0.5}, 3, 0.0), replace(trial(8, -1.0), thin=True)):
        found = search([step], CapacitySearch("concurrency", 8, steps=1), PROMISE)
        assert (found.load, found.low, found.end) == (8, 0.0, "steps")
    sure = search([trial(8, -1.0)], CapacitySearch("concurrency", 16, steps=1), PROMISE)
    assert (sure.load, sure.low, sure.end) == (8, 8, "steps")
    assert found_text(found, "concurrency") != found_text(sure, "concurrency")


def test_noise_makes_the_interval_wide_and_asks_for_more() -> None:
    """Repeats that scatter by half: no end is claimed, and the same loads are measured again once all are known."""
    rough = [Trial(load, {"ttft": over}, {"ttft": 0.5}, 3, 0.0) for load, over in ((4, -0.3), (5, 0.1), (6, 0.2))]
    found = search(rough, CapacitySearch("concurrency", 64), PROMISE)
    assert (found.low, found.high, found.end) == (0.0, None, "") and found.next_load is not None
    assert UNBOUNDED in found_text(found, "concurrency")
    spent = search(rough, CapacitySearch("concurrency", 64, steps=3), PROMISE)
    assert spent.end == "steps" and HOW_FAR["steps"] in found_text(spent, "concurrency")


def test_a_search_enters_its_loads_into_the_log() -> None:
    """Two rigs, each with a search: a load is added for the one that needs it and left out for the other."""
    planned = study(
        {"quantization": ("Q8_0", "Q4_0"), "concurrency": (8,)},
        promise=PROMISE,
        capacity=PLAN,
        repeats=Repeats(count=3),
        hold={"model": "brine-15m", "prompt_tokens": 64, "output_tokens": 24},
    )
    slow, quick = planned.cells[0].key, planned.cells[1].key
    kept = {
        slow: [KeptRepeat("measured", r) for r in measured(64, seed=1)],  # breaks the promise
        quick: [KeptRepeat("measured", r) for r in measured(8, seed=1)],
    }
    found = next_decisions(planned, Schedule(planned), lambda key: kept[key], 7.0)
    assert [(d.kind, dict(d.levels)) for d in found] == [
        ("add-level", {"concurrency": 4}),
        ("add-level", {"concurrency": 16}),
        ("skip", {"quantization": "Q8_0", "concurrency": 16}),
        ("skip", {"quantization": "Q4_0", "concurrency": 4}),
    ]
    whole = Schedule(planned, tuple(found)).whole
    assert whole.vary["concurrency"] == (4, 8, 16)
    assert Schedule(planned, tuple(found)).next_step({}) is not None


FILE = """format = 1
name = "desks"
question = "How many?"
[vary]
concurrency = [4]
[hold]
model = "brine-15m"
prompt_tokens = 64
output_tokens = 24
[promise]
ttft_s = 1
[capacity]
factor = "concurrency"
"""


def read(text: str) -> Study:
    """The study of a file's text."""
    return parse_study(text, KNOWN, file="desks.study.toml", folder=Path())


def test_a_study_file_states_a_search_and_what_is_wrong_with_it() -> None:
    """As it is written; without a promise, or a load to raise, it is refused with a remedy."""
    assert read(FILE).capacity == CapacitySearch("concurrency") and read(FILE).promise.percentile == 95
    for old, new, said in (
        ("[promise]\nttft_s = 1\n", "", "nothing is promised"),
        ("concurrency = [4]", "threads = [1, 2]", "concurrency does not vary"),
        (
            "[capacity]",
            "[repeats]\nuntil_percent = 2\ncount = 6\n[capacity]",
            "the search decides what is measured",
        ),
    ):
        with pytest.raises(Exception, match=said):
            read(FILE.replace(old, new))


def test_decisions_of_a_search_are_not_told_as_a_persons() -> None:
    """The notes of a chart name what a person decided while it ran, not each load of a search."""
    from zinc_kettle.core.checks.steering import told_of_run

    log = (AddLevel(1.0, {"concurrency": 9}, by="search"), More(2.0, count=2))
    assert len(told_of_run(log)) == 1
    assert StudyResults(study(), RunInfo("r", decisions=log)).schedule.decisions == log
