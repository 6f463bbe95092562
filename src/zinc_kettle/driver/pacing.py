"""The closed loop: n streams, each takes the next request as soon as its last one has ended."""

from __future__ import annotations

import asyncio
import gc
import time
from collections import deque
from collections.abc import Callable

from zinc_kettle.core.text import neutralise
from zinc_kettle.driver.client import Connection, Target, connect
from zinc_kettle.driver.record import Record
from zinc_kettle.wire.messages import Episode, EpisodeDone, FromDriver, LiveStream, RequestOrder, Tick

TAIL_SHOWN = 160

Say = Callable[[FromDriver], None]


class ClosedLoop:
    """Runs one episode."""

    def __init__(self, target: Target, episode: Episode, say: Say) -> None:
        self._target = target
        self._episode = episode
        self._say = say
        self._waiting: deque[tuple[RequestOrder, bytes]] = deque()
        self._live: dict[int, Record] = {}
        self._connections: dict[int, Connection] = {}
        self._seen: dict[int, tuple[str, int, int]] = {}
        self._finished = 0
        self._aborted = False

    async def run(self) -> None:
        """Send all requests, report each as it ends, then report the cost. The collector rests meanwhile."""
        episode = self._episode
        self._waiting.extend((order, self._target.encode(order)) for order in episode.requests)
        streams = min(episode.concurrency, len(episode.requests))
        gc.collect()
        gc.disable()
        start, cpu = time.monotonic_ns(), time.process_time_ns()
        ticker = asyncio.create_task(self._ticks())
        try:
            # All first connections are open before the first request is sent, so that none is late.
            opened = await asyncio.gather(*(self._open(i) for i in range(streams)))
            await asyncio.gather(*(self._stream(i, opened[i]) for i in range(streams)))
        except asyncio.CancelledError:
            self._aborted = True
        finally:
            ticker.cancel()
            for connection in self._connections.values():
                connection.close()
            gc.enable()
        end = time.monotonic_ns()
        cost = time.process_time_ns() - cpu
        self._say(EpisodeDone(episode.id, start_ns=start, end_ns=end, cpu_ns=cost, aborted=self._aborted))

    async def _open(self, stream: int) -> tuple[int, str | None]:
        try:
            self._connections[stream], took = await connect(self._target)
        except (OSError, TimeoutError) as error:
            return 0, f"could not connect: {error or 'no answer in time'}"
        return took, None

    async def _stream(self, stream: int, opened: tuple[int, str | None] | None) -> None:
        while self._waiting:
            order, request = self._waiting.popleft()
            if opened is None:
                # A fresh one each time: some engines promise to keep a connection open and close it all the same.
                opened = await self._open(stream)
            (took, failure), opened = opened, None
            record = self._live[stream] = Record(order, stream)
            record.connect_ns = took
            try:
                await self._one(stream, record, request, failure)
            finally:
                self._live.pop(stream, None)
                self._finished += 1
                self._say(record.finished(self._episode.id))

    async def _one(self, stream: int, record: Record, request: bytes, failure: str | None) -> None:
        if failure is not None:
            record.sent_ns = record.end_ns = time.monotonic_ns()
            record.error = failure
            return
        limits, connection = self._episode, self._connections.pop(stream)
        try:
            await connection.exchange(record, request, timeout_s=limits.timeout_s, stall_s=limits.stall_s)
        finally:
            connection.close()

    async def _ticks(self) -> None:
        while True:
            await asyncio.sleep(self._episode.tick_s)
            now = time.monotonic_ns()
            streams = [self._glance(i, record, now) for i, record in sorted(self._live.items())[:8]]
            self._say(Tick(self._episode.id, streams, self._finished, len(self._episode.requests)))

    def _glance(self, stream: int, record: Record, now: int) -> LiveStream:
        tokens = max(record.predicted, len(record.stamps))
        request, before, then = self._seen.get(stream, ("", 0, 0))
        rate = (tokens - before) * 1e9 / (now - then) if request == record.order.id and now > then else 0.0
        self._seen[stream] = (record.order.id, tokens, now)
        phase = "decode" if tokens else "prefill"
        return LiveStream(stream, record.order.id, phase, tokens, rate, neutralise(record.tail[-TAIL_SHOWN:]))
