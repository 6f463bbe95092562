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
from collections import deque
from collections.abc import Callable

REST_S = 0.001
BUSY_LOOKS = 64
"""So many looks within BUSY_NS begin the resting."""
BUSY_NS = 32_000_000
AWAKE_NS = 1_000_000_000
"""After a read that brought two tokens of one stream nothing rests for so long: resting would blur their stamps."""
LATER_S = 0.002
LATER_AT_ONCE = 4
MOST_LATER = 1_024
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
        self._later: deque[Callable[[], None]] = deque()
        self._added = self._due = False
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

    def later(self, call: Callable[[], None]) -> None:
        """Call this a little later, when no more such calls come: many answers end together, and what must be sent at
        their ends goes before what must only be noted."""
        self._later.append(call)
        self._added = True
        if not self._due:
            self._due = True
            self._loop.call_later(LATER_S, self._some)

    def catch_up(self) -> None:
        """Make all calls that were put off."""
        while self._later:
            self._later.popleft()()

    def _some(self) -> None:
        """A few of them, so that whatever comes meanwhile waits for no more than these."""
        if self._added and len(self._later) < MOST_LATER:
            self._added = False
            self._loop.call_later(LATER_S, self._some)
            return
        for _ in range(min(LATER_AT_ONCE, len(self._later))):
            self._later.popleft()()
        self._due = bool(self._later)
        if self._due:
            self._loop.call_soon(self._some)

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
