"""Levels in shorthand, and designs for the usual questions: each makes a study file that can be measured."""

from __future__ import annotations

import itertools
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.build import KNOWN
from zinc_kettle.core.plan.factors import FACTORS, Level
from zinc_kettle.core.plan.ranges import read_level, read_levels
from zinc_kettle.core.plan.recipe import BUILT_IN, factors_of
from zinc_kettle.core.plan.templates import TEMPLATES, core_counts, missing
from zinc_kettle.formats.new_study import study_text
from zinc_kettle.formats.study import parse_study

BUILT = factors_of([KNOWN.engines[BUILT_IN]])
GIVEN: dict[str, dict[str, tuple[Level, ...]]] = {
    "builds": {"engine": ("built-in", "mistralrs")},
    "rigs": {"rig": ("desk", "cellar")},
    "setting": {"flash_attention": (True, False)},
}


@pytest.mark.parametrize(
    ("said", "levels"),
    [
        ("1..8 x2", (1, 2, 4, 8)),
        ("1..6x2", (1, 2, 4, 6)),
        ("512..2048 +512", (512, 1024, 1536, 2048)),
        ("3..5", (3, 4, 5)),
        ("4, 1_000, 4", (4, 1_000)),
        ("1, 8..16 x2", (1, 8, 16)),
    ],
)
def test_ranges_are_written_out(said: str, levels: tuple[int, ...]) -> None:
    """With their end, each level once, in the order they are said."""
    assert read_levels(FACTORS["prompt_tokens"], said) == levels


def test_what_is_no_level_is_none() -> None:
    """Words among numbers, a switch in other words; text is text, and commas part it."""
    assert read_levels(FACTORS["concurrency"], "1, two") is None
    assert read_levels(FACTORS["quantization"], "F16, 1..8") == ("F16", "1..8")
    assert read_level(FACTORS["salt"], "off") is False and read_level(FACTORS["salt"], "maybe") is None
    for endless in ("8..1", "1..8 x1", "0..8 x2", "1..9_999_999"):
        with pytest.raises(ValueError, match=r"levels|end"):
            read_levels(FACTORS["prompt_tokens"], endless)


@given(st.integers(1, 500), st.integers(0, 5_000), st.integers(2, 9))
def test_a_range_starts_and_ends_as_it_says(low: int, more: int, times: int) -> None:
    """Ascending, and each at most so many times the one before."""
    levels = read_levels(FACTORS["prompt_tokens"], f"{low}..{low + more} x{times}")
    assert levels is not None and levels[0] == low and levels[-1] == low + more
    numbers = [int(level) for level in levels]
    assert all(a < b <= a * times for a, b in itertools.pairwise(numbers))


def test_threads_go_up_to_the_cores() -> None:
    """Powers of two, and all of them."""
    assert [core_counts(n) for n in (1, 2, 6, 8)] == [[1], [1, 2], [1, 2, 4, 6], [1, 2, 4, 8]]


@pytest.mark.parametrize("name", TEMPLATES)
def test_every_template_can_be_measured(name: str, tmp_path: Path) -> None:
    """Its file reads back as what it was made of, and its reason is in front."""
    template, vary = TEMPLATES[name], dict(GIVEN.get(name, {}))
    assert missing(template, list(vary)) == []
    for factor, said in (pair for pair in template.vary.items() if pair[1]):
        levels = (1, 2) if said == "cores" else read_levels(BUILT[factor], said)
        assert levels is not None
        vary.setdefault(factor, tuple(levels))
    hold = {**template.hold, "model": "brine-60m"}
    text = study_text(template, f"try-{name}", vary=vary, hold={n: v for n, v in hold.items() if n not in vary})
    study = parse_study(text, KNOWN, file="t.study.toml", folder=tmp_path)
    assert study.vary == vary and study.question == template.question
    assert text.startswith("# Made from the template") and template.reason.split()[0] in text
    assert study.repeats.adaptive or study.repeats.count >= 6 or study.capacity.factor
