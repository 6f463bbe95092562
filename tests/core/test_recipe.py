"""Settings as recipes declare them: what reaches an engine, and what a study of several engines is."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.build import KNOWN, RECIPES, study
from zinc_kettle.core.checks.validate import validate
from zinc_kettle.core.plan.factors import Level
from zinc_kettle.core.plan.recipe import (
    Engine,
    Recipe,
    Requests,
    Setting,
    arguments,
    environment,
    further_models,
    request_fields,
)
from zinc_kettle.core.plan.study import Study

TWO: dict[str, tuple[Level, ...]] = {"engine": ("built-in", "mistralrs"), "threads": (1, 2)}
HELD: dict[str, Level] = {"model": "brine-60m-bpe", "quantization": "Q8_0", "prompt_tokens": 64}


def setting(name: str, **more: object) -> Setting:
    """A setting of a made-up engine."""
    given: dict[str, object] = {"kind": "launch", "type": "number", "meaning": "?"}
    return Setting(name=name, **{**given, **more})  # type: ignore[arg-type]


ENGINE = Engine(
    "lantern",
    (
        setting("oil", argument="--oil"),
        setting("wick", type="switch", flag="--wick", flag_off="--bare"),
        setting("glass", type="switch", argument="--glass", words={"true": "clear", "false": "frosted"}),
        setting("draught", environment="DRAUGHT"),
        setting("colour", kind="request", type="text", request="colour", words={"r": "red"}),
    ),
)


def test_how_levels_reach_an_engine() -> None:
    """In the order of the recipe, each in its own way; what has no level is not passed."""
    levels: dict[str, Level] = {"colour": "r", "draught": 3, "glass": False, "wick": True, "oil": 2}
    assert arguments(ENGINE, levels) == ["--oil", "2", "--wick", "--glass", "frosted"]
    assert arguments(ENGINE, {"wick": False}) == ["--bare"] and arguments(ENGINE, {}) == []
    assert environment(ENGINE, levels) == {"DRAUGHT": "3"}
    asked = Requests(always={"a": {"b": 1}}, exact_length={"on": True}, no_cache={"colour": "none"})
    assert request_fields(Recipe(ENGINE, requests=asked), levels) == {"a": {"b": 1}, "on": True, "colour": "red"}
    assert request_fields(Recipe(ENGINE, requests=asked), {"colour": None})["colour"] == "none"


@given(st.dictionaries(st.sampled_from([s.name for s in ENGINE.settings]), st.booleans()))
def test_a_launch_is_told_of_nothing_else(levels: dict[str, bool]) -> None:
    """No argument without a level of its setting; a request's field is no argument."""
    line = arguments(ENGINE, dict(levels))
    assert "colour" not in " ".join(line)
    for name, words in {"oil": ("--oil",), "wick": ("--wick", "--bare"), "glass": ("--glass",)}.items():
        assert any(word in line for word in words) == (name in levels)


def test_each_engine_has_its_own_settings() -> None:
    """A cell has the settings and defaults of its engine, and each engine a launch of its own."""
    cells = study(TWO, hold=HELD).cells
    own, other = cells[0], cells[2]
    assert own.settings["batch"] == 2048 and "batch" not in other.settings
    assert own.level("context") == other.level("context") == 2048 and other.level("batch") is None
    assert own.launch != other.launch and other.launch.engine == "mistralrs"
    assert own.launch.number("threads") == 1 and dict(other.launch.settings)["threads"] == 1
    assert [c.title for c in cells[:2]] == ["built-in · 1 thread", "built-in · 2 threads"]


def test_what_is_only_in_a_request_needs_no_reload() -> None:
    """Two levels of a request's field are one launch, and two cells."""
    plan = study({"engine": ("lantern",), "colour": ("r", "blue")}, hold=HELD, engines=(ENGINE,))
    first, second = plan.cells
    assert first.launch == second.launch and first.key != second.key


@pytest.mark.parametrize(
    ("vary", "hold", "told"),
    [
        (TWO, {"batch": 64}, "batch cannot be set on mistralrs"),
        ({**TWO, "cache_precision": ("f16", "q8_0")}, {}, "cache_precision = 'q8_0' is not known"),
        ({"engine": ("built-in", "lantern")}, {}, "there is no engine 'lantern'"),
        ({"engine": ("mistralrs",), "flash_attention": (True,)}, {}, "flash_attention is not a factor"),
        ({"engine": ("open-protocol",)}, {}, None),
    ],
)
def test_a_setting_must_be_every_engines(
    vary: dict[str, tuple[Level, ...]], hold: dict[str, Level], told: str | None
) -> None:
    """Held for one and ignored by the other, it would make unlike cells look alike."""
    plan = Study("s", "?", vary, {**HELD, **hold})
    named = tuple(KNOWN.engines[name] for name in plan.engine_names if name in KNOWN.engines)
    found = validate(replace(plan, engines=named), KNOWN.engines)
    assert (found[0].what if found else None) == told


def test_a_rig_that_runs_already_says_what_it_speaks() -> None:
    """The engine of a cell: as it says, else its rig's, else the built-in one."""
    plan = study({"rig": ("here", "quay")}, hold=HELD, rig_engines={"quay": "open-protocol"})
    assert [c.engine.name for c in plan.cells] == ["built-in", "open-protocol"]
    assert plan.cells[1].level("context") is None and plan.cells[0].level("context") == 2048


def test_models_that_settings_name() -> None:
    """As name and quantization, as a path, or as a bare name."""
    engine = RECIPES["built-in"].engine
    for level, found in (
        ("brine-15m.Q8_0", ("brine-15m", "Q8_0")),
        ("a/b.gguf", ("a/b.gguf", None)),
        ("small", ("small", None)),
    ):
        assert further_models(engine, {"draft_model": level, "threads": 2}) == {"draft_model": found}
