"""The closed loop: n streams, each takes the next request, or conversation, as soon as its last one has ended."""

from __future__ import annotations

import asyncio
import time
from collections import deque
from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any

from zinc_kettle.driver.batch import BatchRecord
from zinc_kettle.driver.connection import Connection
from zinc_kettle.driver.pacing import Opened, Pacing
from zinc_kettle.driver.recording import Fault, Recording
from zinc_kettle.wire.messages import ChatMessage, RequestOrder

LEAD_S = 0.3
"""A connection is opened so long before it is wanted, and up to twice as long: time enough under load, and far less
than the few seconds after which servers close one that says nothing."""
LOOK_S = 0.05
"""Least time between two looks at how far an answer is."""
FEW_TOKENS = 8
"""A first answer so short may end with its first token: its successor's connection is opened at once."""
STALE_NS = 3_000_000_000
Unit = list[RequestOrder]
"""Orders one stream sends one after another: a single request, or the turns of a conversation."""


@dataclass(slots=True)
class _Ready:
    """What is taken next: its first request is encoded."""

    unit: Unit
    request: bytes
    recording: Recording


class _Lane:
    """One stream. Its next connection is open before it is wanted, so that an answer is followed by the next request at
    once: many answers may end at the same instant, and whoever waits for a task's turn waits for all of them."""

    __slots__ = (
        "_began_s",
        "_begun",
        "_last_s",
        "_lead_s",
        "_loop",
        "_opened",
        "_opening",
        "_recording",
        "_timer",
        "_unsettled",
        "number",
    )

    def __init__(self, loop: ClosedLoop, number: int, share: float) -> None:
        self.number = number
        self._loop = loop
        self._lead_s = LEAD_S * (1 + share)
        """Not all streams open theirs at once."""
        self._opening: asyncio.Task[None] | None = None
        self._opened: tuple[Connection, int] | None = None
        self._timer: asyncio.TimerHandle | None = None
        self._last_s: float | None = None
        self._recording: Recording | None = None
        self._began_s = 0.0
        self._begun: list[tuple[_Ready, tuple[Connection, int]]] = []
        self._unsettled: list[Connection] = []

    def watch(self, recording: Recording, connection: Connection) -> None:
        """A request goes out: let the next one follow, and open its connection shortly before, if that can be known."""
        self._recording, self._began_s = recording, time.monotonic()
        connection.on_end = self._go_on
        self._follow(connection)
        if self._timer is not None:
            self._timer.cancel()
        self._timer = asyncio.get_running_loop().call_later(max(LOOK_S, self._until_open_s()), self._look)

    def _follow(self, connection: Connection) -> None:
        self._unsettled = [*(c for c in self._unsettled if not c.settled), connection]

    def _look(self) -> None:
        wait_s = self._until_open_s()
        if wait_s > 0:
            self._timer = asyncio.get_running_loop().call_later(max(wait_s, LOOK_S), self._look)
        elif self._loop.make_one_ready() and self._opened is None:
            self._opening = asyncio.create_task(self._open())

    async def _open(self) -> None:
        opened = await self._loop.open()
        if not isinstance(opened, Fault):
            self._opened = opened

    def _until_open_s(self) -> float:
        """How long until it is time: by how fast its tokens come, else by how long the last answer took."""
        recording = self._recording
        assert recording is not None
        so_far, tokens, wanted = time.monotonic() - self._began_s, recording.so_far, recording.order.max_tokens
        if tokens > 1:
            pace_s = (recording.stamps[-1] - recording.stamps[0]) / 1e9 / (tokens - 1)
            return (wanted - tokens) * pace_s - self._lead_s
        if self._last_s is not None:
            return self._last_s - so_far - self._lead_s
        return 0.0 if wanted <= FEW_TOKENS else LOOK_S

    def _go_on(self) -> bool:
        """The answer ends this instant: send the next request, if it is ready to go; all else comes later."""
        opened, recording, ready = self._opened, self._recording, self._loop.ready
        # Servers close a connection that says nothing for some seconds, and might just do so.
        if (
            not ready
            or opened is None
            or not opened[0].usable
            or recording is None
            or recording.error is not None
            or not recording.stamps
            or time.monotonic_ns() - opened[0].opened_ns > STALE_NS
        ):
            return self._stay()
        following = ready.popleft()
        opened[0].send(following.request)
        self._opened = None
        opened[0].later(partial(self._sent, following, opened))
        return True

    def _sent(self, following: _Ready, opened: tuple[Connection, int]) -> None:
        following.recording.stream = self.number
        opened[0].expect(following.recording)
        self._last_s = time.monotonic() - self._began_s
        self._begun.append((following, opened))
        if len(following.unit) == 1:
            self.watch(following.recording, opened[0])
        else:
            # Its next turn needs its answer: the task goes on with it, and must not sleep meanwhile.
            opened[0].on_end = self._stay
            self._follow(opened[0])

    def _stay(self) -> bool:
        """What follows is the task's business; let it know of all ends."""
        for connection in self._unsettled:
            connection.resolve()
        return False

    def begun(self) -> tuple[_Ready, tuple[Connection, int]] | None:
        """What was sent and not yet accounted for."""
        return self._begun.pop(0) if self._begun else None

    async def next_opened(self) -> Opened:
        """The connection that was opened ahead, else a fresh one."""
        if self._opening is not None:
            await self._opening
        opened, self._opened, self._opening = self._opened, None, None
        if opened is not None:
            if opened[0].usable and time.monotonic_ns() - opened[0].opened_ns < STALE_NS:
                return opened
            self._loop.drop(opened[0])
        return await self._loop.open()

    def close(self) -> None:
        """Nothing more is to come."""
        if self._timer is not None:
            self._timer.cancel()
        if self._opening is not None:
            self._opening.cancel()
        for ready, opened in self._begun:
            self._loop.account(ready.recording, opened)


class ClosedLoop(Pacing):
    """Also bursts (as many streams as requests), think time, and conversations that grow."""

    def __init__(self, *given: Any) -> None:
        super().__init__(*given)
        self._waiting: deque[Unit] = deque()
        self.ready: deque[_Ready] = deque()
        """Those that come before all that wait."""
        self._first: list[Opened] = []
        self._streams = 0

    async def prepare(self) -> None:
        """First bodies are encoded, first connections open, before the first request is sent."""
        self._waiting.extend(units(self.episode.requests))
        self._streams = min(self.episode.concurrency, len(self._waiting))
        while len(self.ready) < self._streams:
            self._make_ready(self._waiting.popleft())
        self._first = list(await asyncio.gather(*(self.open() for _ in range(self._streams))))

    def _make_ready(self, unit: Unit) -> None:
        recording = self.recording(unit[0], 0, keep_all=len(unit) > 1)
        self.ready.append(_Ready(unit, self.target.encode(unit[0]), recording))

    def make_one_ready(self) -> bool:
        """Encode one more, so that each stream may go on at once; false where nothing may be sent without a pause.

        One for each stream, and no more: all bodies of a large episode would fill the memory.
        """
        if self._waiting and not self._waiting[0][0].think_ns and len(self.ready) < self._streams:
            self._make_ready(self._waiting.popleft())
        return bool(self.ready)

    async def send(self) -> None:
        """All streams until nothing waits."""
        first, self._first = self._first, []
        await self.gather([self._stream(i, opened) for i, opened in enumerate(first)])

    async def _stream(self, index: int, opened: Opened) -> None:
        lane = _Lane(self, index + self.episode.first_stream, index / max(1, self._streams))
        first: Opened | None = opened
        try:
            while (begun := lane.begun()) is not None or self.ready or self._waiting:
                if begun is not None:
                    await self._unit(lane, begun[0].unit, begun[1], begun[0])
                elif self.ready:
                    await self._unit(lane, self.ready[0].unit, first, self.ready.popleft())
                else:
                    await self._unit(lane, self._waiting.popleft(), first)
                first = None
        finally:
            lane.close()

    async def _unit(self, lane: _Lane, unit: Unit, first: Opened | None, ready: _Ready | None = None) -> None:
        """Send a unit.

        Args:
            lane: The stream.
            unit: What to send.
            first: The connection of its first request; None opens one. The request may have been sent already.
            ready: Its first request, where that is prepared.
        """
        history: list[ChatMessage] = []
        for order in unit:
            if order.think_ns:
                await asyncio.sleep(order.think_ns / 1e9)
            # A fresh one each time: some engines promise to keep a connection open and close it all the same.
            opened, first = (first if first is not None else await lane.next_opened()), None
            history.extend(order.messages)
            if ready is None:
                request = self.target.encode(order, history if order.carry else order.messages)
                recording = self.recording(order, lane.number, keep_all=len(unit) > 1)
            else:
                request, recording, ready = ready.request, ready.recording, None
                recording.stream = lane.number
            sent = isinstance(opened, tuple) and opened[0].sent_ns > 0
            more = order is unit[-1] and (self.ready or self._waiting)
            if more and self.target.connect_ahead and isinstance(opened, tuple) and not sent:
                lane.watch(recording, opened[0])
            recording = await self.with_retries(recording, request, opened)
            if recording.error is not None and order.carry:
                # What comes after would be another conversation.
                self._not_sent(unit[unit.index(order) + 1 :], lane.number, recording)
                return
            history.append(ChatMessage("assistant", recording.text))

    def _not_sent(self, orders: Sequence[RequestOrder], stream: int, broken: Recording) -> None:
        for order in orders:
            recording = self.recording(order, stream)
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
            recordings = [self.recording(order, self.episode.first_stream + i) for i, order in enumerate(part)]
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
