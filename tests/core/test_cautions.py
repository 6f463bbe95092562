"""Each caution: a case that raises it and one that does not."""

from __future__ import annotations

import dataclasses
from typing import Any

import pytest

from tests.build import MS, decode_timeline, repeat, repeats_at, timeline
from zinc_kettle.core.caution_kinds import KINDS
from zinc_kettle.core.cautions import Setting, cell_cautions, timeline_cautions
from zinc_kettle.core.measures import Repeat
from zinc_kettle.core.telemetry import Machine
from zinc_kettle.core.timeline import EngineReport

SETTING = Setting(threads=2, physical_cores=2, template_tokens=20)
REPORT = EngineReport(0, 100, 190.0, 11, 400.0)


def codes(repeats: list[Repeat], setting: Setting = SETTING) -> set[str]:
    """Codes raised."""
    return {c.code for c in cell_cautions(repeats, setting)}


def request(**changes: Any) -> list[Repeat]:
    """One repeat of one sound request, changed."""
    return [repeat(decode_timeline(25.0, **{"engine": REPORT, **changes}))]


def machine(**changes: Any) -> list[Repeat]:
    """One sound repeat on a machine, changed."""
    quiet = Machine(1.0, 2, 1.0, 1.0, 0.0)
    return [repeat(decode_timeline(25.0, engine=REPORT), machine=dataclasses.replace(quiet, **changes))]


CASES: list[tuple[str, list[Repeat], list[Repeat]]] = [
    (
        "cold",
        [*request(), repeat(timeline(cold=True))],
        [repeat(timeline(cold=True, role="warmup"), *request()[0].timelines)],
    ),
    (
        "cache-helped",
        request(engine=dataclasses.replace(REPORT, cache_n=33)),
        request(engine=dataclasses.replace(REPORT, cache_n=32)),
    ),
    ("ended-early", request(asked_tokens=12), request()),
    ("incomplete", [*request(), repeat(timeline(complete=False, error="closed"))], request()),
    ("errors", [*request(), repeat(timeline([], error="HTTP 503", complete=False))], request()),
    (
        "tiny-prompt",
        request(engine=dataclasses.replace(REPORT, prompt_ms=149.0)),
        request(engine=dataclasses.replace(REPORT, prompt_ms=150.0)),
    ),
    ("noisy", repeats_at(20.0, 25.0, 30.0), repeats_at(24.9, 25.0, 25.1)),
    ("fluke", repeats_at(25.0, 25.1, 24.9, 125.0), repeats_at(25.0, 25.1, 24.9, 26.0)),
    ("stolen-time", machine(stolen_share=0.021), machine(stolen_share=0.02)),
    ("busy-machine", machine(busy_cores=1.26), machine(busy_cores=1.25)),
    (
        "observer-heavy",
        [dataclasses.replace(request()[0], driver_cpu_ns=77 * MS)],
        [dataclasses.replace(request()[0], driver_cpu_ns=76 * MS)],
    ),
    ("counted-by-chunks", request(chunk_tokens=0 * decode_timeline(25.0).chunk_tokens), request()),
]


@pytest.mark.parametrize(("code", "raised", "quiet"), CASES, ids=[case[0] for case in CASES])
def test_raised_and_not_raised(code: str, raised: list[Repeat], quiet: list[Repeat]) -> None:
    """At each threshold one side raises the caution and the other does not."""
    assert code in codes(raised)
    assert code not in codes(quiet)


def test_over_threaded() -> None:
    """More threads than physical cores; unknown cores say nothing."""
    assert "over-threaded" in codes(request(), dataclasses.replace(SETTING, threads=3))
    assert "over-threaded" not in codes(request())
    assert "over-threaded" not in codes(request(), Setting(threads=64))


def test_tiny_prompt_by_tokens() -> None:
    """Slow, but of 63 tokens: still tiny."""
    assert "tiny-prompt" in codes(request(engine=dataclasses.replace(REPORT, prompt_n=63)))
    assert "tiny-prompt" not in codes(request(engine=dataclasses.replace(REPORT, prompt_n=64)))


def test_every_code_is_tested_and_has_words() -> None:
    """No caution without a sentence, an advice and a test."""
    assert {case[0] for case in CASES} | {"over-threaded", "spilled"} == set(KINDS)
    assert all(kind.sentence.endswith(".") and kind.advice.endswith(".") for kind in KINDS.values())


def test_sound_repeats_raise_nothing() -> None:
    """A quiet machine and sound requests: no caution at all, so that one means something."""
    assert codes(repeats_at(25.0, 25.1, 24.9)) == set()
    assert codes([]) == set()


def test_evidence_names_the_figures() -> None:
    """A caution without its numbers convinces nobody."""
    (caution,) = [c for c in cell_cautions(machine(stolen_share=0.3), SETTING) if c.code == "stolen-time"]
    assert "30%" in caution.evidence and "1 of 1" in caution.evidence


def test_cautions_of_one_request() -> None:
    """The sheet's request carries its own."""
    early = timeline(asked_tokens=9, cold=True, engine=dataclasses.replace(REPORT, cache_n=99))
    assert {c.code for c in timeline_cautions(early, SETTING)} == {"cold", "cache-helped", "ended-early"}
    broken = timeline(error="reset", complete=False)
    assert [c.code for c in timeline_cautions(broken, SETTING)] == ["incomplete"]
