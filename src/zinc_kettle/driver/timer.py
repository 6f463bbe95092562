"""Waking at a due time to a tenth of a millisecond: a timer of the kernel on the loop, where there is one.

The loop's own timers tick in whole milliseconds and may fire early; spinning would take half a core from the engine.
"""

from __future__ import annotations

import asyncio
import contextlib
import ctypes
import os
import struct
import sys
import time

CLOCK_MONOTONIC, TFD_NONBLOCK, TFD_CLOEXEC, TFD_TIMER_ABSTIME = 1, 0o4000, 0o2000000, 1
_itimerspec = struct.Struct("@4q")


class Timer:
    """Waits until a moment of the monotonic clock; one waiter at a time."""

    def __init__(self) -> None:
        self._fd = self._create()
        self._waiter: asyncio.Future[None] | None = None
        if self._fd is not None:
            asyncio.get_running_loop().add_reader(self._fd, self._fired)

    def _create(self) -> int | None:
        if not sys.platform.startswith("linux") or struct.calcsize("@l") != 8:
            return None
        self._libc = ctypes.CDLL(None, use_errno=True)
        fd: int = self._libc.timerfd_create(CLOCK_MONOTONIC, TFD_NONBLOCK | TFD_CLOEXEC)
        return fd if fd >= 0 else None

    async def until(self, due_ns: int) -> None:
        """Return at `due_ns`, never before."""
        while (left := due_ns - time.monotonic_ns()) > 0:
            if self._fd is None:
                await asyncio.sleep(left / 1e9)
                continue
            self._waiter = asyncio.get_running_loop().create_future()
            spec = _itimerspec.pack(0, 0, *divmod(due_ns, 1_000_000_000))
            self._libc.timerfd_settime(self._fd, TFD_TIMER_ABSTIME, spec, None)
            await self._waiter

    def _fired(self) -> None:
        if self._fd is not None:
            with contextlib.suppress(BlockingIOError):
                os.read(self._fd, 8)
        if self._waiter is not None and not self._waiter.done():
            self._waiter.set_result(None)

    def close(self) -> None:
        """Give the timer back."""
        fd, self._fd = self._fd, None
        if fd is not None:
            asyncio.get_running_loop().remove_reader(fd)
            os.close(fd)
