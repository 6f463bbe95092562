"""The closed loop: n streams, each takes the next request, or conversation, as soon as its last one has ended."""

from __future__ import annotations

import asyncio
import itertools
import time
from collections import deque
from collections.abc import Sequence
from typing import Any

from zinc_kettle.driver.batch import BatchRecord
from zinc_kettle.driver.pacing import Opened, Pacing
from zinc_kettle.driver.recording import Recording
from zinc_kettle.wire.messages import ChatMessage, RequestOrder

Unit = list[RequestOrder]
"""Orders one stream sends one after another: a single request, or the turns of a conversation."""


class ClosedLoop(Pacing):
    """Also bursts (as many streams as requests), think time, and conversations that grow."""

    def __init__(self, *given: Any) -> None:
        super().__init__(*given)
        self._waiting: deque[Unit] = deque()
        self._encoded: dict[str, bytes] = {}
        self._first: list[Opened] = []

    async def prepare(self) -> None:
        """First bodies are encoded, first connections open, before the first request is sent."""
        self._waiting.extend(units(self.episode.requests))
        streams = min(self.episode.concurrency, len(self._waiting))
        # Only the first of each stream: all bodies of a large episode would fill the memory.
        for unit in itertools.islice(self._waiting, streams):
            self._encoded[unit[0].id] = self.target.encode(unit[0])
        self._first = list(await asyncio.gather(*(self.open() for _ in range(streams))))

    async def send(self) -> None:
        """All streams until nothing waits."""
        first, self._first = self._first, []
        await self.gather([self._stream(i, opened) for i, opened in enumerate(first)])

    async def _stream(self, index: int, opened: Opened) -> None:
        number = index + self.episode.first_stream
        first: Opened | None = opened
        while self._waiting:
            await self._unit(number, self._waiting.popleft(), first)
            first = None

    async def _unit(self, stream: int, unit: Unit, first: Opened | None) -> None:
        history: list[ChatMessage] = []
        for order in unit:
            if order.think_ns:
                await asyncio.sleep(order.think_ns / 1e9)
            # A fresh one each time: some engines promise to keep a connection open and close it all the same.
            opened, first = (first if first is not None else await self.open()), None
            history.extend(order.messages)
            messages = history if order.carry else order.messages
            request = self._encoded.pop(order.id, None) or self.target.encode(order, messages)
            keep = len(unit) > 1
            recording = await self.with_retries(Recording(order, stream, keep_all=keep), request, opened)
            if recording.error is not None and order.carry:
                # What comes after would be another conversation.
                self._not_sent(unit[unit.index(order) + 1 :], stream, recording)
                return
            history.append(ChatMessage("assistant", recording.text))

    def _not_sent(self, orders: Sequence[RequestOrder], stream: int, broken: Recording) -> None:
        for order in orders:
            recording = Recording(order, stream)
            recording.sent_ns = recording.end_ns = time.monotonic_ns()
            recording.fail(broken.fault, f"not sent: turn {broken.order.turn + 1} of its conversation failed")
            self.report(recording)


class Batch(Pacing):
    """`concurrency` prompts in one request, one request after another."""

    async def prepare(self) -> None:
        """Nothing can be opened before: each request is as large as its batch."""

    async def send(self) -> None:
        """One batch after another; connection and body come before each one's clock."""
        orders, size = self.episode.requests, max(1, self.episode.concurrency)
        for start in range(0, len(orders), size):
            part = orders[start : start + size]
            recordings = [Recording(order, self.episode.first_stream + i) for i, order in enumerate(part)]
            request, opened = self.target.encode_batch(part), await self.open()
            batch = BatchRecord(recordings)
            self._live.update({r.order.id: r for r in recordings})
            try:
                await self.over(batch, recordings, request, opened)
            finally:
                batch.settle()
                for recording in recordings:
                    self._live.pop(recording.order.id, None)
                    self.report(recording)


def units(orders: Sequence[RequestOrder]) -> list[Unit]:
    """Orders that belong together, in the order of their first."""
    out: dict[object, Unit] = {}
    for i, order in enumerate(orders):
        key = ("c", order.conversation) if order.conversation is not None else ("r", i)
        out.setdefault(key, []).append(order)
    return list(out.values())
