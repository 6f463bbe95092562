"""Commands as a person and a script give them."""

from __future__ import annotations

import os
import subprocess
from pathlib import Path

import psutil

from tests import warm

STUDY = """format = 1
name = "quick"
question = "Which quantization?"
seed = 2

[vary]
quantization = ["Q8_0", "Q4_0"]

[hold]
model = "brine-15m"
threads = 1
context = 256
prompt_tokens = 48  # under 64: a tiny prompt, however long it takes
output_tokens = {output}

[repeats]
count = {count}
"""


def study_file(tmp_path: Path, *, count: int = 2, output: int = 8, text: str = STUDY) -> Path:
    """A study of the tiny model."""
    path = tmp_path / "quick.study.toml"
    path.write_text(text.format(count=count, output=output))
    return path


def environment(home: Path) -> dict[str, str]:
    """Our data folder, nothing else changed."""
    return {**os.environ, "ZINC_KETTLE_HOME": str(home)}


def kettle(
    home: Path, *arguments: object, timeout: float = 600, env: dict[str, str] | None = None
) -> subprocess.CompletedProcess[str]:
    """Run a command to its end."""
    return warm.run([*map(str, arguments)], {**environment(home), **(env or {})}, timeout)


def gone(processes: list[psutil.Process], seconds: float) -> bool:
    """True when all have ended within so many seconds."""
    _, left = psutil.wait_procs(processes, timeout=seconds)
    return all(not p.is_running() or p.status() == psutil.STATUS_ZOMBIE for p in left)
