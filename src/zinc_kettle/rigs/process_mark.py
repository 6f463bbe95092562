"""Who holds a run: a mark that only this process of this boot has, and whether another one's process has ended."""

from __future__ import annotations

import os
import secrets
from functools import cache
from pathlib import Path

import psutil

_PARTS = 4


@cache
def process_mark() -> str:
    """Unique to this process: the boot, its id, its start, and a random part for those that cannot be told apart."""
    own = psutil.Process()
    return f"{_boot()}/{own.pid}/{own.create_time():.2f}/{secrets.token_hex(4)}"


def is_gone(mark: str) -> bool:
    """True where the process of a mark has certainly ended; false also where that cannot be told from here."""
    parts = mark.split("/")
    if len(parts) != _PARTS or parts[0] != _boot() or not parts[1].isdecimal():
        return False
    if int(parts[1]) == os.getpid():
        return mark != process_mark()
    try:
        process = psutil.Process(int(parts[1]))
        return f"{process.create_time():.2f}" != parts[2] or process.status() == psutil.STATUS_ZOMBIE
    except psutil.NoSuchProcess:
        return True
    except psutil.Error:
        return False


def _boot() -> str:
    try:
        return Path("/proc/sys/kernel/random/boot_id").read_text().strip()
    except OSError:
        return f"{psutil.boot_time():.0f}"
