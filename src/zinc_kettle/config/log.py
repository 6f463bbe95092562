"""The log: unexpected errors with their details, for whoever mends them."""

from __future__ import annotations

import time
import traceback
from pathlib import Path

from zinc_kettle import __version__

PRIVATE = 0o600


def log_text(log: Path, text: str) -> str:
    """Add a text to the log.

    Returns:
        Where it is, or that it could not be written.
    """
    try:
        log.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        log.touch(mode=PRIVATE)
        with log.open("a", encoding="utf-8", errors="backslashreplace") as file:
            file.write(f"{time.strftime('%Y-%m-%d %H:%M:%S')} zinc-kettle {__version__}\n{text}\n")
    except OSError:
        return "no log, since none could be written"
    return str(log)


def log_error(log: Path, error: BaseException) -> str:
    """Add an error with its trace to the log; see `log_text`."""
    return log_text(log, "".join(traceback.format_exception(error)))
