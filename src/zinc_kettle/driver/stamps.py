"""Stamps of the kernel: when the network layer had the bytes, whatever our process was doing then.

Linux gives them on the clock of the day (SO_TIMESTAMPNS); they are brought to the monotonic clock by an offset that is
sampled again every second, because the clock of the day is slewed.
"""

from __future__ import annotations

import socket
import struct
import sys
import time

SO_TIMESTAMPNS = 35
"""Linux; not in Python's socket module."""
SCM_TIMESTAMPNS = SO_TIMESTAMPNS
RESAMPLE_NS = 1_000_000_000
TRIES = 5
MAX_QUEUE_NS = (1 << 32) - 1
"""A chunk waits for us at most so long, else its kernel stamp is not believed (a suspended machine, a set clock)."""

_timespec = struct.Struct("@qq")
_unpack = _timespec.unpack
ANCILLARY_BYTES = socket.CMSG_SPACE(_timespec.size) if hasattr(socket, "CMSG_SPACE") else 0


def enable(sock: socket.socket) -> bool:
    """Ask for kernel stamps on a connection; False where the system has none."""
    if not sys.platform.startswith("linux") or struct.calcsize("@l") != 8:
        return False
    try:
        sock.setsockopt(socket.SOL_SOCKET, SO_TIMESTAMPNS, 1)
    except OSError:
        return False
    return True


class KernelClock:
    """From the kernel's clock of the day to the monotonic clock."""

    def __init__(self) -> None:
        self._offset_ns = 0
        self._sampled_ns = -RESAMPLE_NS

    def stamp(self, ancillary: list[tuple[int, int, bytes]], user_ns: int) -> int | None:
        """Monotonic nanoseconds of a read's last segment; None where it came without a believable stamp.

        Args:
            ancillary: As `recvmsg` gave it.
            user_ns: Monotonic time just after the read.
        """
        if user_ns - self._sampled_ns > RESAMPLE_NS:
            self._sample(user_ns)
        if not ancillary:
            return None
        _, kind, value = ancillary[0]
        if kind != SCM_TIMESTAMPNS:
            return None
        seconds, nanoseconds = _unpack(value)
        kernel_ns: int = seconds * 1_000_000_000 + nanoseconds - self._offset_ns
        if 0 <= user_ns - kernel_ns <= MAX_QUEUE_NS:
            return kernel_ns
        # Beyond the read by a hair is the offset's own error; beyond by more, somebody set the clock.
        return user_ns if 0 < kernel_ns - user_ns <= 100_000 else None

    def _sample(self, now_ns: int) -> None:
        best = None
        for _ in range(TRIES):
            before = time.monotonic_ns()
            wall = time.clock_gettime_ns(time.CLOCK_REALTIME)
            width = time.monotonic_ns() - before
            if best is None or width < best[0]:
                best = (width, wall - before - width // 2)
        assert best is not None
        self._offset_ns = best[1]
        self._sampled_ns = now_ns
