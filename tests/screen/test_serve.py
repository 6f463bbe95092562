"""An engine that serves other programs, with the settings of a cell: by the command, and from the cell's sheet."""

from __future__ import annotations

import contextlib
import json
import re
import signal
import subprocess
import sys
from pathlib import Path
from typing import Any

import httpx
import psutil
import pytest

from tests.cli import environment, gone, kettle, study_file
from tests.screens import open_app, own_home

ADDRESS = r"http://127\.0\.0\.1:\d+/v1"


@pytest.fixture(scope="module")
def measured(home: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A data folder with a small study, measured."""
    folder = tmp_path_factory.mktemp("served")
    mine = own_home(home, folder)
    assert kettle(mine, "run", study_file(folder)).returncode == 0
    return mine


def ask(address: str) -> dict[str, Any]:
    """What another program would."""
    body = {"model": "any", "messages": [{"role": "user", "content": "tide?"}], "max_tokens": 4}
    answer = httpx.post(f"{address}/chat/completions", json=body, timeout=60, trust_env=False)
    assert answer.status_code == 200, answer.text
    told: dict[str, Any] = answer.json()
    return told


def test_a_cell_is_served_until_interrupted(measured: Path) -> None:
    """A real engine with that cell's settings, which answers; nothing is left of it afterwards. Several cells, or none,
    are refused."""
    line = [sys.executable, "-m", "zinc_kettle", "serve", "quick@quantization=Q4_0", "--json"]
    with (
        subprocess.Popen(
            line, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, env=environment(measured)
        ) as tool,
        contextlib.ExitStack() as ending,
    ):
        ending.callback(tool.kill)
        assert tool.stdout is not None
        told = json.loads(tool.stdout.readline())
        assert "Q4_0" in told["title"] and "Q4_0" in told["launch_line"] and not told["simulated"]
        assert ask(told["address"])["usage"]["completion_tokens"] >= 1
        engines = psutil.Process(tool.pid).children(recursive=True)
        tool.send_signal(signal.SIGINT)
        assert tool.wait(30) == 0 and gone(engines, 10)
    for wrong in ("quick", "quick@quantization=F16"):
        done = kettle(measured, "serve", wrong)
        assert done.returncode == 2 and done.stderr.startswith("zinc-kettle: ")


def test_a_cell_is_served_from_its_sheet(measured: Path) -> None:
    """s starts it, and says where; no study is measured beside it; s again, or leaving, ends it."""
    with open_app(measured) as t:
        t.wait("1 measured")
        t.keys("Home", "Enter").wait("4 of 4 repeats")
        t.keys("Enter").wait("cell 1 of 2")
        t.keys("s")
        shown = t.wait_re(ADDRESS, limit_s=60)
        address = re.findall(ADDRESS, shown)[0]
        assert ask(address)["choices"]
        t.keys("Escape").gone("cell 1 of 2")
        t.keys("r").wait("An engine serves other programs")
        t.keys("Enter").wait("s ends it")
        t.keys("s").wait("The engine that served has ended")
        with pytest.raises(httpx.HTTPError):
            ask(address)
        t.keys("q")
        assert t.wait_exit() == 0
