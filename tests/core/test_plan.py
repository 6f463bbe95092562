"""Cells, order, workload and budget of a study."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.build import study
from zinc_kettle.core.fingerprint import fingerprint
from zinc_kettle.core.grid import axes
from zinc_kettle.core.plan.study import Repeats, workload
from zinc_kettle.core.run.budget import TimeLeft, guess_launch_s, guess_repeat_s, launches
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
    """A cell that took 30 s counts 30 s; others are guessed, corrected by how wrong the guess was."""
    s = study(repeats=Repeats(count=1))
    keys = list(s.by_key)
    sizes: dict[str, float | None] = dict.fromkeys(keys, 1e8)
    time = TimeLeft(s, dict.fromkeys(keys, 1), model_bytes=sizes)
    one = guess_repeat_s(s, s.cells[0], 1e8) + guess_launch_s(1e8)
    assert time.seconds == pytest.approx(6 * one) and time.repeats == 6
    time.repeat_took(keys[0], 3 * one, left=1)
    assert time.seconds == pytest.approx(6 * 3 * one), "the other five are guessed three times as long"
    for key in keys:
        time.repeat_took(key, one, left=0)
    assert time.seconds == pytest.approx(0) and time.repeats == 0


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
