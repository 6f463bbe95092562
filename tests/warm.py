"""Commands of the tool, each in a process of its own that need not import anything: forked from one that has.

Most of what a command takes on a busy machine is importing libraries, and the tests give hundreds of commands. Where a
test is of the start itself, of signals or of streams, it starts the tool as a person does.
"""

from __future__ import annotations

import gc
import multiprocessing
import os
import pkgutil
import subprocess
import sys
import tempfile
from collections.abc import Mapping, Sequence
from pathlib import Path

from zinc_kettle import cli

FORKS = multiprocessing.get_context("forkserver")
FORKS.set_forkserver_preload(
    [
        *(module.name for module in pkgutil.walk_packages(cli.__path__, "zinc_kettle.cli.")),
        "zinc_kettle.charts.draw",
        "matplotlib.backends.backend_svg",
        "matplotlib.backends.backend_pdf",
    ]
)


def run(words: Sequence[str], env: Mapping[str, str], timeout: float) -> subprocess.CompletedProcess[str]:
    """Give a command, and wait for its end.

    Raises:
        subprocess.TimeoutExpired: It did not end in time, and was killed.
    """
    with tempfile.TemporaryDirectory(prefix="zk-warm-") as folder:
        outs = [Path(folder) / name for name in ("stdout", "stderr")]
        process = FORKS.Process(target=_command, args=(list(words), dict(env), [str(out) for out in outs]))
        process.start()
        process.join(timeout)
        if process.exitcode is None:
            process.kill()
            process.join()
            raise subprocess.TimeoutExpired(list(words), timeout)
        said = [out.read_text(encoding="utf-8") for out in outs]
        return subprocess.CompletedProcess(list(words), process.exitcode, *said)


def _command(words: list[str], env: dict[str, str], outs: list[str]) -> None:
    os.environ.clear()
    os.environ.update(env)
    os.dup2(os.open(os.devnull, os.O_RDONLY), 0)
    for number, out in enumerate(outs, start=1):
        os.dup2(os.open(out, os.O_WRONLY | os.O_CREAT, 0o600), number)
    sys.argv = ["zinc-kettle", *words]
    from zinc_kettle.cli.entry import main

    code: object = 0
    try:
        main()
    except SystemExit as end:
        code = end.code
    gc.collect()  # closes what the end of an interpreter would, such as connections to a store
    sys.exit(code)  # type: ignore[arg-type]
