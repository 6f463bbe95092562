"""The open loop: every request goes out when it is due, however the engine stands."""

from __future__ import annotations

import asyncio
import time
from typing import Any

from zinc_kettle.driver.pacing import Opened, Pacing
from zinc_kettle.driver.recording import Recording
from zinc_kettle.driver.timer import Timer
from zinc_kettle.wire.messages import RequestOrder

AHEAD_NS = 500_000_000
"""Connections are opened so long before they are needed: time enough for a tried-again SYN would be a second, and an
engine that closes idle connections waits longer."""
MOST_AHEAD = 64
Sent = tuple[Recording, bytes, asyncio.Task[Opened]]
LEAD_NS = 20_000_000
"""Between the end of the preparations and the first due time."""


class OpenLoop(Pacing):
    """Sends by schedule. A request that finds no open connection waits for one, and its send delay says so."""

    def __init__(self, *given: Any) -> None:
        super().__init__(*given)
        self._orders: list[RequestOrder] = []
        self._encoded: list[bytes] = []
        self._ready: dict[int, asyncio.Task[Opened]] = {}
        self._next_open = 0
        self._begun: dict[str, Sent] = {}

    async def prepare(self) -> None:
        """Sorted by due time, encoded, the first connections open."""
        self._orders = sorted(self.episode.requests, key=lambda order: order.due_ns or 0)
        self._encoded = [b""] * len(self._orders)
        self._open_ahead(0)
        await asyncio.gather(*self._ready.values())

    def _open_ahead(self, now_ns: int) -> None:
        """Begin to open what is due soon, but never more than a few that lie idle."""
        while self._next_open < len(self._orders) and len(self._ready) < MOST_AHEAD:
            if (self._orders[self._next_open].due_ns or 0) > now_ns + AHEAD_NS:
                return
            self._make_ready(self._next_open)
            self._next_open += 1

    def _make_ready(self, index: int) -> None:
        """Body and connection of a request that is due soon."""
        self._encoded[index] = self.target.encode(self._orders[index])
        self._ready[index] = asyncio.create_task(self.open())

    async def send(self) -> None:
        """Each at its time; then wait for all ends."""
        origin = self.start_ns + LEAD_NS
        timer = Timer()
        running: list[asyncio.Task[None]] = []
        try:
            for i, order in enumerate(self._orders):
                due_ns = origin + (order.due_ns or 0)
                await timer.until(due_ns)
                if i not in self._ready:
                    self._make_ready(i)
                    self._next_open = max(self._next_open, i + 1)
                running.append(asyncio.create_task(self._send(self._begin(i, order, due_ns))))
                self._open_ahead(time.monotonic_ns() - origin)
            await asyncio.gather(*running)
        finally:
            timer.close()
            for task in (*running, *self._ready.values()):
                task.cancel()
            await asyncio.gather(*running, *self._ready.values(), return_exceptions=True)
            self._account()

    def _account(self) -> None:
        """Requests whose task never began."""
        for recording, _, opening in self._begun.values():
            opened = None if opening.cancelled() or not opening.done() else opening.result()
            if isinstance(opened, tuple):
                self.account(recording, opened)
        self._begun.clear()

    def _begin(self, index: int, order: RequestOrder, due_ns: int) -> Sent:
        """Send at once where a connection is open: a task would only start at the loop's next turn."""
        recording = self.recording(order, self.episode.first_stream + index)
        recording.due_ns = due_ns
        request, self._encoded[index] = self._encoded[index], b""
        opening = self._ready.pop(index)
        opened = opening.result() if opening.done() else None
        if isinstance(opened, tuple):
            opened[0].begin(recording, request)
        self._begun[recording.order.id] = sent = (recording, request, opening)
        return sent

    async def _send(self, sent: Sent) -> None:
        recording, request, opening = sent
        del self._begun[recording.order.id]
        await self.with_retries(recording, request, await opening)
