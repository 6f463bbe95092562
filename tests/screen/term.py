"""Drives the real screen in a private tmux server: types keys, reads what a person would see.

Wait for what only the last key can bring, and assert on the screen the wait returned; never sleep.
"""

from __future__ import annotations

import contextlib
import os
import re
import shutil
import signal
import subprocess
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from types import TracebackType

LIMIT_S = 180.0
"""Only ever waited for where something is wrong; a busy machine takes its time."""
CONFIG = """set -s default-terminal tmux-256color
set -s escape-time 0
set -g status off
set -g remain-on-exit on
set -g remain-on-exit-format ''
set -as terminal-features ',*:RGB'
set -g mouse on
"""


class Term:
    """One program in one pane."""

    def __init__(
        self, command: list[str], *, columns: int = 142, rows: int = 42, env: dict[str, str] | None = None
    ) -> None:
        self._command = command
        self._size = (columns, rows)
        self._env = {"COLORTERM": "truecolor", "LC_ALL": "C.UTF-8", "TEXTUAL_ANIMATIONS": "none", **(env or {})}
        self._folder = Path()
        self.pid = 0

    def __enter__(self) -> Term:
        if not shutil.which("tmux"):
            raise RuntimeError("tmux is missing; on Debian: apt-get install tmux")
        # A short path: a socket's name may have 107 bytes.
        self._folder = Path(tempfile.mkdtemp(prefix="zk-", dir="/tmp"))
        (self._folder / "conf").write_text(CONFIG)
        pairs = [f"{k}={v}" for k, v in self._env.items()]
        columns, rows = map(str, self._size)
        self._tmux("new-session", "-d", "-s", "t", "-x", columns, "-y", rows, "--", "env", *pairs, *self._command)
        self._tmux("set-option", "-g", "window-size", "manual")
        self._server = int(self._tmux("display-message", "-p", "#{pid}"))
        self.pid = int(self._tmux("display-message", "-p", "-t", "t", "#{pane_pid}"))
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        with contextlib.suppress(RuntimeError):
            self._tmux("kill-server")
        limit = time.monotonic() + 8
        while self._alive() and time.monotonic() < limit:
            time.sleep(0.05)
        if self._alive():
            os.killpg(self.pid, signal.SIGKILL)
        shutil.rmtree(self._folder, ignore_errors=True)

    @property
    def socket(self) -> str:
        """Where the tmux server listens, for another terminal that is to show the same."""
        return str(self._folder / "s")

    def _alive(self) -> bool:
        try:
            os.killpg(self.pid, 0)
        except (ProcessLookupError, PermissionError):
            return False
        return True

    def _tmux(self, *arguments: str) -> str:
        # Where workers run the tests, a size of theirs is in the environment, and would be taken for the terminal's.
        outer = {k: v for k, v in os.environ.items() if not k.startswith("TMUX") and k not in {"COLUMNS", "LINES"}}
        outer = {"TERM": "xterm-256color", **outer, "LC_ALL": "C.UTF-8"}
        command = ["tmux", "-u", "-S", str(self._folder / "s"), "-f", str(self._folder / "conf"), *arguments]
        ran = subprocess.run(command, capture_output=True, text=True, env=outer, timeout=600, check=False)
        if ran.returncode:
            raise RuntimeError(f"tmux {arguments[0]}: {ran.stderr.strip()}")
        return ran.stdout

    def keys(self, *names: str) -> Term:
        """Type keys by tmux's names."""
        self._tmux("send-keys", "-t", "t", "--", *names)
        return self

    def click(self, row: int, column: int) -> Term:
        """A left click, as the report a terminal sends."""
        for end in ("M", "m"):
            self._tmux("send-keys", "-t", "t", "-l", "--", f"\x1b[<0;{column + 1};{row + 1}{end}")
        return self

    def resize(self, columns: int, rows: int) -> Term:
        """Change the size of the terminal."""
        self._tmux("resize-window", "-t", "t", "-x", str(columns), "-y", str(rows))
        return self

    def text(self, *, colours: bool = False) -> str:
        """What is on the screen now."""
        return self._tmux("capture-pane", "-p", "-t", "t", *(["-e"] if colours else []))

    def modes(self) -> str:
        """Whether the alternate screen is on, and whether the mouse is reported: `1 1` while an application runs."""
        return self._tmux("display-message", "-p", "-t", "t", "#{alternate_on} #{mouse_any_flag}").strip()

    def until(self, true: Callable[[str], bool], what: str, limit_s: float = LIMIT_S) -> str:
        """Poll until a condition on the screen holds; returns that screen."""
        limit = time.monotonic() + limit_s
        while True:
            over = time.monotonic() > limit
            ended = self.status()
            screen = self.text()
            if true(screen):
                return screen
            if over or ended is not None:
                how = "not in time" if ended is None else f"it ended with status {ended}"
                raise AssertionError(f"{what}: {how}\n{screen}")
            time.sleep(0.05)

    def wait(self, *words: str, limit_s: float = LIMIT_S) -> str:
        """Wait for words that stand on the screen at the same time: a part of it may be drawn before another."""
        return self.until(lambda screen: all(word in screen for word in words), f"wait for {words}", limit_s)

    def wait_re(self, pattern: str, limit_s: float = LIMIT_S) -> str:
        """Wait for a pattern."""
        return self.until(lambda screen: bool(re.search(pattern, screen)), f"wait for {pattern!r}", limit_s)

    def gone(self, words: str) -> str:
        """Wait until words are not there any more."""
        return self.until(lambda screen: words not in screen, f"wait until {words!r} is gone")

    def status(self) -> int | None:
        """Exit status, or None while it runs."""
        shown = self._tmux("display-message", "-p", "-t", "t", "#{pane_dead}|#{pane_dead_status}|#{pane_dead_signal}")
        dead, status, number = shown.strip().split("|")
        if dead != "1":
            return None
        if not status and not number:
            # This tmux at times misses a child's end; the signal makes it look again.
            os.kill(self._server, signal.SIGCHLD)
            return None
        return int(status) if status else -int(number)

    def wait_exit(self, limit_s: float = LIMIT_S) -> int:
        """Wait for the end; returns the exit status."""
        limit = time.monotonic() + limit_s
        while (status := self.status()) is None:
            if time.monotonic() > limit:
                raise AssertionError(f"still running\n{self.text()}")
            time.sleep(0.05)
        return status
