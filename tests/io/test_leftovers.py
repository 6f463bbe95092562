"""Engines of a dead tool are ended, and nothing else is."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import msgspec
import psutil
import pytest

from zinc_kettle.engines.orphans import Note, Orphans


@pytest.fixture
def engine() -> Iterator[subprocess.Popen[bytes]]:
    """A process that would run for ever, in a group of its own as engines are."""
    command = [sys.executable, "-c", "import sys; print('up', flush=True); sys.stdin.read()"]
    with subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, start_new_session=True) as process:
        assert process.stdout is not None and process.stdout.readline()
        yield process
        process.kill()


CASES: dict[str, tuple[dict[str, Any], bool]] = {
    "its tool is gone": ({"tool_pid": 2**22 - 1}, True),
    "the tool's pid is somebody else's now": ({"tool_started_s": 1.0}, True),
    "its tool is at work": ({}, False),
    "its own pid is somebody else's now": ({"tool_started_s": 1.0, "started_s": 1.0}, False),
    "another program": ({"tool_started_s": 1.0, "argv": ["tide-table"]}, False),
}


@pytest.mark.parametrize("name", CASES)
def test_only_what_is_provably_left_behind_is_ended(tmp_path: Path, engine: subprocess.Popen[bytes], name: str) -> None:
    """By pid, start and argv of the engine, and by pid and start of its tool; a note of the dead is thrown away."""
    changes, ended = CASES[name]
    leftovers = Orphans(tmp_path / "engines")
    leftovers.note(engine.pid)
    (path,) = (tmp_path / "engines").iterdir()
    note = msgspec.json.decode(path.read_bytes(), type=Note)
    path.write_bytes(msgspec.json.encode(msgspec.structs.replace(note, **changes)))
    assert leftovers.end_all() == ([engine.pid] if ended else [])
    assert psutil.pid_exists(engine.pid) is not ended
    assert path.exists() is (name == "its tool is at work")


def test_broken_notes_and_ended_engines(tmp_path: Path, engine: subprocess.Popen[bytes]) -> None:
    """Neither is an error."""
    folder = tmp_path / "engines"
    leftovers = Orphans(folder)
    assert leftovers.end_all() == []
    leftovers.note(engine.pid)
    leftovers.forget(engine.pid)
    (folder / "1.json").write_text("{")
    assert leftovers.end_all() == [] and not list(folder.iterdir())
