"""Several driver processes behind one load source: streams dealt out, one start, timelines merged as they come."""

from __future__ import annotations

import asyncio
import itertools
import time
from collections.abc import Callable, Sequence

import msgspec

from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.link.process import DriverProcess
from zinc_kettle.wire.messages import Episode, EpisodeDone, RequestOrder, Setup, Tick

START_AHEAD_NS = 400_000_000
AHEAD_PER_STREAM_NS = 400_000
"""Opening a connection takes about 0.1 to 0.3 ms of processor time."""
OPENED_AHEAD = 64
"""Connections the driver of an open loop opens before its start, at most."""
AHEAD_PER_ORDER_NS = 50_000
"""And handing over an order, reading it and keeping it, some hundredths of one."""


class DriverPool:
    """Implements ports.LoadSource; processes are started when they are first wanted."""

    def __init__(self, first: DriverProcess) -> None:
        self._drivers = [first]
        self._setup: Setup | None = None

    @classmethod
    async def spawn(cls) -> DriverPool:
        """Start with one driver.

        Raises:
            DriverError: It did not start.
        """
        return cls(await DriverProcess.spawn())

    @property
    def pids(self) -> list[int]:
        """Process ids of all drivers."""
        return [driver.pid for driver in self._drivers]

    async def aim(self, setup: Setup) -> None:
        """Say where to send."""
        self._setup = setup
        for driver in self._drivers:
            await driver.aim(setup)

    async def run(
        self, episode: Episode, *, on_tick: Callable[[Tick], None], on_timeline: Callable[[Timeline], None]
    ) -> EpisodeDone:
        """Run an episode on as many drivers as it asks for."""
        # A driver without a stream of its own would be one stream too many.
        most = {"batch": 1, "open": len(episode.requests)}.get(episode.shape, episode.concurrency)
        count = min(episode.drivers, most, len(episode.requests))
        if count <= 1:
            return await self._drivers[0].run(episode, on_tick=on_tick, on_timeline=on_timeline)
        while len(self._drivers) < count:
            driver = await DriverProcess.spawn()
            self._drivers.append(driver)
            if self._setup is not None:
                await driver.aim(self._setup)
        parts = split(episode, count, time.monotonic_ns())
        ticks: list[Tick | None] = [None] * len(parts)

        def ticking(index: int) -> Callable[[Tick], None]:
            def take(tick: Tick) -> None:
                ticks[index] = tick
                on_tick(merged_tick(episode.id, [t for t in ticks if t is not None], len(episode.requests)))

            return take

        running = [
            asyncio.create_task(driver.run(part, on_tick=ticking(i), on_timeline=on_timeline))
            for i, (driver, part) in enumerate(zip(self._drivers, parts, strict=False))
        ]
        try:
            done = await asyncio.gather(*running)
        finally:
            # Where one driver ends or the run is stopped, the others hand over what they have.
            for task in running:
                task.cancel()
            await asyncio.gather(*running, return_exceptions=True)
        return EpisodeDone(
            episode.id,
            min(d.start_ns for d in done),
            max(d.end_ns for d in done),
            sum(d.cpu_ns for d in done),
            any(d.aborted for d in done),
        )

    async def close(self) -> None:
        """End them all."""
        await asyncio.gather(*(driver.close() for driver in self._drivers))


def split(episode: Episode, count: int, now_ns: int) -> list[Episode]:
    """Deal an episode out to `count` drivers.

    Streams and requests go round in turn, so that each driver has a like share of every kind; turns of a conversation
    stay together. All start at one moment of the shared clock. Timelines carry the number of their stream, so that the
    whole is read as if one driver had sent it: the steady window is found over all streams of all drivers.
    """
    groups: list[list[RequestOrder]] = [[] for _ in range(count)]
    keys: dict[object, int] = {}
    turn = itertools.count()
    for i, order in enumerate(episode.requests):
        key: object = ("c", order.conversation) if order.conversation is not None else ("r", i)
        if key not in keys:
            keys[key] = next(turn) % count
        groups[keys[key]].append(order)
    streams = [len(range(i, episode.concurrency, count)) for i in range(count)]
    firsts = [0, *itertools.accumulate(streams if episode.shape != "open" else map(len, groups))]
    orders = len(episode.requests)
    opened = min(orders, OPENED_AHEAD * count if episode.shape == "open" else episode.concurrency)
    start_ns = now_ns + START_AHEAD_NS + AHEAD_PER_STREAM_NS * opened + AHEAD_PER_ORDER_NS * orders
    return [
        msgspec.structs.replace(
            episode,
            requests=group,
            concurrency=max(1, streams[i]),
            first_stream=firsts[i],
            drivers=1,
            start_ns=start_ns,
        )
        for i, group in enumerate(groups)
        if group
    ]


def merged_tick(episode: str, ticks: Sequence[Tick], total: int) -> Tick:
    """What all drivers said last, as one."""
    faults = [t.last_fault for t in ticks if t.last_fault]
    return Tick(
        episode,
        [stream for tick in ticks for stream in tick.streams],
        sum(t.finished for t in ticks),
        total,
        failed=sum(t.failed for t in ticks),
        prefill=sum(t.prefill for t in ticks),
        decode=sum(t.decode for t in ticks),
        rate=sum(t.rate for t in ticks),
        last_fault=faults[-1] if faults else "",
    )
