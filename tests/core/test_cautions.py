"""Each caution: a case that raises it and one that does not."""

from __future__ import annotations

import dataclasses
from typing import Any

import pytest

from tests.build import MS, decode_timeline, repeat, repeats_at, timeline
from zinc_kettle.core.cautions import KINDS, Setting, cell_cautions, timeline_cautions
from zinc_kettle.core.devices import DeviceUse
from zinc_kettle.core.record.repeat import Repeat
from zinc_kettle.core.record.telemetry import Machine
from zinc_kettle.core.record.timeline import EngineReport, Timeline

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


def lengths(*tokens: int) -> list[Timeline]:
    """Sound requests of these lengths, all asked for the first."""
    return [decode_timeline(25.0, engine=REPORT, tokens=n, asked_tokens=tokens[0]) for n in tokens]


def request_gap(seconds: float) -> list[Repeat]:
    """One request with one long gap."""
    stamps = [200.0 + 20.0 * i + (seconds * 1e3 if i > 5 else 0.0) - (20.0 if i > 5 else 0.0) for i in range(11)]
    return [repeat(timeline(stamps, engine=REPORT))]


def many(count: int) -> list[Timeline]:
    """Sound requests, one after another."""
    return [decode_timeline(25.0, engine=REPORT) for _ in range(count)]


def loaded(rounds: int) -> Repeat:
    """Four streams, so many requests each: all of them but the last round end while the load is held."""
    sound = [decode_timeline(100.0, stream=i % 4) for i in range(4 * rounds)]
    at = [shifted(t, 1_000.0 * (i // 4) + 10.0 * (i % 4)) for i, t in enumerate(sound)]
    return repeat(*at, concurrency=4)


def shifted(t: Timeline, by_ms: float) -> Timeline:
    """The same request, later."""
    by = int(by_ms * MS)
    return dataclasses.replace(t, sent_ns=t.sent_ns + by, end_ns=t.end_ns + by, chunk_ns=t.chunk_ns + by)


def heated(*of: tuple[float, float]) -> list[Repeat]:
    """Repeats at these speeds, while the hottest sensor told these temperatures."""
    hot = (DeviceUse(hottest_c=celsius) for _, celsius in of)
    quiet = [dataclasses.replace(machine()[0].machine or Machine(1, 1, 0, 0, 0), processor=use) for use in hot]
    rows = repeats_at(*(rate for rate, _ in of))
    return [dataclasses.replace(r, machine=m) for r, m in zip(rows, quiet, strict=True)]


def totals(tokens: int) -> list[Repeat]:
    """Eleven chunks that are not counted one by one, and a usage record of so many tokens."""
    return request(chunk_tokens=0 * decode_timeline(25.0).chunk_tokens, output_tokens=tokens)


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
    ("heating", heated((25, 60), (24.6, 64), (24.2, 66)), heated((25, 60), (24.6, 64), (24.2, 64.5))),
    ("busy-machine", machine(busy_cores=1.26), machine(busy_cores=1.25)),
    (
        "observer-heavy",
        [dataclasses.replace(request()[0], driver_cpu_ns=77 * MS)],
        [dataclasses.replace(request()[0], driver_cpu_ns=76 * MS)],
    ),
    ("unequal-length", [repeat(*lengths(100, 103))], [repeat(*lengths(100, 102))]),
    ("context-cut", request(asked_tokens=12, finish="length"), request(asked_tokens=12, finish="stop")),
    ("stalled", request_gap(2.0), request_gap(1.99)),
    ("drift", repeats_at(*(25.0 + 0.3 * i for i in range(8))), repeats_at(*(25.0 + 0.1 * i for i in range(8)))),
    ("thin-percentile", [repeat(*many(999))], [repeat(*many(1_000))]),
    ("no-steady-window", [loaded(2)], [loaded(3)]),
    ("several-a-chunk", totals(13), totals(12)),
    ("counted-by-chunks", request(chunk_tokens=0 * decode_timeline(25.0).chunk_tokens), request()),
]


@pytest.mark.parametrize(("code", "raised", "quiet"), CASES, ids=[case[0] for case in CASES])
def test_raised_and_not_raised(code: str, raised: list[Repeat], quiet: list[Repeat]) -> None:
    """At each threshold one side raises the caution and the other does not."""
    assert code in codes(raised)
    assert code not in codes(quiet)


def test_a_driver_that_falls_behind_is_observer_heavy() -> None:
    """By the queue of chunks behind kernel stamps; without such stamps nothing is said."""
    sound = decode_timeline(25.0, engine=REPORT)
    late = dataclasses.replace(sound, kernel_ns=sound.chunk_ns - int(5.1 * MS))
    fine = dataclasses.replace(sound, kernel_ns=sound.chunk_ns - int(4.9 * MS))
    assert "observer-heavy" in codes([repeat(late)])
    assert "observer-heavy" not in codes([repeat(fine)])


def test_a_conversation_may_reuse_itself() -> None:
    """Where former turns are to be found in the cache, reuse raises nothing."""
    helped = request(engine=dataclasses.replace(REPORT, cache_n=90))
    assert "cache-helped" in codes(helped)
    assert "cache-helped" not in codes(helped, dataclasses.replace(SETTING, reuse_meant=True))


def test_stalled_by_the_limit() -> None:
    """A request given up for silence is stalled, whatever its gaps."""
    given_up = timeline(error="stalled: no byte for 5 s", fault="stall", complete=False)
    assert "stalled" in codes([*request(), repeat(given_up)])


def test_errors_tell_their_kinds_and_what_healed() -> None:
    """Failed attempts by kind, and how many went through when sent again."""
    failed = [timeline([], error="HTTP 429", fault="http-429", complete=False) for _ in range(2)]
    refused = timeline([], error="refused", fault="refused", complete=False)
    again = decode_timeline(25.0, engine=REPORT, attempt=1)
    (caution,) = [c for c in cell_cautions([repeat(*failed, refused, again)], SETTING) if c.code == "errors"]
    assert "2 http-429, 1 refused" in caution.evidence and "1 request answered when sent again" in caution.evidence


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
    elsewhere = {"over-threaded", "spilled", "different-tokenizer"}
    assert {case[0] for case in CASES} | elsewhere == set(KINDS)
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
    early = timeline(asked_tokens=9, cold=True, engine=dataclasses.replace(REPORT, cache_n=99, predicted_n=4))
    assert {c.code for c in timeline_cautions(early, SETTING)} == {"cold", "cache-helped", "ended-early"}
    broken = timeline(error="reset", complete=False)
    assert [c.code for c in timeline_cautions(broken, SETTING)] == ["incomplete"]
