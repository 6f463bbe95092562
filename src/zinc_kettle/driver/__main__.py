"""The driver process: orders on standard input, reports on standard output, one JSON line each.

It ends when told to, and by itself as soon as its input closes, so that it never outlives the tool.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import signal
import sys

from zinc_kettle.driver.closed import Batch, ClosedLoop
from zinc_kettle.driver.opened import OpenLoop
from zinc_kettle.driver.pacing import Pacing
from zinc_kettle.driver.target import Target
from zinc_kettle.errors import KettleError
from zinc_kettle.wire.messages import (
    VERSION,
    Abort,
    Complaint,
    Episode,
    FromDriver,
    Quit,
    Ready,
    Setup,
    ToDriver,
    decode_order,
    encode,
)

MAX_LINE = 256 << 20
FLUSH_STEPS = 100
"""Hundredths of a second the last lines have to reach the tool."""


SHAPES: dict[str, type[Pacing]] = {"closed": ClosedLoop, "open": OpenLoop, "batch": Batch}


class Driver:
    """Takes orders one by one; at most one episode runs at a time."""

    def __init__(self, out: asyncio.WriteTransport) -> None:
        self._out = out
        self._target: Target | None = None
        self._running: asyncio.Task[None] | None = None

    def say(self, *messages: FromDriver) -> None:
        """Hand lines to the pipe; it is buffered, so a slow reader never delays a stamp."""
        if self._out.is_closing():
            return  # the tool has ended, and with it everybody who would hear it
        self._out.write(b"".join(encode(message) for message in messages))

    async def obey(self, order: ToDriver) -> bool:
        """Carry out one order; False when the driver should end."""
        if isinstance(order, Quit):
            await self._abort()
            return False
        if isinstance(order, Setup):
            self._setup(order)
        elif isinstance(order, Abort):
            await self._abort()
        else:
            self._start(order)
        return True

    def _setup(self, order: Setup) -> None:
        if order.version != VERSION:
            self.say(Complaint(f"the tool speaks version {order.version}, this driver {VERSION}"))
            return
        try:
            self._target = Target.of(order)
        except KettleError as error:
            self.say(Complaint(str(error)))

    def _start(self, episode: Episode) -> None:
        if self._target is None:
            self.say(Complaint("an episode was ordered before a usable address was set"))
        elif self._running is not None and not self._running.done():
            self.say(Complaint("an episode was ordered while another one runs"))
        else:
            kind = SHAPES.get(episode.shape, ClosedLoop)
            self._running = asyncio.create_task(kind(self._target, episode, self.say).run())

    async def _abort(self) -> None:
        if self._running is not None and not self._running.done():
            self._running.cancel()
            with contextlib.suppress(asyncio.CancelledError):
                await self._running


async def serve() -> None:
    """Read orders until told to quit or until the input closes."""
    loop = asyncio.get_running_loop()
    reader = asyncio.StreamReader(limit=MAX_LINE)
    await loop.connect_read_pipe(lambda: asyncio.StreamReaderProtocol(reader), sys.stdin)
    out, _ = await loop.connect_write_pipe(asyncio.Protocol, sys.stdout)
    driver = Driver(out)
    driver.say(Ready(pid=os.getpid(), loop=type(loop).__module__.partition(".")[0]))
    while line := await reader.readline():
        try:
            order = decode_order(line)
        except KettleError as error:
            driver.say(Complaint(str(error)))
            continue
        if not await driver.obey(order):
            break
    for _ in range(FLUSH_STEPS):
        if out.get_write_buffer_size() == 0:
            break
        await asyncio.sleep(0.01)


def raise_limits() -> None:
    """As many open connections as the system lets this person have; each stream is one."""
    try:
        import resource
    except ImportError:
        return
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    with contextlib.suppress(ValueError, OSError):
        most = hard if hard != resource.RLIM_INFINITY else max(soft, 65_536)
        resource.setrlimit(resource.RLIMIT_NOFILE, (most, hard))


def main() -> None:
    """Run on uvloop where it exists; the keyboard's interrupt is the tool's business, not ours."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    raise_limits()
    try:
        import uvloop
    except ImportError:
        asyncio.run(serve())
    else:
        uvloop.run(serve())
    # Streams that still close politely would only delay the end.
    os._exit(0)


if __name__ == "__main__":
    main()
