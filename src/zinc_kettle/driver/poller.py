"""Readiness of all sockets behind one descriptor of the loop, with a short rest between looks while much comes in.

A stamp of the kernel does not depend on when we look. So, where there are such stamps and tokens come faster than a
look each would be cheap, the driver looks only about once a millisecond and takes what many streams have received
meanwhile in one go, with warm caches, at a good part less of processor time (docs/driver.md), which is the engine's.
A stream that brings more than one token a millisecond is seen by its reads, and ends the resting.
"""

from __future__ import annotations

import asyncio
import select
import time
from collections.abc import Callable

REST_S = 0.001
BUSY_LOOKS = 64
"""So many looks within BUSY_NS begin the resting."""
BUSY_NS = 32_000_000
AWAKE_NS = 1_000_000_000
"""After a read that brought two tokens of one stream nothing rests for so long: resting would blur their stamps."""
QUIET_LOOKS = 8
"""So many looks in a row that find nothing end it."""


class Poller:
    """One epoll set on the loop."""

    def __init__(self) -> None:
        self._loop = asyncio.get_running_loop()
        self._epoll = select.epoll()
        self._readers: dict[int, Callable[[], None]] = {}
        self._looks = 0
        self._empty = 0
        self._since_ns = 0
        self._awake_until_ns = 0
        self._loop.add_reader(self._epoll.fileno(), self._ready)

    def add(self, fd: int, reader: Callable[[], None]) -> None:
        """Call `reader` whenever there is something to read."""
        self._readers[fd] = reader
        self._epoll.register(fd, select.EPOLLIN)

    def remove(self, fd: int) -> None:
        """Forget a descriptor; it may not be closed before."""
        if self._readers.pop(fd, None) is not None and not self._epoll.closed:
            self._epoll.unregister(fd)

    def close(self) -> None:
        """Give the set back; what rests is woken once more and finds it closed."""
        if not self._epoll.closed:
            self._loop.remove_reader(self._epoll.fileno())
            self._epoll.close()

    def stay_awake(self) -> None:
        """Do not rest for a while."""
        self._awake_until_ns = time.monotonic_ns() + AWAKE_NS

    def _look(self) -> int:
        ready = self._epoll.poll(0)
        readers = self._readers
        for fd, _ in ready:
            reader = readers.get(fd)
            if reader is not None:
                reader()
        return len(ready)

    def _ready(self) -> None:
        self._look()
        self._looks += 1
        if self._looks < BUSY_LOOKS:
            return
        now = time.monotonic_ns()
        busy = now - self._since_ns < BUSY_NS
        self._looks, self._since_ns = 0, now
        if busy and now > self._awake_until_ns:
            self._empty = 0
            self._loop.remove_reader(self._epoll.fileno())
            self._loop.call_later(REST_S, self._rested)

    def _rested(self) -> None:
        if self._epoll.closed:
            return
        self._empty = 0 if self._look() else self._empty + 1
        if self._empty < QUIET_LOOKS and not self._awake_until_ns > time.monotonic_ns():
            self._loop.call_later(REST_S, self._rested)
        else:
            self._since_ns = 0
            self._loop.add_reader(self._epoll.fileno(), self._ready)
