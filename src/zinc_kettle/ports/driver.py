"""The driver: what sends the requests and stamps the answers."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.wire.messages import Episode, EpisodeDone, Setup, Tick


class LoadSource(Protocol):
    """A driver process."""

    async def aim(self, setup: Setup) -> None:
        """Say where to send."""
        ...

    async def run(
        self, episode: Episode, *, on_tick: Callable[[Tick], None], on_timeline: Callable[[Timeline], None]
    ) -> EpisodeDone:
        """Run an episode to its end.

        Raises:
            DriverError: The driver ended or complained.
        """
        ...

    async def close(self) -> None:
        """End it."""
        ...
