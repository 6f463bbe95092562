"""What can be seen of an answer without understanding it, and what a person marks it as."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.build import repeats_at, study, timeline
from zinc_kettle.core.plan.factors import Level
from zinc_kettle.core.remarks import MARKS, answers_of, marks_of, repetition, script_of, scripts_of, seen
from zinc_kettle.core.results import KeptRepeat, RunInfo, StudyResults
from zinc_kettle.core.run.decisions import Mark
from zinc_kettle.present.json import cell_json

WORDS = st.lists(st.text("abcdefgh", min_size=1, max_size=4), min_size=1, max_size=6)


@pytest.mark.parametrize(
    ("text", "finish", "asked", "got", "found"),
    [
        ("The harbour is calm.", "stop", 20, 5, []),
        ("The harbour is", "length", 20, 20, ["cut by the limit"]),
        ("The harbour is", None, 20, 20, ["cut by the limit"]),
        (" \n", "stop", 20, 1, ["empty"]),
        ("fog fog fog fog fog fog", "stop", 20, 6, ["repeats “fog”"]),
        ("well, well, well", "stop", 20, 3, []),
        ("a\x1b[31mb", "stop", 20, 2, ["control characters"]),
        ("Гавань спокойна, тумана нет", "stop", 20, 5, ["in cyrillic letters, the prompt is not"]),
        ("Call sign Ω at the mole", "stop", 20, 5, []),
    ],
)
def test_what_is_seen(text: str, finish: str | None, asked: int, got: int, found: list[str]) -> None:
    """Each sign alone; a figure of speech and a single foreign letter are none."""
    assert seen(text, finish=finish, asked=asked, got=got, scripts=frozenset({"LATIN"})) == found


@given(WORDS, WORDS, st.integers(1, 9))
def test_a_passage_is_found_as_often_as_it_is_repeated(before: list[str], passage: list[str], times: int) -> None:
    """Three times in a row and six words in all, whatever stands before it."""
    text = " ".join(["start", *before, "|", *passage * times])
    if times >= 3 and len(passage) * times >= 6:
        assert repetition(text)
    if times == 1 and len(set(passage)) == len(passage):
        assert not repetition(text)


def test_scripts_are_those_of_the_prompts() -> None:
    """By what their letters are called; made-up words are Latin."""
    assert scripts_of(study()) == {"LATIN"} and script_of("ж") == "CYRILLIC" and script_of("7") == ""


def test_marks_are_kept_and_taken_back() -> None:
    """The same mark again takes it back; they stand with the answer, and are counted in JSON."""
    levels: dict[str, Level] = {"quantization": "F16", "threads": 1}
    log = [Mark(1.0, levels, request="r1", mark=mark) for mark in ("fine", "rambling", "fine")]
    assert marks_of(log, "r1") == ("rambling",) and marks_of(log, "r2") == () and set(MARKS) >= {"fine", "rambling"}
    (answer,) = answers_of(study(), log, [timeline(request_id="r1", text="fog"), timeline(role="warmup")])
    assert answer.marks == ("rambling",) and answer.text == "fog"
    plan = study()
    kept = {plan.cells[0].key: [KeptRepeat("measured", r) for r in repeats_at(10.0, 11.0)]}
    results = StudyResults.of_repeats(plan, kept, RunInfo("run", decisions=tuple(log)))
    told = cell_json(results, results.cells[0])
    assert told["marks"] == {"rambling": 1} and cell_json(results, results.cells[1])["marks"] == {}
