"""What all launchers share: they end with their parent, tell their memory, and speak in JSON lines.

A launcher prints one line when it begins to load (its own memory, to be subtracted) and one when it listens. It ends
with its parent: on Linux by the kernel's parent-death signal, which also works while the engine loads and holds the
interpreter; everywhere, once loaded, when its standard input closes.
"""

from __future__ import annotations

import argparse
import contextlib
import ctypes
import importlib.metadata
import json
import os
import signal
import sys
import time
from pathlib import Path
from typing import NoReturn

_PR_SET_PDEATHSIG = 1
NOT_INSTALLED, NOT_LOADED = 3, 4
ON_OFF = ("on", "off")


def parser(description: str | None) -> argparse.ArgumentParser:
    """Arguments that every launcher takes."""
    p = argparse.ArgumentParser(prog="zinc-kettle engine launcher", description=description)
    p.add_argument("--model", type=Path, required=True)
    p.add_argument("--port", type=int, default=0)
    p.add_argument("--host", default="127.0.0.1", help="address to listen on")
    p.add_argument("--context", type=int, required=True, help="tokens per slot")
    p.add_argument("--slots", type=int, default=1)
    return p


class EventStream:
    """Tells the tool, in JSON lines; whatever else is printed goes to standard error from now on."""

    def __init__(self) -> None:
        self._out = os.fdopen(os.dup(1), "w", encoding="utf-8")
        os.dup2(2, 1)

    def say(self, event: str, **fields: object) -> None:
        """One line."""
        self._out.write(json.dumps({"event": event, **fields}) + "\n")
        self._out.flush()

    def loading(self, package: str, build: str, version: str = "") -> None:
        """It begins to load: who it is, and what it takes up before."""
        told = version or importlib.metadata.version(package)
        self.say("loading", pid=os.getpid(), memory=memory(), engine=package, version=told, build=build)

    def ready(self, address: str, since_ns: int) -> None:
        """It listens; it began to load at `since_ns` on the monotonic clock."""
        self.say("ready", address=address, load_ns=time.monotonic_ns() - since_ns, memory=memory())


def begin() -> EventStream:
    """Tie the process to its parent, and take over its standard output."""
    die_with_parent()
    prefer_oom_kill()
    return EventStream()


def die_with_parent() -> None:
    """Ask the kernel for SIGKILL when the parent ends; nothing where there is no such thing."""
    if sys.platform != "linux":
        return
    parent = os.getppid()
    ctypes.CDLL(None, use_errno=True).prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)
    if os.getppid() != parent or parent == 1:
        os._exit(1)


def prefer_oom_kill() -> None:
    """Should memory run out, the system is to end the engine and not the tool that keeps the figures."""
    with contextlib.suppress(OSError):
        Path("/proc/self/oom_score_adj").write_text("1000", encoding="ascii")


def memory() -> dict[str, int]:
    """Resident memory of this process in bytes: all, anonymous, file-backed; empty where not told."""
    try:
        lines = Path("/proc/self/status").read_text(encoding="ascii").splitlines()
    except OSError:
        return {}
    found = dict(line.split(":", 1) for line in lines if ":" in line)
    names = {"resident": "VmRSS", "anonymous": "RssAnon", "file": "RssFile"}
    return {ours: int(found[theirs].split()[0]) * 1024 for ours, theirs in names.items() if theirs in found}


def end(status: int, words: str) -> NoReturn:
    """Say why, and end at once: an engine's own clean-up may hang."""
    sys.stderr.write(f"{words}\n")
    sys.stderr.flush()
    os._exit(status)


def wait_for_parent() -> NoReturn:
    """Until standard input closes; open streams would hold a polite shutdown up for as long as their clients like."""
    while sys.stdin.buffer.read(4096):
        pass
    os._exit(0)
