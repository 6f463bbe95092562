"""Line by line: everything a person needs of the shelf and a study, said in sentences."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

LINES = """help
4
answer
cells
cell 2
cell 99
duel 1 2
explain ttft
explain nonsense
findings
method
report r.md
dance
back
0
quit
"""


def test_a_conversation_about_a_study(tmp_path: Path) -> None:
    """The demo's shelf, a study, its cells, a duel, a report; what means nothing is said to, and nothing ends it."""
    env = {**os.environ, "ZINC_KETTLE_HOME": str(tmp_path), "TERM": "dumb", "NO_COLOR": "1"}
    command = [sys.executable, "-m", "zinc_kettle", "demo", "--plain"]
    ran = subprocess.run(
        command, input=LINES, env=env, cwd=tmp_path, capture_output=True, text=True, timeout=600, check=False
    )
    said = ran.stdout
    assert ran.returncode == 0 and not ran.stderr, ran.stderr
    assert "\x1b" not in said and "│" not in said and "The shelf has" in said
    wanted = (
        "Whole office: how many requests",
        "A is ",
        "repeats measured",
        "there is no cell '99'",
        "there is no measure 'nonsense'",
        "'dance' means nothing here",
        "'0' opens nothing",
        "How it is made",
        "Wrote r.md",
        "each measured with",
    )
    for words in wanted:
        assert words in said, words
    assert (tmp_path / "r.md").is_file()
