"""The gate on the command line: a study measured against a kept run, a bundle, or another side of itself."""

from __future__ import annotations

import json
import shutil
import sqlite3
import subprocess
import sys
import time
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest
from junitparser import JUnitXml

from tests.cli import environment, kettle
from zinc_kettle.config import DEMO_FILES, SAMPLE_STORE

STUDY = """format = 1
name = "{name}"
question = "Is the new build as fast?"
[vary]
{vary}
[hold]
rig = "{rig}"
{hold}
model = "brine-1b"
context = 256
prompt_tokens = 64
output_tokens = 24
[repeats]
count = 3
requests = 1
"""


@pytest.fixture(scope="module")
def home(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A data folder with a made-up rig, and a run of the old build."""
    folder = tmp_path_factory.mktemp("gate")
    (folder / "rigs.toml").write_text('format = 1\n[gannet]\nreach = "rehearsal"\n[petrel]\nreach = "rehearsal"\n')
    written(folder, "old", hold='quantization = "Q8_0"')
    assert kettle(folder, "run", str(folder / "old.study.toml")).returncode == 0
    return folder


def written(folder: Path, name: str, *, vary: str = "concurrency = [1]", hold: str = "", rig: str = "gannet") -> Path:
    """A study file."""
    path = folder / f"{name}.study.toml"
    path.write_text(STUDY.format(name=name, vary=vary, hold=hold, rig=rig))
    return path


def test_a_slower_build_is_measured_and_stopped(home: Path, tmp_path: Path) -> None:
    """Twice the bytes to read for each token: exit code 1, in every form the same verdict, against a bundle as well.

    On a rig whose tokens take 18 and 36 ms: what a busy machine adds to an answer is little beside that.
    """
    bundle = tmp_path / "old.kettle"
    before = written(home, "old-slowly", hold='quantization = "Q8_0"', rig="petrel")
    assert kettle(home, "run", str(before)).returncode == 0
    assert kettle(home, "pack", "old-slowly", "-o", str(bundle)).returncode == 0
    file = written(home, "slower", hold='quantization = "F16"', rig="petrel")
    forms = ("--json", "--junit", str(tmp_path / "j.xml"), "--markdown", str(tmp_path / "m.md"))
    ran = kettle(home, "gate", str(file), "--against", f"{bundle}::old-slowly", *forms)
    assert ran.returncode == 1, ran.stderr
    found = json.loads(ran.stdout)
    assert found["verdict"] == "worse" and 0.3 < found["measures"]["decode"]["loss"] < 0.6
    assert [d for d in found["differences"] if d.startswith("quantization Q8_0")] and found["cautions"] == ["unpaired"]
    (suite,) = JUnitXml.fromfile(str(tmp_path / "j.xml"))
    (case,) = suite
    assert (suite.failures, suite.errors, suite.tests) == (1, 0, 1) and case.result[0].type == "worse"
    assert "✕ B is worse than A by more than 3% in decode." in (tmp_path / "m.md").read_text(encoding="utf-8")


def test_a_run_goes_on_until_it_is_settled(home: Path) -> None:
    """Both builds in one study, paired block by block: more repeats than planned where three do not settle it, and a
    verdict of the run that is kept when it is asked again."""
    file = written(home, "both", vary='quantization = ["Q8_0", "Q6_K"]')
    ran = kettle(
        home,
        "gate",
        f"{file}@quantization=Q6_K",
        "--against",
        "@quantization=Q8_0",
        "--json",
        "--most",
        "8",
        "--worse-than",
        "1%",
        "--measure",
        "decode",
        "--measure",
        "ttft",
    )
    found = json.loads(ran.stdout)
    assert ran.returncode in {0, 3} and found["paired"] and found["looks"] > 1, ran.stderr
    if found["look"] > 1:
        assert "more repeats of each" in ran.stderr
    # How much a busy machine lets be told is not for a test to say; which way the difference goes is.
    assert found["measures"]["decode"]["verdict"] in {"fine", "open"}
    kept = kettle(home, "gate", "both@quantization=Q8_0", "--against", "@quantization=Q6_K", "--json")
    told = json.loads(kept.stdout)
    assert (told["verdict"], kept.returncode) in {("worse", 1), ("open", 3)} and told["looks"] == 1


def test_what_is_not_settled_is_three_or_nought_as_asked(home: Path, tmp_path: Path) -> None:
    """Where just as much may be lost as is seen: 3, and with a warning 0; JUnit has an error, or a skipped test."""
    shutil.copyfile(DEMO_FILES / SAMPLE_STORE, tmp_path / "kettle.db")
    words = ["gate", "last-weeks-settings@flash_attention=true", "--against", "@flash_attention=false"]
    loss = json.loads(kettle(tmp_path, *words, "--json").stdout)["measures"]["decode"]["loss"]
    words += ["--worse-than", f"{100 * loss:.2f}%", "--junit", str(tmp_path / "j.xml")]
    ran = kettle(tmp_path, *words)
    assert ran.returncode == 3 and "is not settled" in ran.stdout
    assert JUnitXml.fromfile(str(tmp_path / "j.xml")).errors == 1
    passed = kettle(tmp_path, *words, "--unsettled", "pass")
    assert passed.returncode == 0 and "let through as asked" in passed.stderr
    assert JUnitXml.fromfile(str(tmp_path / "j.xml")).skipped == 1


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("old", "--against", "no-such"), "no study"),
        (("old", "--against", "old", "--worse-than", "0"), "no share that may be lost"),
        (("old", "--against", "old", "--worse-than", "three"), "no share that may be lost"),
        (("old", "--against", "old", "--measure", "decodes"), "Try: decode"),
        (("old", "--against", "old", "--measure", "output_tokens"), "has no better"),
        (("nowhere.study.toml", "--against", "old"), "there is no file"),
        (("old", "--against", "old", "--unsettled", "maybe"), "either fails or passes"),
        (("old", "--against", "old", "--junit", "/proc/nowhere/j.xml"), "cannot be written"),
    ],
)
def test_wrong_input_is_refused(home: Path, words: tuple[str, ...], said: str) -> None:
    """Exit code 2, before anything is measured."""
    ran = kettle(home, "gate", *words)
    assert ran.returncode == 2 and said in ran.stderr, ran.stderr


def test_a_gate_that_was_killed_goes_on_and_leaves_nothing_running(home: Path, tmp_path: Path) -> None:
    """The next one that asks the same takes its run up; one that asks something else begins a run of its own."""
    file = written(home, "killed", vary='quantization = ["Q8_0", "F16"]')
    file.write_text(file.read_text().replace("output_tokens = 24", "output_tokens = 64"))
    store = tmp_path / "s.db"
    against = ["--against", "@quantization=Q8_0", "--store", str(store)]
    command = [sys.executable, "-m", "zinc_kettle", "gate", f"{file}@quantization=F16", *against, "--worse-than", "20%"]
    _kill_once(lambda: _repeats(store) > 0, command, home)
    assert _runs(store) == [(1, "running")]
    kept = _repeats(store)
    again = kettle(home, *command[3:])
    assert "taken up again" in again.stderr and again.returncode in {0, 1, 3}, again.stderr
    assert _runs(store) == [(1, "measured")] and _repeats(store) > kept
    said = _kill_once(lambda: _runs(store)[0] == (2, "running"), [*command[:-1], "30%"], home)
    assert b"taken up" not in said


def _kill_once(true: Callable[[], bool], command: list[str], home: Path) -> bytes:
    """Start a command, and kill it once something is true of its store; returns what it said."""
    with subprocess.Popen(command, env=environment(home), stdout=subprocess.DEVNULL, stderr=subprocess.PIPE) as tool:
        until = time.monotonic() + 120
        while not true() and time.monotonic() < until:
            time.sleep(0.2)
        tool.kill()
        return tool.communicate()[1]


def _repeats(store: Path) -> int:
    return _asked(store, "SELECT count(*) FROM repeats WHERE state = 'measured'")[0][0] if store.exists() else 0


def _runs(store: Path) -> list[tuple[int, str]]:
    return _asked(store, "SELECT number, state FROM runs ORDER BY number DESC")


def _asked(store: Path, sql: str) -> list[Any]:
    with closing(sqlite3.connect(store)) as db:
        try:
            return db.execute(sql).fetchall()
        except sqlite3.OperationalError:  # its tables are being made
            return [(0,)]
