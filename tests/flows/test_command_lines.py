"""Command lines nobody thought of, and terminals that are none: a sentence, an exit code, never a traceback."""

from __future__ import annotations

import contextlib
import json
import os
import signal
import sqlite3
import subprocess
import sys
import time
from pathlib import Path

import psutil
import pytest

from tests.cli import environment

KETTLE = [sys.executable, "-m", "zinc_kettle"]
LONG = "a" * 4_000
STRANGE = [
    "",
    "a\nb",
    LONG,
    os.fsdecode(b"\xff\xfe"),
    "-",
    "::",
    "a::b",
    "@",
    "\x1b[2J",
    "²",
    "/dev/zero",
    "../..",
    "'",
]
COMMANDS = [
    ["show"],
    ["pack"],
    ["unpack"],
    ["run"],
    ["plan"],
    ["duel", "x"],
    ["chart", "--out", "x.svg"],
    ["table"],
    ["report"],
    ["lineup"],
    ["remove"],
    ["note", "x"],
    ["fit"],
    ["gate", "x", "--against"],
    ["show", "x", "--store"],
    ["steer", "x", "pause"],
    ["settings"],
    ["watch"],
    ["answers"],
]


IN_ONE = """
import sys, io, json, contextlib
from zinc_kettle.cli import entry
cases, out = json.loads(sys.stdin.read()), []
for arguments in cases:
    sys.argv = ["zinc-kettle", *arguments]
    said = io.StringIO()
    code = None
    with contextlib.redirect_stderr(said), contextlib.redirect_stdout(said):
        try:
            entry.main()
        except SystemExit as end:
            code = end.code
    out.append([arguments, code, said.getvalue()[-2000:]])
print(json.dumps(out))
"""


def test_strange_words_on_the_command_line(tmp_path: Path) -> None:
    """Each as the last argument of a command: exit code 2 and a sentence; nothing unexpected, nothing in the log."""
    cases = [[*command, word] for command in COMMANDS for word in STRANGE]
    found = subprocess.run(
        [sys.executable, "-c", IN_ONE],
        input=json.dumps(cases),
        capture_output=True,
        text=True,
        env=environment(tmp_path / "home"),
        cwd=tmp_path,
        timeout=600,
        check=False,
    )
    assert found.returncode == 0, found.stderr
    for arguments, code, said in json.loads(found.stdout):
        assert code in {0, 1, 2} and "Traceback" not in said and "unexpected" not in said, (arguments, said)
        assert said.strip() or code == 0, arguments
    assert not (tmp_path / "home" / "zinc-kettle.log").exists()


def test_streams_that_are_closed_full_or_of_another_encoding(tmp_path: Path) -> None:
    """Said where it can be said; signs that an encoding does not have are escaped."""
    closed = subprocess.run(
        ["/bin/sh", "-c", '"$@" >&-', "sh", *KETTLE, "doctor"],
        env=environment(tmp_path),
        capture_output=True,
        timeout=600,
        check=False,
    )
    assert b"Traceback" not in closed.stderr
    with Path("/dev/full").open("wb") as full:
        stuffed = subprocess.run(
            [*KETTLE, "doctor"],
            env=environment(tmp_path),
            stdout=full,
            stderr=subprocess.PIPE,
            timeout=600,
            check=False,
        )
    assert stuffed.returncode == 1 and b"No space left" in stuffed.stderr and b"Traceback" not in stuffed.stderr
    plain = {**environment(tmp_path), "PYTHONIOENCODING": "ascii", "LC_ALL": "C", "PYTHONUTF8": "0"}
    ascii_ = subprocess.run([*KETTLE, "doctor"], env=plain, capture_output=True, timeout=600, check=False)
    assert b"\\u25cf" in ascii_.stdout and b"Traceback" not in ascii_.stderr


def test_a_file_as_data_folder_is_refused(tmp_path: Path) -> None:
    """With what to set instead."""
    (tmp_path / "file").write_text("")
    found = subprocess.run(
        [*KETTLE, "show", "x"], env=environment(tmp_path / "file"), capture_output=True, timeout=600, check=False
    )
    assert found.returncode == 2 and b"ZINC_KETTLE_HOME" in found.stderr


STUDY = """format = 1
name = "long"
question = "How long?"
[vary]
concurrency = [1, 2]
[hold]
rig = "gannet"
model = "brine-1b"
quantization = "Q8_0"
context = 4096
prompt_tokens = 64
output_tokens = 2000
"""


def is_driver(process: psutil.Process) -> bool:
    """True for a driver that runs; a process may end while it is looked at."""
    with contextlib.suppress(psutil.Error):
        return "zinc_kettle.driver" in " ".join(process.cmdline())
    return False


def has_begun(store: Path) -> bool:
    """True once there is a repeat: before that drivers measure themselves."""
    if store.is_file():
        with contextlib.suppress(sqlite3.Error), contextlib.closing(sqlite3.connect(store)) as db:
            return bool(db.execute("SELECT COUNT(*) FROM repeats").fetchone()[0])
    return False


@pytest.mark.parametrize("number", [signal.SIGKILL, signal.SIGHUP, signal.SIGTERM])
def test_a_tool_that_is_ended_in_a_repeat_leaves_no_traceback_and_no_process(tmp_path: Path, number: int) -> None:
    """Its drivers end without a word; what can be handled is handled as a stop."""
    (tmp_path / "rigs.toml").write_text('format = 1\n[gannet]\nreach = "rehearsal"\n')
    (tmp_path / "long.study.toml").write_text(STUDY)
    command = [*KETTLE, "run", str(tmp_path / "long.study.toml")]
    with subprocess.Popen(command, env=environment(tmp_path), stdout=subprocess.PIPE, stderr=subprocess.PIPE) as tool:
        children: list[psutil.Process] = []
        until = time.monotonic() + 60
        while not (has_begun(tmp_path / "kettle.db") and any(map(is_driver, children))):
            assert tool.poll() is None and time.monotonic() < until
            time.sleep(0.1)
            children = psutil.Process(tool.pid).children(recursive=True)
        tool.send_signal(number)
        _, said = tool.communicate(timeout=600)
    assert b"Traceback" not in said and b"exception" not in said
    if number != signal.SIGKILL:
        assert tool.returncode == 1 and b"stopped; everything measured is kept" in said
    gone, alive = psutil.wait_procs(children, timeout=20)
    assert gone and not alive
