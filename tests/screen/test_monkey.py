"""Whatever a person presses, clicks or resizes, the screen stays up."""

from __future__ import annotations

import contextlib
import random
import shutil
from pathlib import Path

import pytest
from textual.pilot import OutOfBounds, Pilot

from zinc_kettle.config import DEMO_FILES, SAMPLE_STORE, Places, demo_studies
from zinc_kettle.tui.app import KettleApp
from zinc_kettle.wiring.desk import RealDesk

KEYS = (
    "0", "1", "2", "4", "enter", "escape", "up", "down", "left", "right", "tab", "shift+tab", "pageup", "pagedown",
    "home", "end", "m", "x", "n", "p", "w", "t", "question_mark", "f5", "s", "k", "space", "backspace", "ctrl+p", "a",
)  # fmt: skip
SIZES = ((1, 1), (2, 2), (3, 40), (200, 1), (10, 5), (20, 8), (40, 12), (100, 30), (142, 42), (500, 200))
STEPS = 70


async def play(pilot: Pilot[int], rng: random.Random) -> list[str]:
    """So many random acts; what was done, so that a failure can be played again."""
    done: list[str] = []
    for _ in range(STEPS):
        kind = rng.random()
        if kind < 0.8:
            key = rng.choice(KEYS)
            done.append(key)
            await pilot.press(key)
        elif kind < 0.9:
            size = rng.choice(SIZES)
            done.append(f"{size[0]}x{size[1]}")
            await pilot.resize_terminal(*size)
        else:
            width, height = pilot.app.size
            at = (rng.randrange(max(1, width)), rng.randrange(max(1, height)))
            done.append(f"click {at}")
            with contextlib.suppress(OutOfBounds):
                await pilot.click(offset=at)
    return done


@pytest.mark.parametrize("seed", range(4))
async def test_random_keys_clicks_and_sizes(tmp_path: Path, seed: int) -> None:
    """From 1 by 1 to 500 by 200 characters, on every station, without a run: no error, and q still ends it."""
    store = tmp_path / "demo" / "kettle.db"
    store.parent.mkdir()
    shutil.copyfile(DEMO_FILES / SAMPLE_STORE, store)
    app = KettleApp(RealDesk(Places(tmp_path, store, demo=True), extra_studies=demo_studies()))
    rng = random.Random(seed)
    async with app.run_test(size=rng.choice(SIZES)) as pilot:
        await pilot.pause()
        done = await play(pilot, rng)
        assert app.return_code is None, done
