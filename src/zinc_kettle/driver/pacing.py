"""What every way of sending has in common: connections opened before, retries, ticks, and the account at the end."""

from __future__ import annotations

import asyncio
import contextlib
import gc
import select
import time
from collections import deque
from collections.abc import Callable, Coroutine, Sequence
from typing import Any

from zinc_kettle.core.text import neutralise
from zinc_kettle.driver.connection import CONNECTS_AT_ONCE, Connection, connect
from zinc_kettle.driver.poller import Poller
from zinc_kettle.driver.recording import Fault, Recording
from zinc_kettle.driver.reply import Sink
from zinc_kettle.driver.target import Target
from zinc_kettle.driver.timer import Timer
from zinc_kettle.wire.messages import Episode, EpisodeDone, Finished, FromDriver, LiveStream, RequestOrder, Tick

TAIL_SHOWN = 160
STREAMS_SHOWN = 8
TIDY_S = 0.02
"""How long after an end its connection is closed and its report written."""
REPORTS_A_WRITE = 16

Say = Callable[..., None]
"""Hands messages to the tool."""
Opened = tuple[Connection, int] | Fault
"""A connection and how long it took to open, or why there is none."""


class Pacing:
    """Runs one episode; what is sent when is for the kinds below it."""

    def __init__(self, target: Target, episode: Episode, say: Say) -> None:
        self.target = target
        self.episode = episode
        self._say = say
        self._live: dict[str, Recording] = {}
        self._open: set[Connection] = set()
        self._seen: dict[str, tuple[int, int]] = {}
        self._unsent = len(episode.requests)
        self._finished = 0
        self._failed = 0
        self._last_fault = ""
        self._ticked = (0, 0)
        self._tokens_ended = 0
        self._ended: deque[Recording] = deque()
        self._closing: deque[Connection] = deque()
        self._reports: list[FromDriver] = []
        self._clerk: asyncio.Task[None] | None = None
        self._limits_ns = (int(episode.timeout_s * 1e9), int(episode.stall_s * 1e9))
        self._gate = asyncio.Semaphore(CONNECTS_AT_ONCE)
        self._poller = Poller() if target.kernel_stamps and hasattr(select, "epoll") else None
        self.start_ns = 0

    async def prepare(self) -> None:
        """All that comes before the clock: bodies encoded, first connections open."""
        raise NotImplementedError

    async def send(self) -> None:
        """Send everything and wait for its end."""
        raise NotImplementedError

    async def run(self) -> None:
        """Send all requests, report each as it ends, then report the cost. The collector rests meanwhile."""
        aborted = False
        ticker = asyncio.create_task(self._ticks())
        begun, cpu = time.monotonic_ns(), time.process_time_ns()
        try:
            await self.prepare()
            gc.collect()
            gc.disable()
            await self._start()
            begun, cpu = self.start_ns, time.process_time_ns()
            await self.send()
        except asyncio.CancelledError:
            aborted = True
        finally:
            ticker.cancel()
            if self._clerk is not None:
                self._clerk.cancel()
            for connection in self._open:
                connection.close()
            if self._poller is not None:
                self._poller.close()
            gc.enable()
        self._reports += [self._report_of(recording) for recording in self._ended]
        self._ended.clear()
        self._hand_over()
        end, cost = time.monotonic_ns(), time.process_time_ns() - cpu
        self._say(EpisodeDone(self.episode.id, start_ns=begun, end_ns=end, cpu_ns=cost, aborted=aborted))

    async def _start(self) -> None:
        if self.episode.start_ns is not None:
            timer = Timer()
            await timer.until(self.episode.start_ns)
            timer.close()
            self.start_ns = self.episode.start_ns
        else:
            self.start_ns = time.monotonic_ns()

    async def open(self) -> Opened:
        """Open a connection; a failure is a value, for the request that needed it."""
        async with self._gate:
            try:
                connection, took = await connect(self.target, self._poller)
            except Fault as fault:
                return fault
        self._open.add(connection)
        return connection, took

    def recording(self, order: RequestOrder, stream: int, *, attempt: int = 0, keep_all: bool = False) -> Recording:
        """An empty account of a request, for answers of the engine that is asked."""
        return Recording(order, stream, attempt=attempt, keep_all=keep_all, reader=self.target.reader)

    async def one(self, recording: Recording, request: bytes, opened: Opened) -> None:
        """One attempt, from its first byte to its report."""
        self._live[recording.order.id] = recording
        self._unsent -= recording.attempt == 0
        try:
            await self.over(recording, [recording], request, opened)
        finally:
            self._live.pop(recording.order.id, None)
            self.report(recording)

    async def over(self, sink: Sink, recordings: Sequence[Recording], request: bytes, opened: Opened) -> None:
        """Send over a connection and close it; the times go to every recording.

        Args:
            sink: Takes what comes.
            recordings: The requests it carries: one, or several of a batch.
            request: Its bytes.
            opened: The connection, and how long it took to open in nanoseconds.
        """
        if isinstance(opened, Fault):
            now = time.monotonic_ns()
            for recording in recordings:
                recording.sent_ns = recording.end_ns = now
            sink.fail(opened.code, opened.what)
            return
        connection, took = opened
        try:
            if not connection.sent_ns:
                connection.begin(sink, request)
            await connection.finish(self._limits_ns)
        finally:
            if sink.error is None and self._nobody_waits():
                # Closing takes longer than reading a token, and others' tokens come first.
                self._closing.append(connection)
                self._wake_clerk()
            else:
                self.drop(connection)
            for recording in recordings:
                recording.sent_ns, recording.write_ns, recording.connect_ns = (
                    connection.sent_ns,
                    connection.write_ns,
                    took,
                )
                recording.end_ns = connection.end_ns

    def account(self, recording: Recording, opened: tuple[Connection, int]) -> None:
        """Stopped before its task began: where bytes went out, the request is recorded all the same."""
        connection, took = opened
        if connection.sent_ns:
            recording.sent_ns, recording.write_ns, recording.connect_ns = connection.sent_ns, connection.write_ns, took
            recording.end_ns = time.monotonic_ns()
            recording.fail("stopped", "stopped before its end")
            self.report(recording)

    def report(self, recording: Recording) -> None:
        """Count an attempt that has ended, and tell the tool of it a moment later: others' bytes come first."""
        self._finished += 1
        self._tokens_ended += max(recording.predicted, len(recording.stamps))
        self._seen.pop(recording.order.id, None)
        if recording.error is not None:
            recording.error = self.target.clean(recording.error)
            self._failed += 1
            self._last_fault = recording.error
        self._ended.append(recording)
        self._wake_clerk()

    def _nobody_waits(self) -> bool:
        """True when all is sent and being answered: many servers hold a worker as long as a connection is open, so one
        left open a moment longer would else make another request wait. Of other drivers' requests nothing is known."""
        if self._unsent > 0 or self.episode.start_ns is not None:
            return False
        return all(recording.header_ns is not None for recording in self._live.values())

    def drop(self, connection: Connection) -> None:
        """Close it, and forget it."""
        self._open.discard(connection)
        connection.close()

    def _wake_clerk(self) -> None:
        if self._clerk is None or self._clerk.done():
            self._clerk = asyncio.create_task(self._tidy())

    async def _tidy(self) -> None:
        """Close and report what has ended: one thing a turn of the loop, so that no stamp waits for more than one.

        While requests are still to be sent, each report at once: several would keep the tool busy for a millisecond, on
        a core a send may be due on. When all is sent, many end together: then a little later, and several to a write.
        """
        if self._unsent <= 0:
            await asyncio.sleep(TIDY_S)
        while self._ended or self._closing:
            if self._closing:
                self.drop(self._closing.popleft())
            else:
                self._reports.append(self._report_of(self._ended.popleft()))
                if self._unsent > 0 or len(self._reports) >= REPORTS_A_WRITE:
                    self._hand_over()
            await asyncio.sleep(0)
        self._hand_over()

    def _hand_over(self) -> None:
        if self._reports:
            self._say(*self._reports)
            self._reports.clear()

    def _report_of(self, recording: Recording) -> Finished:
        recording.clean(self.target.clean)
        return recording.finished(self.episode.id)

    async def with_retries(self, recording: Recording, request: bytes, opened: Opened) -> Recording:
        """An attempt and its retries as the study states them; gives the last one."""
        await self.one(recording, request, opened)
        policy = self.episode.retry
        while recording.error is not None and recording.fault in policy.on and recording.attempt < policy.times:
            wait_s = min(policy.most_s, policy.wait_s * policy.backoff**recording.attempt)
            if recording.retry_after_s is not None:
                wait_s = min(policy.most_s, max(wait_s, recording.retry_after_s))
            await asyncio.sleep(wait_s)
            again = await self.open()
            due_ns = recording.due_ns
            recording = self.recording(
                recording.order, recording.stream, attempt=recording.attempt + 1, keep_all=recording.keep_all
            )
            recording.due_ns = due_ns
            await self.one(recording, request, again)
        return recording

    async def gather(self, work: Sequence[Coroutine[Any, Any, None]]) -> None:
        """All of it at once; where one is cancelled or breaks, none goes on behind our back."""
        tasks = [asyncio.ensure_future(w) for w in work]
        try:
            await asyncio.gather(*tasks)
        finally:
            for task in tasks:
                task.cancel()
            with contextlib.suppress(asyncio.CancelledError):
                await asyncio.gather(*tasks, return_exceptions=True)

    # eyes
    async def _ticks(self) -> None:
        while True:
            await asyncio.sleep(self.episode.tick_s)
            self._tick(time.monotonic_ns())

    def _tick(self, now: int) -> None:
        decode = tokens = 0
        for recording in self._live.values():
            decode += 1 if recording.stamps else 0
            tokens += max(recording.predicted, len(recording.stamps))
        tokens += self._tokens_ended
        before, then = self._ticked
        self._ticked = (tokens, now)
        shown = sorted(self._live.values(), key=lambda r: r.stream)[:STREAMS_SHOWN]
        self._say(
            Tick(
                self.episode.id,
                [self._glance(r, now) for r in shown],
                self._finished,
                len(self.episode.requests),
                failed=self._failed,
                prefill=len(self._live) - decode,
                decode=decode,
                rate=max(0, tokens - before) * 1e9 / (now - then) if then and now > then else 0.0,
                last_fault=neutralise(self._last_fault[:TAIL_SHOWN]),
            )
        )

    def _glance(self, recording: Recording, now: int) -> LiveStream:
        tokens = max(recording.predicted, len(recording.stamps))
        before, then = self._seen.get(recording.order.id, (0, 0))
        rate = (tokens - before) * 1e9 / (now - then) if then and now > then else 0.0
        self._seen[recording.order.id] = (tokens, now)
        phase = "decode" if tokens else "prefill"
        tail = neutralise(self.target.clean(recording.text)[-TAIL_SHOWN:])
        return LiveStream(recording.stream, recording.order.id, phase, tokens, rate, tail)
