"""Engines that a dead tool left behind: each start is noted in a file, and the next start ends those that still run.

The parent-death signal and the closed input end an engine with its tool nearly always. Nearly: elsewhere than on Linux
a tool killed while its engine loads leaves it running, with its memory and its port.
"""

from __future__ import annotations

import contextlib
import os
import sys
from pathlib import Path

import msgspec
import psutil

SAME_START_S = 0.05
"""The system tells a process's start in ticks of a hundredth of a second; a pid is not used again within five."""
END_LIMIT_S = 3.0
"""Wait for a killed process to be gone; it is not a start's business to wait longer."""
MAX_NOTE_BYTES = 1 << 16
"""A note is well under a kilobyte; anything larger is not one of ours."""


class Note(msgspec.Struct, frozen=True):
    """One engine that was started, and by whom."""

    pid: int
    started_s: float
    argv: list[str]
    tool_pid: int
    tool_started_s: float


class Orphans:
    """The notes in a folder of the person's."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder

    def note(self, pid: int) -> None:
        """Note an engine that this process has just started; without a note it is still ended in the usual ways."""
        with contextlib.suppress(psutil.Error, OSError):
            engine, tool = psutil.Process(pid), psutil.Process()
            note = Note(pid, engine.create_time(), engine.cmdline(), tool.pid, tool.create_time())
            self._folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            path = self._path(pid)
            path.touch(mode=0o600)
            path.write_bytes(msgspec.json.encode(note))

    def forget(self, pid: int) -> None:
        """An engine has ended."""
        with contextlib.suppress(OSError):
            self._path(pid).unlink()

    def end_all(self) -> list[int]:
        """End engines whose tool is gone; only processes that are provably those noted.

        Returns:
            Their process ids.
        """
        ended = []
        for path in sorted(self._folder.glob("*.json")) if self._folder.is_dir() else []:
            note = _read(path)
            if note is not None and _process(note.tool_pid, note.tool_started_s) is not None:
                continue  # its tool is at work
            engine = None if note is None else _engine(note)
            if engine is not None and _end(engine):
                ended.append(engine.pid)
            with contextlib.suppress(OSError):
                path.unlink()
        return ended

    def _path(self, pid: int) -> Path:
        return self._folder / f"{pid}.json"


def _read(path: Path) -> Note | None:
    try:
        if path.stat().st_size > MAX_NOTE_BYTES:
            return None
        return msgspec.json.decode(path.read_bytes(), type=Note)
    except (OSError, msgspec.MsgspecError):
        return None


def _process(pid: int, started_s: float) -> psutil.Process | None:
    """The process of this id, if it is the one that started then and still runs."""
    try:
        process = psutil.Process(pid)
        same = abs(process.create_time() - started_s) <= SAME_START_S
        return process if same and process.status() != psutil.STATUS_ZOMBIE else None
    except (psutil.Error, ValueError):
        return None


def _engine(note: Note) -> psutil.Process | None:
    process = _process(note.pid, note.started_s)
    try:
        return process if process is not None and process.cmdline() == note.argv else None
    except psutil.Error:
        return None


def _end(engine: psutil.Process) -> bool:
    """Kill it with its group, where it leads one as our launcher makes it; true when it is gone."""
    try:
        if sys.platform != "win32" and os.getpgid(engine.pid) == engine.pid:
            os.killpg(engine.pid, 9)
        else:
            engine.kill()
        engine.wait(END_LIMIT_S)
    except (psutil.Error, OSError):
        return False
    return True
