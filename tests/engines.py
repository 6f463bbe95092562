"""Engines and processes that tests start."""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path

import psutil

from zinc_kettle.core.plan.recipe import request_fields
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.engines.launcher import LaunchedEngine
from zinc_kettle.link.process import DriverProcess
from zinc_kettle.session.episode import setup_for
from zinc_kettle.wire.messages import ChatMessage, Episode, RequestOrder, Tick


def alive(pid: int) -> bool:
    """True while a process is there."""

    return bool(psutil.pid_exists(pid))


async def ask(
    engine: LaunchedEngine,
    text: str,
    *,
    tokens: int = 16,
    count: int = 1,
    concurrency: int = 1,
    on_token: Callable[[], None] = lambda: None,
) -> list[Timeline]:
    """Requests of one text."""
    driver = await DriverProcess.spawn()
    seen: list[Timeline] = []

    def on_tick(tick: Tick) -> None:
        if tick.decode:
            on_token()

    try:
        await driver.aim(setup_for(engine))
        fields = request_fields(engine.recipe, engine.spec.levels)
        orders = [
            RequestOrder(f"r{i}", "measured", [ChatMessage("user", text)], tokens, extra=fields) for i in range(count)
        ]
        await driver.run(Episode("e", concurrency, orders), on_tick=on_tick, on_timeline=seen.append)
    finally:
        await driver.close()
    return seen


OLDER = Path(sys.prefix) / "older-engine" / "bin" / "python"
