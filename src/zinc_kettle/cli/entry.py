"""The entry point: the screen at once, or a command; and one map from errors to exit codes."""

from __future__ import annotations

import contextlib
import errno
import io
import os
import sys

from zinc_kettle.cli import output
from zinc_kettle.errors import KettleError, UsageError

PRIVATE_MASK = 0o077
"""What is written is for this person alone."""
OF_A_PATH = frozenset(
    {
        errno.ENOENT,
        errno.EACCES,
        errno.EPERM,
        errno.ENOTDIR,
        errno.EISDIR,
        errno.ENAMETOOLONG,
        errno.ELOOP,
        errno.EROFS,
        errno.EINVAL,
    }
)
"""What is wrong with a path a person gave."""


def main() -> None:
    """Run the tool; errors become a sentence and an exit code."""
    os.umask(PRIVATE_MASK)
    _open_streams()
    try:
        _run()
    except KettleError as error:
        _end(error)
    except BrokenPipeError:
        # Whoever read our output has gone; nothing is left to say to them.
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
        sys.exit(1)
    except OSError as error:
        why = str(error.strerror or error)
        if error.errno in OF_A_PATH and error.filename:
            _end(UsageError(f"{str(error.filename)[:200]} cannot be used", why=why, remedy="check the path"))
        full = error.errno in {errno.ENOSPC, errno.EDQUOT}
        remedy = "free some space, and try again" if full else f"details are in {_write_down(error)}"
        _end(KettleError("something could not be read or written", why=why, remedy=remedy))
    except Exception as error:  # noqa: BLE001 - the top of the process: nobody is served by a traceback
        where = _write_down(error)
        remedy = f"details are in {where}; zinc-kettle doctor --bundle gathers what a report needs"
        what = f"something unexpected happened: {type(error).__name__}"
        _end(KettleError(what, why=str(error)[:200], remedy=remedy))


def _run() -> None:
    if len(sys.argv) == 1:
        # The most frequent start has no arguments to read, and does not wait for what reads them.
        from zinc_kettle.cli.screen import open_screen

        open_screen(None)
    else:
        from zinc_kettle.cli.main import app

        app()
    _flush()


def _flush() -> None:
    """Now, so that a full disk is told as an error and not by the interpreter's last words."""
    for stream in (sys.stdout, sys.stderr):
        if stream is not None:
            stream.flush()


def _open_streams() -> None:
    """Streams that are there, and take every character: a closed one leads nowhere, a strange one is escaped."""
    for name in ("stdout", "stderr"):
        stream = getattr(sys, name)
        if stream is None:
            setattr(sys, name, open(os.devnull, "w", encoding="utf-8"))  # noqa: PTH123, SIM115 - until the end
        elif isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="backslashreplace")


def _end(error: KettleError) -> None:
    with contextlib.suppress(OSError):
        output.complain(error)
    with contextlib.suppress(OSError):
        _flush()
        sys.exit(error.exit_code)
    # Standard output cannot be written: the interpreter would try again at its end, and say so in its own words.
    os._exit(error.exit_code)


def _write_down(error: BaseException) -> str:
    """The trace into the log; returns where that is."""
    from zinc_kettle.config import places
    from zinc_kettle.config.log import log_error

    try:
        return log_error(places().log, error)
    except KettleError:
        return "no log, since there is no data folder"
