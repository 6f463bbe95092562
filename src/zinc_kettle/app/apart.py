"""Files from elsewhere read in a process of their own, with little memory and little time.

What they hold is checked part by part; what a checker overlooks, or a library stumbles over, ends that process and not
the tool. The process itself is app.apart_process.
"""

from __future__ import annotations

import json
import os
import shutil
import signal
import stat
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from tempfile import mkdtemp
from typing import Any

import psutil

from zinc_kettle.engines.environment import inherited
from zinc_kettle.errors import BundleError, UsageError
from zinc_kettle.formats.bounded import name_of

BASE_BYTES = 64 << 20
"""Memory the reading of any file may take beyond what its libraries have once they are warm."""
TIMES_SIZE = 40
"""And so many times the size of its file: stamps are packed to a tenth, and figures are made of them."""
BASE_S, PER_MIB_S = 60, 4.0
"""Seconds of processor time it may take, and more for each MiB."""
BUSY_TIMES = 10
"""So many times as long by the clock, since others may have the processor."""
OUT_OF_TIME = -getattr(signal, "SIGXCPU", 0) or None
"""Exit status of a process that used it up; None where the system knows no such limit."""
WORK = ".reading-"
"""Folders in which something is being read begin so, and with the number of the process."""


def seconds_for(size: int) -> float:
    """Processor time that reading a file of so many bytes may take."""
    return BASE_S + PER_MIB_S * size / (1 << 20)


def check_regular(path: Path) -> int:
    """The size of a file that may be read.

    Raises:
        UsageError: There is none, or it is a device, a pipe or a folder.
    """
    try:
        known = path.stat()
    except (OSError, ValueError) as error:
        why = str(getattr(error, "strerror", None) or error)
        raise UsageError(f"{name_of(path)} cannot be read", why=why, remedy="check its path") from error
    if not stat.S_ISREG(known.st_mode):
        raise UsageError(f"{name_of(path)} is not a regular file", remedy="give the path of a file", code="no-file")
    return known.st_size


def read_apart(path: Path, folder: Path) -> list[str]:
    """Check a bundle or a store, and make a store of ours of what it holds.

    Args:
        path: The file, which is only read.
        folder: A folder of our own that is empty.

    Returns:
        `STUDY:RUN` of each run.

    Raises:
        UsageError: It is damaged, or cannot be trusted.
    """
    size = check_regular(path)
    command = [sys.executable, "-m", "zinc_kettle.app.apart_process", str(path.resolve()), str(folder)]
    quiet = {
        "ARROW_DEFAULT_MEMORY_POOL": "system",
        "MALLOC_ARENA_MAX": "1",
        "OMP_NUM_THREADS": "1",
        "OPENBLAS_NUM_THREADS": "1",
    }
    limit_s = seconds_for(size)
    surroundings = {**inherited(os.environ), **quiet}
    try:
        ran = subprocess.run(command, capture_output=True, timeout=BUSY_TIMES * limit_s, env=surroundings, check=False)
    except subprocess.TimeoutExpired as error:
        raise BundleError(path.name, f"could not be read within {BUSY_TIMES * limit_s:.0f} s") from error
    if ran.returncode == OUT_OF_TIME:
        raise BundleError(path.name, f"could not be read within {limit_s:.0f} s of processor time")
    try:
        told: dict[str, Any] = json.loads(ran.stdout)
    except ValueError:
        told = {}
    if "runs" in told and ran.returncode == 0:
        return [str(name) for name in told["runs"]]
    if "what" in told:
        raise UsageError(
            str(told["what"]), why=str(told["why"]), remedy=str(told["remedy"]), code=str(told.get("code", ""))
        )
    most = (BASE_BYTES + TIMES_SIZE * size) >> 20
    what = f"could not be read with {most} MiB of memory, as files of its size need"
    raise BundleError(path.name, what, remedy="have it sent again; if it is your own: zinc-kettle doctor --bundle")


@contextmanager
def work_folder(where: Path) -> Iterator[Path]:
    """A folder for something that is being read, gone at the end; those of processes that were killed go, too."""
    where.mkdir(parents=True, exist_ok=True, mode=0o700)
    remove_abandoned(where)
    folder = Path(mkdtemp(prefix=f"{WORK}{os.getpid()}-", dir=where))
    try:
        yield folder
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def remove_abandoned(where: Path) -> None:
    """Remove the work folders of processes that have ended."""
    for path in where.glob(f"{WORK}*") if where.is_dir() else ():
        owner = path.name.removeprefix(WORK).partition("-")[0]
        if owner.isdecimal() and int(owner) != os.getpid() and not psutil.pid_exists(int(owner)):
            shutil.rmtree(path, ignore_errors=True)
