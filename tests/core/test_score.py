"""Scores over the tasks of the suite: one scale, whoever measured, and only what is the same work."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np
import pytest

from tests.build import repeats_at, study
from zinc_kettle.core.compare.lineup import Entrant
from zinc_kettle.core.compare.score import Reference, configurations, reference_of
from zinc_kettle.core.compare.scoreboard import best_of_each, scoreboard
from zinc_kettle.core.plan.factors import Level
from zinc_kettle.core.plan.study import Prompts, Study
from zinc_kettle.core.results import KeptRepeat, RunInfo, StudyResults
from zinc_kettle.present.answer import answer
from zinc_kettle.present.lineup import lineup_json, verdict

TASKS = ("short-ask", "code")
TTFT_S, STEPS = 0.2, 10
"""Of the requests of `repeats_at`."""


def plan(quantizations: tuple[Level, ...] = ("Q8_0", "Q4_0"), *, text: str = "Which quay?", seed: int = 3) -> Study:
    """Two tasks by some quantizations."""
    return study(
        {"task": TASKS, "quantization": quantizations},
        hold={"model": "brine-15m", "context": 2048},
        prompts=Prompts(tasks={task: (text,) for task in TASKS}),
        seed=seed,
    )


def measured(made: Study, rates: Mapping[Level, list[float]], run: str = "r") -> StudyResults:
    """Cells that decode at the rates of their quantization, the second task half as fast."""
    kept = {
        cell.key: [
            KeptRepeat("measured", r)
            for r in repeats_at(*(v / (1 + TASKS.index(str(cell.levels["task"]))) for v in rates[_stored(cell.levels)]))
        ]
        for cell in made.cells
    }
    return StudyResults.of_repeats(made, kept, RunInfo(run))


def _stored(levels: Mapping[str, Level]) -> Level:
    return levels.get("quantization", "Q8_0")


def seconds(rates: list[float]) -> float:
    """Mean logarithm of the time of a whole answer over both tasks, by hand."""
    return float(np.mean([np.log(TTFT_S + STEPS * slower / rate) for rate in rates for slower in (1, 2)]))


def entrants(*runs: StudyResults) -> list[Entrant]:
    """Each configuration, named by its run and quantization."""
    return [
        Entrant(f"{results.run.run_id} {side.levels.get('quantization', 'Q8_0')}", side)
        for results in runs
        for side in configurations(results)
    ]


RATES: dict[Level, list[float]] = {"Q8_0": [20, 21, 19, 20.5, 19.5, 20], "Q4_0": [30, 31, 29, 30.5, 29.5, 30]}


def reference(rate: float = 20.0) -> Reference:
    """Six steady repeats."""
    return reference_of(measured(plan(("Q8_0",)), {"Q8_0": [rate] * 6}), "what was steady")


def test_a_score_is_the_ratio_of_times_of_whole_answers() -> None:
    """As numpy has it from the rates; the interval holds it, the faster one leads, and the parts are told."""
    found = scoreboard(entrants(measured(plan(), RATES)), reference())
    (group,) = found.groups
    assert [place.entrant.name for place in group.places] == ["r Q4_0", "r Q8_0"] and found.shared == 2
    for place in group.places:
        stored = place.entrant.name.split()[1]
        wanted = 100 * np.exp(seconds([20.0]) - seconds(RATES[stored]))
        assert place.value == pytest.approx(wanted, rel=1e-9) and place.low < place.value < place.high
        assert place.bound == "interval95" and place.n == 6
    assert "score of 135" in verdict(found)
    told = lineup_json(found)
    assert told["reference"] == "what was steady" and told["per"] == "score"
    assert told["groups"][0]["places"][1]["means"]["ttft"] == pytest.approx(TTFT_S)


def test_who_measured_more_and_with_another_seed_is_on_the_same_scale() -> None:
    """Seed, number of repeats and further factors are no other work; a run of one task is compared over that one."""
    longer = measured(plan(("Q8_0",), seed=9), {"Q8_0": RATES["Q8_0"] * 3}, "longer")
    found = scoreboard(entrants(measured(plan(), RATES), longer), reference())
    values = {place.entrant.name: place.value for place in found.groups[0].places}
    assert values["longer Q8_0"] == pytest.approx(values["r Q8_0"], rel=1e-9) and not found.left
    one = study({"task": TASKS[:1]}, hold=longer.study.hold, prompts=longer.study.prompts)
    half = scoreboard(entrants(longer, measured(one, {"Q8_0": RATES["Q8_0"]}, "half")), reference())
    assert half.shared == 1 and len(half.groups[0].places) == 2


def test_other_texts_and_too_few_repeats_have_no_score() -> None:
    """They are named, with the reason, and the others keep theirs."""
    other = measured(plan(("Q8_0",), text="Which pier?"), RATES, "other")
    few = measured(plan(("Q8_0",)), {"Q8_0": [20.0, 21.0]}, "few")
    found = scoreboard(entrants(other, few, measured(plan(), RATES)), reference())
    assert {left.entrant.name for left in found.left} == {"other Q8_0", "few Q8_0"}
    assert len(found.groups[0].places) == 2
    assert not scoreboard(entrants(other), reference()).groups


def test_the_best_of_each() -> None:
    """Of two runs of two quantizations one line each is left, the faster one."""
    slower = {q: [v / 2 for v in values] for q, values in RATES.items()}
    board = scoreboard(entrants(measured(plan(), RATES), measured(plan(), slower, "slow")), reference())
    names = [place.entrant.name for place in best_of_each(board, "quantization").groups[0].places]
    assert names == ["r Q4_0", "r Q8_0"]


def test_one_configuration_over_the_suite_is_told_by_its_means() -> None:
    """Geometric means over the tasks, not a list of them."""
    said = answer(measured(plan(("Q8_0",)), {"Q8_0": [20.0] * 6}))
    assert said.startswith("over 2 tasks in the mean: an answer in 917 ms, its first token after 200 ms")
    assert f"{1e3 * np.exp(seconds([20.0])):.0f}" == "917"


def test_a_reference_has_each_task_once() -> None:
    """Two quantizations cannot both have 100; nor is there any without a task."""
    with pytest.raises(ValueError, match="several"):
        reference_of(measured(plan(), RATES), "both")
    bare = study({"threads": (1, 2)})
    kept = {cell.key: [KeptRepeat("measured", r) for r in repeats_at(9.0)] for cell in bare.cells}
    with pytest.raises(ValueError, match="no task"):
        reference_of(StudyResults.of_repeats(bare, kept), "none")
    assert not configurations(StudyResults.of_repeats(replace(bare), kept))
