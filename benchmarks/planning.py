"""Editing a large plan: how long a keystroke takes in a line of a plan of 10,000 cells, beyond what it takes in one of
four (most of that is the test's own waiting), and how long a change does.

    python benchmarks/planning.py

In the application itself, without a terminal. Writes benchmarks/out/planning.json.
"""

from __future__ import annotations

import asyncio
import json
import tempfile
import time
from pathlib import Path

from zinc_kettle.app.services import Services
from zinc_kettle.config import Places
from zinc_kettle.tui.app import KettleApp
from zinc_kettle.tui.screens.plan.screen import PlanScreen

OUT = Path(__file__).parent / "out" / "planning.json"
KEYS = 40
TEXT = """format = 1
name = "large"
question = "How large may a plan be?"
[vary]
threads = [{many}]
batch = [{more}]
[hold]
model = "brine-15m"
quantization = "Q8_0"
prompt_tokens = 128
"""


async def measure(count: int) -> dict[str, float]:
    """Milliseconds of each key that was typed, and seconds until a change was read whole."""
    home = Path(tempfile.mkdtemp())
    text = TEXT.format(many=", ".join(map(str, range(1, count + 1))), more=", ".join(map(str, range(32, 32 + count))))
    app = KettleApp(Services(Places(home, home / "kettle.db")))
    async with app.run_test(size=(142, 42)) as pilot:
        await pilot.pause(0.5)
        app.plan_from("nothing", {})
        await pilot.pause(0.5)
        screen = app.screen
        assert isinstance(screen, PlanScreen) and app.plan is not None
        screen.take_text(text)
        for _ in range(600):
            await pilot.pause(0.1)
            if screen._costs is not None:
                break
        screen.go_to(("vary", "threads"))
        await pilot.press("enter")
        keys = []
        for i in range(KEYS):
            began = time.perf_counter()
            await pilot.press("," if i % 3 == 0 else "2")
            keys.append((time.perf_counter() - began) * 1e3)
        await pilot.press("escape")
        began = time.perf_counter()
        screen.change(("repeats", "count"), 6)
        blocked = (time.perf_counter() - began) * 1e3
        while screen._costs is None and time.perf_counter() - began < 60:
            await pilot.pause(0.05)
        whole = time.perf_counter() - began
        cells = 0 if screen.checked.results is None else len(screen.checked.results.cells)
    keys.sort()
    return {
        "cells": cells,
        "key_p50_ms": keys[len(keys) // 2],
        "key_max_ms": keys[-1],
        "change_blocks_ms": blocked,
        "change_whole_s": whole,
    }


if __name__ == "__main__":
    small, large = asyncio.run(measure(2)), asyncio.run(measure(100))
    found = {**large, "key_beyond_small_ms": large["key_p50_ms"] - small["key_p50_ms"]}
    OUT.parent.mkdir(exist_ok=True)
    OUT.write_text(json.dumps(found, indent=1))
    print(json.dumps(found, indent=1))
