"""Keys one after the other: each reaches what stands when all before it have been done.

A key goes through queues of widgets before it is an action, and an action may put another screen up, which takes its
time. Left to themselves, keys that were typed ahead would arrive at a screen that was not meant, or that is not there
yet.
"""

from __future__ import annotations

import asyncio
import contextlib
from collections import deque
from collections.abc import Awaitable, Callable

from textual import events
from textual.app import App
from textual.dom import DOMNode

MOST_AHEAD = 200
"""Keys that wait; who types more ahead sits on the keyboard."""
STEP_S = 5.0
"""The longest a key holds up those behind it."""
LOOK_S = 0.01


class Typed:
    """What was typed and has not been done yet.

    Args:
        app: The application.
        give: Hands a key to whatever has the focus now.
    """

    def __init__(self, app: App[int], give: Callable[[events.Key], Awaitable[None]]) -> None:
        self._app = app
        self._give = give
        self._waiting: deque[events.Key] = deque()
        self._busy: asyncio.Task[None] | None = None

    def take(self, event: events.Key) -> None:
        """Take a key."""
        if len(self._waiting) < MOST_AHEAD:
            self._waiting.append(event)
        if self._busy is None or self._busy.done():
            self._busy = asyncio.get_running_loop().create_task(self._hand_on())

    async def done(self) -> None:
        """Until nothing that was typed waits."""
        if self._busy is not None:
            await asyncio.wait({self._busy})

    async def _hand_on(self) -> None:
        while self._waiting and self._app.is_running:
            await self._screen()
            event = self._waiting.popleft()
            target = self._app.focused or self._app.screen
            await self._give(event)
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(self._gone_its_way(target), STEP_S)
            await self._screen()

    async def _screen(self) -> None:
        """Until the screen on top has been put together."""
        with contextlib.suppress(TimeoutError):
            async with asyncio.timeout(STEP_S):
                while self._app.screen_stack and not self._app.screen.is_mounted:
                    await asyncio.sleep(LOOK_S)

    async def _gone_its_way(self, target: DOMNode) -> None:
        """Until a key has gone its way from where it began up to the app: what is asked behind it is asked after it."""
        pump: DOMNode | None = target
        while pump is not None:
            heard = asyncio.Event()
            if not pump.call_later(heard.set):
                return  # it is being taken away
            await heard.wait()
            if pump is self._app:
                return
            pump = pump.parent
