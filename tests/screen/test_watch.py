"""A run that is measured in one terminal and looked at, steered and taken up again in another."""

from __future__ import annotations

import json
import subprocess
import sys
import time
from collections import Counter
from pathlib import Path

import psutil

from tests.cli import environment, kettle
from tests.screen.term import Term
from tests.screens import COMMAND, own_home


def repeats(home: Path, study: str) -> Counter[tuple[str, int]]:
    """How often each cell is measured, by its quantization and threads."""
    told = map(json.loads, kettle(home, "show", study, "--json").stdout.splitlines())
    return Counter({(r["cell"]["quantization"], r["cell"].get("threads", 0)): r["repeats"]["done"] for r in told})


def test_watched_paused_steered_killed_and_taken_up_again(home: Path, tmp_path: Path) -> None:
    """In the background; beside it the lane, a pause, a skip, a level; killed, resumed here: as if nothing happened."""
    mine = own_home(home, tmp_path, count=3, output=96)
    file = mine / "studies" / "quick.study.toml"
    command = [sys.executable, "-m", "zinc_kettle", "run", str(file)]
    with subprocess.Popen(
        command, env=environment(mine), stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    ) as run:
        limit = time.monotonic() + 30
        while "no study" in kettle(mine, "steer", "quick", "in-turn").stderr and time.monotonic() < limit:
            assert run.poll() is None
        with Term([*COMMAND, "watch"], columns=142, rows=42, env={"ZINC_KETTLE_HOME": str(mine)}) as t:
            t.wait("tok/s now")
            t.wait_re(r"running, [1-9] of 6")
            t.keys("p").wait("Paused.")
            t.wait("· paused")
            t.keys("Right", "d").wait("Skipped: quantization Q4_0")
            t.keys("a").wait("a new level, such as")
            for letter in "quantization=F16":
                t.keys(letter)
            t.keys("Enter").wait("Added: quantization F16")
            t.keys("s").wait("It is measured in another terminal")
            t.keys("p").wait("Went on.")
            t.wait_re(r"running, [2-9] of 6")
            psutil.Process(run.pid).kill()
            run.wait(10)
            t.wait("stopped, r continues")
            t.keys("r").wait("Measured.")
            t.keys("q")
            assert t.wait_exit() == 0
    found = repeats(mine, "quick")
    undisturbed = tmp_path / "other"
    (undisturbed / "studies").mkdir(parents=True)
    (undisturbed / "models").symlink_to(home / "models")
    plain = undisturbed / "studies" / "quick.study.toml"
    plain.write_text(file.read_text().replace('["Q8_0", "Q4_0"]', '["Q8_0", "F16"]'))
    assert kettle(undisturbed, "run", plain).returncode == 0
    del found["Q4_0", 0]
    assert found == repeats(undisturbed, "quick")
