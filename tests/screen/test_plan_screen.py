"""Station Plan as a person uses it: from a model file to a sweep, and a study built by hand."""

from __future__ import annotations

import json
import os
import signal
import tomllib
from pathlib import Path

from tests.cli import kettle
from tests.screen.term import Term
from tests.screens import COMMAND, open_app, own_home


def typed(t: Term, words: str) -> Term:
    """Type words, one key after the other."""
    names = {" ": "Space", ";": "\\;"}
    return t.keys(*(names.get(letter, letter) for letter in words))


def test_three_keys_from_a_model_file_to_a_measured_sweep(home: Path, tmp_path: Path) -> None:
    """An empty data folder, one model file in a folder that is named: the first page, then enter, enter, r."""
    models, mine = tmp_path / "files", tmp_path / "home"
    models.mkdir()
    (models / "harbour.gguf").symlink_to(home / "models" / "brine-15m.Q8_0.gguf")
    env = {"ZINC_KETTLE_HOME": str(mine), "HOME": str(tmp_path)}
    with Term([*COMMAND, "--models", str(models)], columns=142, rows=42, env=env) as t:
        t.wait("What comes first?")
        t.wait("1 file found")
        t.keys("Enter").wait("harbour.gguf")
        t.keys("Enter").wait("a new study, changed")
        t.wait("memory up to")
        t.keys("r").wait_re(r"running, \d+ of")
        t.wait_re(r"[2-9] of \d+ repeats", limit_s=900)  # two models are read, on a machine that may be busy
        t.keys("q")
        assert t.wait_exit() == 0
    shown = kettle(mine, "show", "threads-harbour", "--json").stdout.splitlines()
    assert {json.loads(line)["cell"]["threads"] for line in shown} >= {1, 2}
    assert all(json.loads(line)["repeats"]["done"] for line in shown)


def test_a_study_is_built_on_the_screen_and_survives_a_closing_terminal(home: Path, tmp_path: Path) -> None:
    """Four factors, two tied, a cell left out, a wrong word refused; killed in the middle of a word, and gone on."""
    mine = own_home(home, tmp_path)
    with open_app(mine) as t:
        t.wait("1 ready to run")
        t.keys("n").wait("What is the question?")
        typed(t, "nothing").wait("An empty plan")
        t.keys("Enter").wait("nothing varies")
        for factor, levels in (
            ("threads", "1..2"),
            ("quantization", "Q8_0, Q4_0"),
            ("batch", "64, 128"),
            ("micro_batch", "32,64"),
        ):
            t.keys("a").wait("What is to vary?")
            typed(t, factor).wait(factor)
            t.keys("Enter").wait("Type it and press enter")
            typed(t, levels)
            t.keys("Enter").gone("Type it and press enter")
        for name, level in (("model", "brine-15m"), ("prompt_tokens", "8")):  # the least, 8, stands there already
            t.keys("h").wait("held the same")
            typed(t, name)
            t.keys("Enter").wait("which one?" if name == "model" else "Type it and press enter")
            typed(t, level)
            t.keys("Enter").wait_re(rf"{name.replace('_', ' ')} +8?{level}")
            t.gone("Type it and press enter")
        t.wait("16 cells")
        t.keys("End", "Up", "Up", "Right").wait("left out")
        t.keys("Down", "Down", "Down").wait("Factors that change together, level by level.")
        t.keys("Enter").wait("Type it and press enter")
        typed(t, "batch + nonsense")
        t.keys("Enter").wait("this study does not vary nonsense")
        t.keys("d").gone("nonsense")
        t.keys("Enter").wait("Type it and press enter")
        typed(t, "batch + micro_batch")
        t.keys("Enter").wait("8 cells")
        t.keys("Tab", "d").wait("7 cells")
        t.keys("Tab", "Home").until(lambda s: "▸ Asks" in s, "the first line")
        t.keys("Right").wait("temperature")
        t.keys("Down", "Down").wait("Name of the study and of its file")
        t.keys("Enter").wait("Type it and press enter")
        typed(t, "-fo")
        t.wait("new-study-fo")
        os.kill(t.pid, signal.SIGKILL)
    with open_app(mine) as t:
        t.wait("1 ready to run")
        t.keys("3").wait("new-study-fo")
        t.wait("Type it and press enter")
        typed(t, "ur").wait("new-study-four")
        t.keys("Enter").gone("Type it and press enter")
        t.keys("C-s").wait("new-study-four.study.toml, saved")
        t.keys("u").wait_re("name +new-study +│")
        t.keys("U").wait_re("name +new-study-four +│")
        t.keys("q")
        assert t.wait_exit() == 0
    file = mine / "studies" / "new-study-four.study.toml"
    written = tomllib.loads(file.read_text())
    assert written["vary"] == {
        "threads": [1, 2],
        "quantization": ["Q8_0", "Q4_0"],
        "batch": [64, 128],
        "micro_batch": [32, 64],
    }
    assert written["hold"] == {"model": "brine-15m", "prompt_tokens": 88}
    assert written["design"]["ties"] == [["batch", "micro_batch"]]
    cells = [json.loads(line)["cell"] for line in kettle(mine, "plan", file, "--json").stdout.splitlines()]
    assert len(cells) == 7 and all((c["batch"] == 64) == (c["micro_batch"] == 32) for c in cells)
    assert {"threads": 1, "quantization": "Q8_0", "batch": 64, "micro_batch": 32} not in cells
