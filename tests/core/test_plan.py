"""Cells, order, workload and budget of a study."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.build import study
from zinc_kettle.core.fingerprint import fingerprint
from zinc_kettle.core.grid import axes
from zinc_kettle.core.plan.study import Prompts, Repeats, workload
from zinc_kettle.core.plan.traffic import Recorded
from zinc_kettle.core.run.budget import (
    FAILED_START_S,
    LAUNCH_TRIES,
    Speed,
    TimeLeft,
    expected_tokens,
    guess_launch_s,
    guess_repeat_s,
    launches,
)
from zinc_kettle.core.workload import SALT_DIGITS, LengthSearch, made_up_words, message, salt, stretch


def test_cells_are_the_product_in_order() -> None:
    """First factor slowest; held and default settings merged."""
    found = study().cells
    assert [tuple(c.levels.values()) for c in found][:3] == [("F16", 1), ("F16", 2), ("Q8_0", 1)]
    assert len(found) == 6 and found[0].settings["context"] == 256 and found[0].settings["batch"] == 2048


def test_slots_default_to_the_highest_concurrency() -> None:
    """So that all cells of a concurrency sweep share a launch, and none queues for a slot."""
    s = study({"concurrency": (1, 2, 8)})
    assert {c.launch.number("slots") for c in s.cells} == {8}
    assert launches(s) == 1
    assert [c.requests(s) for c in s.cells] == [1, 8, 32]


def test_words_go_down_and_scales_across() -> None:
    """The map's axes for one, two and three factors."""
    assert axes(study()) == ("quantization", "threads")
    assert axes(study({"threads": (1, 2)})) == (None, "threads")
    assert axes(study({"quantization": ("F16", "Q4_0")})) == (None, "quantization")
    assert axes(study({"threads": (1, 2), "quantization": ("F16", "Q4_0"), "batch": (32, 64)})) == (
        "quantization",
        "threads",
    )
    assert axes(study({"threads": (1, 2), "batch": (32, 64)})) == ("threads", "batch")


def test_level_names() -> None:
    """A level is said with its noun."""
    factors = study().factors
    said = [factors["threads"].says(1), factors["threads"].says(2), factors["quantization"].says("Q4_0")]
    assert said == ["1 thread", "2 threads", "Q4_0"]
    assert factors["prompt_cache"].says(True) == "prompt cache on"


def test_workload_fingerprint_ignores_the_launch() -> None:
    """Two quantizations do the same work; another output length does not."""
    s = study()
    first, _, third, *_ = s.cells
    assert fingerprint(workload(s, first)) == fingerprint(workload(s, third))
    other = study(hold={**s.hold, "output_tokens": 9})
    assert fingerprint(workload(s, first)) != fingerprint(workload(other, other.cells[0]))


def test_time_left_learns_from_what_was_seen() -> None:
    """A cell that took 30 s counts 30 s; others are guessed, corrected by how wrong the guess was; launches apart."""
    s = study(repeats=Repeats(count=1))
    keys = list(s.by_key)
    sizes: dict[str, float | None] = dict.fromkeys(keys, 1e8)
    time = TimeLeft(s, dict.fromkeys(keys, 1), model_bytes=sizes)
    one, load = guess_repeat_s(s, s.cells[0], 1e8), guess_launch_s(1e8)
    assert time.seconds == pytest.approx(6 * (one + load)) and time.repeats == 6
    time.repeat_took(keys[0], 3 * one, left=1)
    assert time.seconds == pytest.approx(6 * (3 * one + load)), "the other five are guessed three times as long"
    for key in keys:
        time.repeat_took(key, one, left=0)
    assert time.seconds == pytest.approx(0) and time.repeats == 0


def test_a_launch_counts_once_for_the_cells_it_serves_and_its_first_load_is_no_measure() -> None:
    """Two loads of one launch; a cold first load leaves the guess, the next one is believed."""
    s = study({"concurrency": (1, 2)}, hold={**study().hold, "slots": 2}, repeats=Repeats(count=3))
    first, second = s.by_key
    time = TimeLeft(s, dict.fromkeys(s.by_key, 3), model_bytes=dict.fromkeys(s.by_key, 1e8))
    each = [guess_repeat_s(s, cell, 1e8) for cell in s.cells]
    assert time.seconds == pytest.approx(3 * (sum(each) + guess_launch_s(1e8)))
    time.repeat_took(first, 20.0 + each[0], left=2, launch_s=20.0)
    time.repeat_took(second, each[1], left=2)
    assert time.seconds == pytest.approx(2 * (sum(each) + guess_launch_s(1e8)))
    time.repeat_took(first, 4.0 + each[0], left=1, launch_s=4.0)
    assert time.seconds == pytest.approx(each[0] + 2 * each[1] + 1.5 * 4.0)


def test_what_a_plan_tells_of_its_time() -> None:
    """Streams share steps, answers have their own lengths, a cell that will not load costs its failed starts, and
    where nothing is known nothing is claimed."""
    s = study({"concurrency": (1, 8)}, hold={**study().hold, "slots": 8}, repeats=Repeats(count=4, requests=8))
    alone, many = s.cells
    fast = {cell.key: Speed(100.0, 1_000.0, 0.9) for cell in s.cells}
    writing = 8 * 8 / 100
    longer = guess_repeat_s(s, alone, None, fast) - guess_repeat_s(s, many, None, fast)
    assert longer == pytest.approx(writing - writing * (1 + 7 * 0.1) / 8)
    said = Recorded((("user", "x" * 400),), 50), Recorded((("user", "y" * 800),), 150)
    asked = study({"prompt": ("a", "b")}, hold={"model": "m"}, prompts=Prompts(("f.jsonl",), (), said, ("a", "b")))
    assert [expected_tokens(asked, cell) for cell in asked.cells] == [(100, 50), (200, 150)]
    none = TimeLeft(s, dict.fromkeys(s.by_key, 4), model_bytes={}, speeds=dict.fromkeys(s.by_key))
    assert none.known and none.seconds == pytest.approx(LAUNCH_TRIES * FAILED_START_S)
    dark = TimeLeft(s, dict.fromkeys(s.by_key, 4), model_bytes=dict.fromkeys(s.by_key))
    assert not dark.known
    dark.repeat_took(alone.key, 2.0, left=3)
    assert dark.known


@given(st.integers(0, 2**31), st.text(max_size=8), st.integers(0, 10**6))
def test_salts_have_equal_form(seed: int, nonce: str, index: int) -> None:
    """Always the same number of single digits, the same for the same request, and first in the message."""
    text = salt(seed, nonce, index)
    assert text == salt(seed, nonce, index)
    assert len(text.split()) == SALT_DIGITS and all(d.isdigit() and len(d) == 1 for d in text.split())
    assert message("body", text) == f"{text} body" and message("body", None) == "body"


def test_salts_differ() -> None:
    """A thousand requests, hardly a repetition."""
    assert len({salt(1, "n", i) for i in range(1000)}) > 990


@pytest.mark.parametrize(("slope", "fixed", "target"), [(1, 22, 96), (2, 30, 500), (1.3, 9, 1024), (0.27, 12, 300)])
def test_length_search_finds_the_length(slope: float, fixed: int, target: int) -> None:
    """Tokens grow with units at any slope; the nearest count is found within a dozen questions."""
    search = LengthSearch(target)
    asked = 0
    while not search.done:
        asked += 1
        search.feed(fixed + int(slope * search.units))
    assert asked <= LengthSearch.MAX_PROBES
    assert search.best is not None and abs(search.best[1] - target) <= slope


def test_made_up_words_and_stretching() -> None:
    """Four letters each, the same for a seed; a text is cut or repeated to the character."""
    assert all(len(w) == 4 for w in made_up_words(50, seed=1).split())
    assert made_up_words(5, seed=1) == made_up_words(5, seed=1) != made_up_words(5, seed=2)
    assert stretch("abc", 2) == "ab" and stretch("abc", 9) == "abc\nabc\na" and stretch("", 5) == ""
