"""Decisions about a run: which make sense, and what each changes."""

from __future__ import annotations

import pytest

from tests.build import repeats_at, study
from zinc_kettle.core.checks.steering import parse_levels, steer
from zinc_kettle.core.plan.factors import Level
from zinc_kettle.core.problem import Problem
from zinc_kettle.core.results import KeptRepeat, RunInfo, StudyResults
from zinc_kettle.core.run.decisions import WISHES, AddLevel, Decision, Settle, Skip, Step
from zinc_kettle.present.charts.subtitle import notes
from zinc_kettle.present.findings import findings

PLAN = study({"threads": (1, 2), "salt": (True, False)})
STEP = Step(1, PLAN.cells[0].key)


def decided(wish: str, levels: dict[str, Level] | None = None, count: int = 0) -> Decision | Problem:
    """A decision about a run of four cells."""
    return steer(StudyResults(PLAN), WISHES[wish], levels or {}, count=count, at_s=10.0, step=STEP)


def test_what_a_person_may_decide() -> None:
    """Each with the step it was taken in; the schedule then follows it."""
    skip = decided("skip", {"threads": 2})
    assert skip == Skip(10.0, {"threads": 2}, STEP)
    assert isinstance(skip, Decision)
    results = StudyResults(PLAN, RunInfo("r", decisions=(skip,)))
    assert [c.skipped for c in results.cells] == [False, False, True, True]
    more = decided("more", {"threads": 1, "salt": True}, 2)
    assert isinstance(more, Decision) and more.told == "2 more repeats: threads 1, salt on"
    new = decided("add-level", {"threads": 4})
    assert isinstance(new, Decision)
    wider = StudyResults(PLAN, RunInfo("r", decisions=(new,)))
    assert len(wider.cells) == 6 and new.told == "added: threads 4"
    assert isinstance(decided("pause"), Decision) and isinstance(decided("stop-after"), Decision)


@pytest.mark.parametrize(
    ("wish", "levels", "count", "words"),
    [
        ("skip", {}, 0, "which cells"),
        ("skip", {"threads": 9}, 0, "no cell has threads 9"),
        ("more", {"threads": 1}, 0, "make no sense"),
        ("pause", {"threads": 1}, 0, "whole run"),
        ("add-level", {"threads": 2}, 0, "there already"),
        ("add-level", {"context": 512}, 0, "does not vary context"),
        ("add-level", {"threads": 0}, 0, "out of range"),
        ("add-level", {"threads": 3, "salt": True}, 0, "one level"),
        ("on-failure", {}, 0, "nothing that can happen"),
        ("first", {"threads": 9}, 0, "no cell has threads 9"),
    ],
)
def test_what_makes_no_sense_is_explained(wish: str, levels: dict[str, Level], count: int, words: str) -> None:
    """With what to try."""
    found = decided(wish, levels, count)
    assert isinstance(found, Problem) and words in found.what and found.remedy


def test_a_level_that_does_not_fit_the_context_is_refused() -> None:
    """Prompt and answer must fit, as in the plan."""
    plan = study({"prompt_tokens": (64, 128)}, hold={"model": "m", "context": 256, "output_tokens": 16})
    found = steer(StudyResults(plan), AddLevel, {"prompt_tokens": 250}, count=0, at_s=0.0, step=None)
    assert isinstance(found, Problem) and "do not fit a context of 256" in found.what


def test_levels_are_read_as_their_factor_has_them() -> None:
    """Numbers with separators, switches in several words; anything else is a problem."""
    results = StudyResults(PLAN)
    assert parse_levels(results, "threads=1_000, salt=off") == {"threads": 1_000, "salt": False}
    for text in ("threads", "context=5", "threads=many", "salt=perhaps"):
        assert isinstance(parse_levels(results, text), Problem)


def test_decisions_are_told_beside_the_map() -> None:
    """The last ones, with their time; those of the tool itself are not a person's."""
    decisions = (Skip(0.0, {"threads": 2}), Settle(1.0, PLAN.cells[0].levels, count=3))
    kept = {PLAN.cells[0].key: [KeptRepeat("measured", r) for r in repeats_at(10.0, 11.0)]}
    results = StudyResults.of_repeats(PLAN, kept, RunInfo("r", decisions=decisions))
    (decided,) = [f for f in findings(results) if f.code == "decided"]
    assert "skipped: threads 2" in decided.text and "settle" not in decided.text
    assert notes(results)[-1] == "decided while it ran: skipped: threads 2", "and on every chart"
