"""The largest load that keeps a promise: held against made-up engines whose true limit their physics tell."""

from __future__ import annotations

import math
from functools import cache
from pathlib import Path

import pytest

from tests.build import KNOWN, study
from zinc_kettle.core.capacity import Found, Trial, capacities, next_decisions, search, trial_of
from zinc_kettle.core.plan import Repeats, Study
from zinc_kettle.core.repeat import Repeat
from zinc_kettle.core.results import Failure, KeptRepeat, RunInfo, StudyResults
from zinc_kettle.core.schedule import Decision, Schedule
from zinc_kettle.core.traffic import CapacitySearch, Promise
from zinc_kettle.formats.study import parse_study
from zinc_kettle.present.capacity import found_json, found_text, trial_rows
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
        trial = trial_of(streams + 1, measured(streams + 1, seed=99, repeats=1, waves=24), PROMISE)
        if trial is not None and trial.broken(PROMISE):
            return streams
    raise AssertionError("the promise never breaks")


@pytest.mark.parametrize("seed", range(1, 6))
def test_the_limit_of_a_made_up_engine_is_found(seed: int) -> None:
    """Within 5%, in no more than twelve steps, with an interval that holds the truth, and what breaks first."""
    data = {8: measured(8, seed=seed)}
    found = Found(next_load=8)
    while found.next_load is not None:
        trials = [t for load, repeats in data.items() if (t := trial_of(load, repeats, PROMISE)) is not None]
        found = search(trials, PLAN, PROMISE)
        if found.next_load is not None:
            data.setdefault(found.next_load, []).extend(measured(found.next_load, seed=seed * 100 + found.next_load))
    assert found.load is not None and found.low is not None and found.high is not None
    assert abs(math.floor(found.load) / truth() - 1) <= 0.05 and len(data) <= 12
    assert math.floor(found.low) <= truth() <= found.high and found.first == "ttft"
    assert "the first output breaks it first" in found_text(found, "concurrency")
    assert found_json(found, PROMISE, "concurrency")["end"] in {"narrow", "neighbours"}
    assert [row[-1] for row in trial_rows(found, PROMISE, "concurrency")].count("kept") >= 2


def trial(load: float, over: float, *, failed: float = 0.0) -> Trial:
    """A step whose first output stands so far over its limit, in the logarithm."""
    return Trial(load, {"ttft": over}, {"ttft": 0.01}, 3, failed)


def test_it_doubles_halves_and_ends_at_the_edges() -> None:
    """All kept: twice the load, up to the most; all broken: half, down to one; nothing measured: nothing said."""
    assert search([], PLAN, PROMISE) == Found()
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
    found = search([trial(8, -1.0), trial(16, -0.9, failed=0.2), trial(9, -1.0, failed=0.1)], PLAN, PROMISE)
    assert found.first == "failures" and found.end == "neighbours" and (found.low, found.high) == (8.0, 9.0)


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
    assert found.first == "failures" and (found.low, found.high) == (8.0, 16.0)


def test_noise_makes_the_interval_wide_and_asks_for_more() -> None:
    """Repeats that scatter by half: no end is claimed, and the same loads are measured again once all are known."""
    rough = [Trial(load, {"ttft": over}, {"ttft": 0.5}, 3, 0.0) for load, over in ((4, -0.3), (5, 0.1), (6, 0.2))]
    found = search(rough, CapacitySearch("concurrency", 64), PROMISE)
    assert found.end == "" and found.high is not None and found.low is not None and found.high / found.low > 1.2
    assert found.next_load is not None


def test_a_search_enters_its_loads_into_the_log() -> None:
    """Two rigs, each with a search: a load is added for the one that needs it and left out for the other."""
    planned = study(
        {"quantization": ("Q8_0", "Q4_0"), "concurrency": (8,)}, promise=PROMISE, capacity=PLAN,
        repeats=Repeats(count=3), hold={"model": "brine-15m", "prompt_tokens": 64, "output_tokens": 24},
    )  # fmt: skip
    slow, quick = planned.cells[0].key, planned.cells[1].key
    kept = {
        slow: [KeptRepeat("measured", r) for r in measured(64, seed=1)],  # breaks the promise
        quick: [KeptRepeat("measured", r) for r in measured(8, seed=1)],
    }
    found = next_decisions(planned, Schedule(planned), lambda key: kept[key], 7.0)
    assert [(d.kind, dict(d.levels)) for d in found] == [
        ("add-level", {"concurrency": 4}), ("add-level", {"concurrency": 16}),
        ("skip", {"quantization": "Q8_0", "concurrency": 16}), ("skip", {"quantization": "Q4_0", "concurrency": 4}),
    ]  # fmt: skip
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
    from zinc_kettle.core.steering import told_of_run

    log = (Decision("add-level", 1.0, {"concurrency": 9}, text="looking for the limit"), Decision("more", 2.0, count=2))
    assert len(told_of_run(log)) == 1
    assert StudyResults(study(), RunInfo("r", decisions=log)).schedule.decisions == log
