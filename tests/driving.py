"""Running the driver against the paced server, for tests."""

from __future__ import annotations

from typing import Any

import httpx

from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.link.pool import DriverPool
from zinc_kettle.wire.messages import ChatMessage, Episode, EpisodeDone, RequestOrder, Setup

WORDS = "the night log of the harbour office"


def scripted(count: int, tokens: int, script: dict[str, Any] | None = None, **more: Any) -> list[RequestOrder]:
    """Requests that carry a script to the paced server, each with a label of its own."""
    return [
        RequestOrder(
            f"r{i}",
            "measured",
            [ChatMessage("user", f"{WORDS} {i}")],
            tokens,
            extra={"paced": {**(script or {}), "label": f"r{i}"}},
            **more,
        )
        for i in range(count)
    ]


async def drive(url: str, orders: list[RequestOrder], *, streams: int = 1, **episode: Any) -> list[Timeline]:
    """Run an episode in a driver of its own; timelines in the order they came."""
    seen, _ = await drive_all(Setup(url, "m"), orders, streams=streams, **episode)
    return seen


async def drive_all(
    setup: Setup, orders: list[RequestOrder], *, streams: int = 1, **episode: Any
) -> tuple[list[Timeline], EpisodeDone]:
    """The same with any setup, and with the driver's own account."""
    driver = await DriverPool.spawn()
    seen: list[Timeline] = []
    try:
        await driver.aim(setup)
        done = await driver.run(
            Episode("e", streams, orders, **episode), on_tick=lambda _t: None, on_timeline=seen.append
        )
        return seen, done
    finally:
        await driver.close()


async def sent(url: str) -> dict[str, dict[str, Any]]:
    """What the server sent last, by label."""
    async with httpx.AsyncClient(trust_env=False, timeout=600) as http:
        return {row["label"]: row for row in (await http.get(f"{url}/sent")).json()}
