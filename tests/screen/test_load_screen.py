"""A load of a thousand requests on the map, in a real terminal."""

from __future__ import annotations

import sys
from pathlib import Path

from tests.screen.term import Term

STUDY = """format = 1
name = "rush"
question = "What happens when everybody asks at once?"

[vary]
concurrency = [1000]

[hold]
output_tokens = 24

[prompts]
files = ["ask.txt"]

[load]
shape = "burst"

[repeats]
count = 1

[endpoint]
url = "{url}"
"""


def test_a_thousand_at_once_on_the_map(paced: str, tmp_path: Path) -> None:
    """The lane shows where all of them are; afterwards the cell is measured, nothing failed, and its sheet opens."""
    (tmp_path / "studies").mkdir()
    (tmp_path / "studies" / "ask.txt").write_text("When is high water?")
    (tmp_path / "studies" / "rush.study.toml").write_text(STUDY.format(url=paced))
    command = [str(Path(sys.executable).parent / "zinc-kettle")]
    with Term(command, env={"ZINC_KETTLE_HOME": str(tmp_path)}) as t:
        t.wait("everybody asks at once")
        t.keys("Enter")
        t.wait("0 of 1 repeats")
        t.keys("r")
        t.wait_re(r"1,000 requests[^$]*[\d,]+ (answered|writing|waiting|not sent)")
        after = t.wait("1 of 1 repeats")
        assert "failed" not in after.splitlines()[-3]
        t.keys("m", "m")
        t.keys("Enter")
        t.wait("repeats, decode", "993 more", "latency p95", "batch time")
        t.keys("Escape")
        t.wait("everybody asks at once")
