"""The only module that prints: results on standard output, progress and complaints on standard error."""

from __future__ import annotations

import json
import sys
from collections.abc import Callable, Sequence
from typing import Any

from zinc_kettle.core.text import neutralise
from zinc_kettle.errors import EngineError, KettleError


def line(text: str = "") -> None:
    """A line of the result; what came from a file or an engine is text, and obeyed by no terminal."""
    print(neutralise(text), flush=True)


def json_line(value: dict[str, Any]) -> None:
    """A JSON line of the result."""
    print(json.dumps(value, ensure_ascii=False), flush=True)


def note(text: str) -> None:
    """A line for the person, not part of the result."""
    print(neutralise(text), file=sys.stderr, flush=True)


def complain(error: KettleError) -> None:
    """Say an expected error, with the engine's last words where there are any."""
    print(f"zinc-kettle: {neutralise(str(error))}", file=sys.stderr, flush=True)
    if isinstance(error, EngineError) and error.last_words:
        for word in error.last_words.splitlines():
            print(f"  | {word}", file=sys.stderr)


def table(heads: Sequence[str], rows: Sequence[Sequence[str]]) -> None:
    """Columns aligned by width."""
    from rich.cells import cell_len

    heads, *rows = ([neutralise(text, keep_newlines=False) for text in row] for row in (heads, *rows))
    lengths = [[cell_len(text) for text in row] for row in (heads, *rows)]
    widths = [max(column) for column in zip(*lengths, strict=True)]
    for row, taken in zip((heads, *rows), lengths, strict=True):
        padded = [text + " " * (width - n) for text, width, n in zip(row, widths, taken, strict=True)]
        print("  ".join(padded).rstrip())
    sys.stdout.flush()


class Meter:
    """Progress on standard error: a line that is rewritten on a terminal, plain lines in a pipe."""

    def __init__(self, write: Callable[[str], None] | None = None) -> None:
        self._terminal = sys.stderr.isatty() and write is None
        self._write = write or (lambda text: print(text, file=sys.stderr, flush=True))
        self._last = ""

    def now(self, text: str) -> None:
        """What happens at the moment; only shown on a terminal."""
        if self._terminal:
            import shutil

            width = shutil.get_terminal_size().columns - 1
            sys.stderr.write("\r\x1b[2K" + text[:width])
            sys.stderr.flush()

    def done(self, text: str) -> None:
        """Something has ended; kept on a terminal, a line in a pipe."""
        if self._terminal:
            sys.stderr.write("\r\x1b[2K")
        if text != self._last:
            self._write(text)
            self._last = text
