"""Cells, order, workload and budget of a study."""

from __future__ import annotations

import json
from collections import Counter

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.build import study
from zinc_kettle.core.budget import guess_launch_s, guess_repeat_s, launches, time_left_s
from zinc_kettle.core.factors import level_name
from zinc_kettle.core.fingerprint import fingerprint
from zinc_kettle.core.plan import Repeats, axes, cells, from_plain, order, to_plain, workload
from zinc_kettle.core.workload import SALT_DIGITS, LengthSearch, made_up_words, message, salt, stretch


def test_cells_are_the_product_in_order() -> None:
    """First factor slowest; held and default settings merged."""
    found = cells(study())
    assert [tuple(c.levels.values()) for c in found][:3] == [("F16", 1), ("F16", 2), ("Q8_0", 1)]
    assert len(found) == 6 and found[0].settings["context"] == 256 and found[0].settings["batch"] == 2048


def test_slots_default_to_the_highest_concurrency() -> None:
    """So that all cells of a concurrency sweep share a launch, and none queues for a slot."""
    s = study({"concurrency": (1, 2, 8)})
    assert {c.launch.slots for c in cells(s)} == {8}
    assert launches(s, cells(s)) == 1
    assert [c.requests(s) for c in cells(s)] == [1, 8, 32]


@given(st.integers(0, 2**31 - 1), st.integers(1, 6))
def test_interleaved_blocks_hold_every_cell_once(seed: int, count: int) -> None:
    """Each block is a permutation of all cells, and blocks come one after another."""
    s = study(seed=seed, repeats=Repeats(count=count))
    runs = order(s)
    assert [r.block for r in runs] == [b for b in range(count) for _ in range(6)]
    for block in range(count):
        assert sorted(r.cell for r in runs if r.block == block) == list(range(6))
    assert runs == order(s)


def test_by_launch_saves_reloads_and_runs_the_same() -> None:
    """Grouped: as many launches as configurations, each (block, cell) still once."""
    s = study({"threads": (1, 2), "concurrency": (1, 2)}, repeats=Repeats(count=4, order="by-launch"))
    runs = order(s)
    assert Counter((r.block, r.cell) for r in runs) == Counter((b, c) for b in range(4) for c in range(4))
    assert launches(s, cells(s), runs) == 2
    interleaved = study({"threads": (1, 2), "concurrency": (1, 2)}, repeats=Repeats(count=4))
    assert launches(interleaved, cells(interleaved)) > 2


def test_a_study_survives_json() -> None:
    """What the store keeps is the study again."""
    s = study()
    assert from_plain(json.loads(json.dumps(to_plain(s)))) == s


def test_words_go_down_and_scales_across() -> None:
    """The map's axes for one, two and three factors."""
    assert axes(study()) == ("quantization", "threads")
    assert axes(study({"threads": (1, 2)})) == (None, "threads")
    assert axes(study({"quantization": ("F16", "Q4_0")})) == ("quantization", None)
    assert axes(study({"threads": (1, 2), "quantization": ("F16", "Q4_0"), "batch": (32, 64)})) == (
        "quantization",
        "threads",
    )
    assert axes(study({"threads": (1, 2), "batch": (32, 64)})) == ("threads", "batch")


def test_level_names() -> None:
    """A level is said with its noun."""
    assert [level_name("threads", 1), level_name("threads", 2), level_name("quantization", "Q4_0")] == [
        "1 thread",
        "2 threads",
        "Q4_0",
    ]
    assert level_name("prompt_cache", True) == "prompt cache on"


def test_workload_fingerprint_ignores_the_launch() -> None:
    """Two quantizations do the same work; another output length does not."""
    s = study()
    first, _, third, *_ = cells(s)
    assert fingerprint(workload(s, first)) == fingerprint(workload(s, third))
    other = study(hold={**s.hold, "output_tokens": 9})
    assert fingerprint(workload(s, first)) != fingerprint(workload(other, cells(other)[0]))


def test_time_left_learns_from_what_was_seen() -> None:
    """A cell that took 30 s counts 30 s; others are guessed, corrected by how wrong the guess was."""
    s = study(repeats=Repeats(count=1))
    plan = cells(s)
    sizes: dict[int, float | None] = {c.index: 1e8 for c in plan}
    whole = time_left_s(s, plan, order(s), model_bytes=sizes, seen_s={})
    one = guess_repeat_s(s, plan[0], 1e8) + guess_launch_s(1e8)
    assert whole == pytest.approx(6 * one)
    assert time_left_s(s, plan, order(s), model_bytes=sizes, seen_s={0: [3 * one]}) == pytest.approx(3 * whole)
    assert time_left_s(s, plan, [], model_bytes=sizes, seen_s={}) == 0


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
