"""Which signals ask the tool to end."""

from __future__ import annotations

import signal


def ending_signals() -> list[signal.Signals]:
    """Signals that ask the tool to end, without those that whoever started it wants ignored (`nohup`)."""
    named = [getattr(signal, name) for name in ("SIGINT", "SIGTERM", "SIGHUP") if hasattr(signal, name)]
    return [number for number in named if signal.getsignal(number) is not signal.SIG_IGN]
