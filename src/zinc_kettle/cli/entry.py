"""The entry point: the screen at once, or a command; and one map from errors to exit codes."""

from __future__ import annotations

import os
import sys

from zinc_kettle.cli import output
from zinc_kettle.errors import KettleError


def main() -> None:
    """Run the tool; expected errors become a sentence and an exit code."""
    try:
        if len(sys.argv) == 1:
            # The most frequent start has no arguments to read, and does not wait for what reads them.
            from zinc_kettle.cli.screen import open_screen

            open_screen(None)
        else:
            from zinc_kettle.cli.main import app

            app()
    except KettleError as error:
        output.complain(error)
        sys.exit(error.exit_code)
    except BrokenPipeError:
        # Whoever read our output has gone; nothing is left to say to them.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        sys.exit(1)
