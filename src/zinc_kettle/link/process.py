"""One driver process on two private pipes."""

from __future__ import annotations

import asyncio
import contextlib
import sys
from collections.abc import Callable
from functools import cache
from pathlib import Path

import msgspec

from zinc_kettle.core.fingerprint import fingerprint
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.core.text import neutralise
from zinc_kettle.errors import DriverError
from zinc_kettle.wire.convert import to_timeline
from zinc_kettle.wire.messages import (
    VERSION,
    Abort,
    Complaint,
    Episode,
    EpisodeDone,
    Finished,
    FromDriver,
    Quit,
    Ready,
    Setup,
    Tick,
    ToDriver,
    decode_report,
    encode,
)

CLOCK_DIGITS = 8
MAX_LINE = 64 << 20
START_LIMIT_S = 30.0
END_LIMIT_S = 2.0
MARGIN_S = 60.0
"""Beyond the driver's own limits on requests: how long an episode may stay silent before we give the driver up."""


@cache
def clock_name() -> str:
    """Name of this machine's monotonic clock, which starts again with each boot; it names no machine."""
    try:
        boot = Path("/proc/sys/kernel/random/boot_id").read_text()
    except OSError:
        import psutil

        boot = str(round(psutil.boot_time()))
    return f"monotonic-{fingerprint(boot.strip(), length=CLOCK_DIGITS)}"


def _clean(message: Finished) -> Finished:
    """Whatever an engine said, without what a terminal would obey."""
    return msgspec.structs.replace(
        message,
        text=neutralise(message.text),
        error=None if message.error is None else neutralise(message.error),
        finish=None if message.finish is None else neutralise(message.finish, keep_newlines=False),
        odd=neutralise(message.odd, keep_newlines=False),
    )


class DriverProcess:
    """Implements ports.LoadSource."""

    def __init__(self, process: asyncio.subprocess.Process) -> None:
        self._process = process

    @classmethod
    async def spawn(cls) -> DriverProcess:
        """Start a driver and wait for its greeting.

        Raises:
            DriverError: It did not greet, or speaks another version.
        """
        process = await asyncio.create_subprocess_exec(
            sys.executable,
            "-m",
            "zinc_kettle.driver",
            stdin=asyncio.subprocess.PIPE,
            stdout=asyncio.subprocess.PIPE,
            limit=MAX_LINE,
        )
        driver = cls(process)
        try:
            greeting = await asyncio.wait_for(driver._hear(), START_LIMIT_S)
            if not isinstance(greeting, Ready) or greeting.version != VERSION:
                raise DriverError("the driver did not report that it is ready", remedy="reinstall with: make setup")
        except TimeoutError as error:
            await driver.close()
            raise DriverError(f"the driver did not start within {START_LIMIT_S:g} s") from error
        except BaseException:
            await driver.close()
            raise
        return driver

    @property
    def pid(self) -> int:
        """Its process id."""
        return self._process.pid

    async def aim(self, setup: Setup) -> None:
        """Say where to send; a complaint comes with the next episode."""
        await self._say(setup)

    async def run(
        self, episode: Episode, *, on_tick: Callable[[Tick], None], on_timeline: Callable[[Timeline], None]
    ) -> EpisodeDone:
        """Run an episode; cancelling this aborts it and still hands over what had come."""
        silence_s = max(episode.timeout_s, episode.stall_s) + MARGIN_S
        await self._say(episode)
        try:
            return await self._listen(silence_s, on_tick, on_timeline)
        except asyncio.CancelledError:
            await self._say(Abort())
            with contextlib.suppress(DriverError, TimeoutError):
                await asyncio.wait_for(self._listen(END_LIMIT_S, on_tick, on_timeline), END_LIMIT_S)
            raise

    async def _listen(
        self, silence_s: float, on_tick: Callable[[Tick], None], on_timeline: Callable[[Timeline], None]
    ) -> EpisodeDone:
        while True:
            try:
                message = await asyncio.wait_for(self._hear(), silence_s)
            except TimeoutError as error:
                raise DriverError(f"the driver was silent for {silence_s:g} s") from error
            if isinstance(message, Tick):
                on_tick(message)
            elif isinstance(message, Finished):
                on_timeline(to_timeline(_clean(message), clock=clock_name()))
            elif isinstance(message, EpisodeDone):
                return message
            elif isinstance(message, Complaint):
                raise DriverError("the driver could not run the episode", why=message.what)

    async def close(self) -> None:
        """Tell it to quit; after END_LIMIT_S it is killed."""
        if self._process.returncode is None:
            with contextlib.suppress(DriverError):
                await self._say(Quit())
            if self._process.stdin is not None:
                self._process.stdin.close()
            try:
                await asyncio.wait_for(self._process.wait(), END_LIMIT_S)
            except TimeoutError:
                with contextlib.suppress(ProcessLookupError):
                    self._process.kill()
                await self._process.wait()

    async def _say(self, order: ToDriver) -> None:
        assert self._process.stdin is not None
        try:
            self._process.stdin.write(encode(order))
            await self._process.stdin.drain()
        except (BrokenPipeError, ConnectionResetError) as error:
            raise DriverError("the driver has ended") from error

    async def _hear(self) -> FromDriver:
        assert self._process.stdout is not None
        line = await self._process.stdout.readline()
        if not line:
            raise DriverError(
                "the driver ended in the middle of its work", remedy="run it again; everything measured is kept"
            )
        return decode_report(line)
