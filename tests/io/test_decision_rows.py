"""Decisions as rows: what earlier versions kept is read as what it meant, and everything comes back as it was."""

from __future__ import annotations

import json

import pytest

from tests.build import study
from zinc_kettle.core.checks.steering import by_person
from zinc_kettle.core.run.decisions import (
    KINDS,
    Acknowledge,
    Decision,
    GateAsked,
    Mark,
    More,
    OnFailure,
    Pause,
    Settle,
    Skip,
    Step,
)
from zinc_kettle.errors import StoreError
from zinc_kettle.store.plans import decision_of, decision_text

LEVELS = {"threads": 2}
EARLIER: list[tuple[str, Decision]] = [
    ('"kind":"skip","text":"looking for the limit"', Skip(1.0, LEVELS, by="search")),
    ('"kind":"skip"', Skip(1.0, LEVELS)),
    ('"kind":"more","count":2', More(1.0, LEVELS, count=2)),
    ('"kind":"pause","text":"2 threads failed"', Pause(1.0, LEVELS, reason="2 threads failed")),
    ('"kind":"on-failure","text":"ask"', OnFailure(1.0, LEVELS, policy="ask")),
    ('"kind":"acknowledge","caution":"busy","text":"mine"', Acknowledge(1.0, LEVELS, caution="busy", reason="mine")),
    ('"kind":"mark","request":"r1","text":"fine"', Mark(1.0, LEVELS, request="r1", mark="fine")),
    ('"kind":"gate","text":"decode by 3%"', GateAsked(1.0, LEVELS, question="decode by 3%")),
    ('"kind":"settle","count":4', Settle(1.0, LEVELS, count=4)),
]


@pytest.mark.parametrize(("said", "meant"), EARLIER, ids=[row for row, _ in EARLIER])
def test_rows_of_earlier_versions_are_read(said: str, meant: Decision) -> None:
    """All that was said in one text has its own field; a search's decisions are no person's."""
    found = decision_of(f'{{"at_s":1.0,"levels":{{"threads":2}},"step":null,{said}}}')
    assert found == meant and by_person(found) is (meant.steers and meant.by != "search")


@pytest.mark.parametrize("kind", KINDS)
def test_every_kind_comes_back_as_it_was(kind: str) -> None:
    """With its step and its author; also with more fields than this version knows, but not of a kind it does not."""
    one = KINDS[kind](2.5, LEVELS, Step(3, study().cells[0].key), "tool")
    text = decision_text(one)
    assert decision_of(text) == one
    assert decision_of(json.dumps({**json.loads(text), "later": 1})) == one
    with pytest.raises(StoreError, match="cannot be read"):
        decision_of(json.dumps({**json.loads(text), "kind": "ponder"}))
