"""Whatever a person presses, clicks or resizes, however far ahead they type, the screen stays up, and a run goes on."""

from __future__ import annotations

import asyncio
import contextlib
import os
import random
import shutil
from pathlib import Path
from typing import Any

import pytest
from textual import events
from textual.command import CommandList
from textual.errors import NoWidget
from textual.geometry import Offset
from textual.pilot import OutOfBounds, Pilot
from textual.widget import Widget
from textual.widgets import Static

from zinc_kettle.app.services import Services
from zinc_kettle.config import DEMO_FILES, SAMPLE_STORE, Places, demo_studies
from zinc_kettle.tui.app import KettleApp
from zinc_kettle.tui.chooser import Choice, Chooser
from zinc_kettle.tui.palette import Palette
from zinc_kettle.tui.station import Station

KEYS = (
    "0",
    "1",
    "2",
    "3",
    "4",
    "5",
    "6",
    "7",
    "8",
    "9",
    "enter",
    "escape",
    "up",
    "down",
    "left",
    "right",
    "tab",
    "shift+tab",
    "pageup",
    "pagedown",
    "home",
    "end",
    "m",
    "x",
    "n",
    "p",
    "w",
    "t",
    "c",
    "b",
    "l",
    "v",
    "question_mark",
    "slash",
    "plus",
    "minus",
    "f5",
    "s",
    "k",
    "space",
    "backspace",
    "ctrl+p",
    "a",
)
SIZES = ((1, 1), (2, 2), (3, 40), (200, 1), (10, 5), (20, 8), (40, 12), (100, 30), (142, 42), (500, 200))
STEPS = 50
SEEDS = range(int(os.environ.get("MONKEY_SEEDS", "2")))
"""`make bench-monkeys` has a hundred of them, beside busy loops."""


async def play(pilot: Pilot[int], rng: random.Random, *, resize: bool = True) -> list[str]:
    """So many random acts, some of them keys typed ahead; what was done, so that a failure can be played again."""
    done: list[str] = []
    for _ in range(STEPS):
        kind = rng.random()
        if kind < 0.55:
            key = rng.choice(KEYS)
            done.append(key)
            await pilot.press(key)
        elif kind < 0.8:
            ahead = [rng.choice(KEYS) for _ in range(rng.randrange(2, 9))]
            done.append("ahead " + " ".join(ahead))
            for key in ahead:
                pilot.app.post_message(events.Key(key, key if len(key) == 1 else None))
            await asyncio.sleep(rng.random() * 0.02)
        elif kind < 0.9 and resize:
            size = rng.choice(SIZES)
            done.append(f"{size[0]}x{size[1]}")
            await pilot.resize_terminal(*size)
        else:
            width, height = pilot.app.size
            at = (rng.randrange(max(1, width)), rng.randrange(max(1, height)))
            done.append(f"click {at}")
            with contextlib.suppress(OutOfBounds, NoWidget):  # the pilot itself looks at what is not drawn yet
                await pilot.click(offset=at)
    return done


@pytest.fixture
def slow(monkeypatch: pytest.MonkeyPatch, request: pytest.FixtureRequest) -> None:
    """Stations take their time to be put together, as they do where others have the processor."""
    rng = random.Random(str(request.node.name))
    whole = Station.mount_composed_widgets

    async def slowly(self: Station, widgets: list[Widget]) -> None:
        await asyncio.sleep(rng.random() * 0.1)
        await whole(self, widgets)

    monkeypatch.setattr(Station, "mount_composed_widgets", slowly)


def desk_in(folder: Path) -> Services:
    """The demo's finished studies, in a data folder of their own."""
    store = folder / "demo" / "kettle.db"
    store.parent.mkdir()
    shutil.copyfile(DEMO_FILES / SAMPLE_STORE, store)
    return Services(Places(folder, store, demo=True), extra_studies=demo_studies())


@pytest.mark.parametrize("seed", SEEDS)
async def test_random_keys_clicks_and_sizes(tmp_path: Path, slow: None, seed: int) -> None:
    """From 1 by 1 to 500 by 200 characters, on every station, without a run: no error, and nothing in the log."""
    app = KettleApp(desk_in(tmp_path))
    rng = random.Random(seed)
    async with app.run_test(size=rng.choice(SIZES)) as pilot:
        await pilot.pause()
        done = await play(pilot, rng)
        assert app.return_code is None and not any(app.screen.scrollbars_enabled), done
    assert not (tmp_path / "zinc-kettle.log").exists(), (done, (tmp_path / "zinc-kettle.log").read_text())


async def test_a_click_on_what_is_going_away_selects_nothing(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A widget that has left its parent may still be drawn when the click comes."""
    app = KettleApp(desk_in(tmp_path))
    async with app.run_test(size=(142, 42)) as pilot:
        await pilot.pause()
        screen = app.screen
        monkeypatch.setattr(screen._compositor, "get_widget_and_offset_at", lambda x, y: (Static(), Offset(0, 0)))
        await pilot.click(offset=(20, 20))
        assert app.return_code is None and screen.get_widget_and_offset_at(20, 20) == (None, None)


async def test_a_question_is_answered_once(tmp_path: Path) -> None:
    """Of two keys typed ahead the first has answered, and the second finds nothing to answer."""
    app = KettleApp(desk_in(tmp_path))
    async with app.run_test(size=(142, 42)) as pilot:
        await pilot.pause()
        question = Chooser("which?", [Choice("a", "a", ""), Choice("b", "b", "")])

        async def ask() -> str | None:
            return await app.push_screen_wait(question)

        asking = app.run_worker(ask())
        while not question.query("#chooser-list") or app.focused is None:
            await pilot.pause()
        question.dismiss("a")
        question.dismiss(None)
        assert await asking.wait() == "a" and app.return_code is None


@pytest.mark.parametrize("turns", range(6))
async def test_the_tool_may_be_left_while_a_question_is_put_together(tmp_path: Path, turns: int) -> None:
    """Whatever it looks for among its widgets then is no error."""
    app = KettleApp(desk_in(tmp_path))
    async with app.run_test(size=(142, 42)) as pilot:
        await pilot.pause()
        app.push_screen(Chooser("which?", [Choice("a", "a", "")]))
        for _ in range(turns):
            await asyncio.sleep(0)
    assert app.return_code in {None, 0}


async def test_a_palette_that_is_going_away_has_nothing_to_show(tmp_path: Path) -> None:
    """Its countdown to *no matches* may end while its list is taken away."""
    app = KettleApp(desk_in(tmp_path))
    async with app.run_test(size=(142, 42)) as pilot:
        await pilot.pause()
        app.action_command_palette()
        await pilot.pause()
        palette = app.screen
        assert isinstance(palette, Palette)
        ended = asyncio.Event()
        palette.set_timer(0.01, ended.set)
        await asyncio.wait_for(ended.wait(), 30)
        left: list[object] = []
        palette.set_timer(0.05, lambda: left.append(palette.query_one(CommandList)))
        await palette.query(CommandList).remove()
        gone = asyncio.Event()
        app.set_timer(0.5, gone.set)
        await asyncio.wait_for(gone.wait(), 30)
        assert not left and app.return_code is None


class Endless:
    """A run that tells of itself for as long as it is let."""

    def __init__(self, study: Any, emit: Any) -> None:
        self._study, self._emit = study, emit
        self.told = 0

    async def run(self) -> Any:
        from zinc_kettle.core.record.telemetry import Latest
        from zinc_kettle.session import progress as p
        from zinc_kettle.wire.messages import LiveStream, Tick

        cells = [cell.key for cell in self._study.cells]
        while True:
            cell = cells[self.told % len(cells)]
            self._emit(p.Loading(cell, 0))
            tick = Tick("e", [LiveStream(0, "r", "decode", 3, 9.0, "bada")], 0, 1)
            self._emit(p.Live(cell, 0, False, tick, Latest(1 << 20, 0.5)))
            self._emit(p.Progress(self.told % 9, 9, 60.0))
            self.told += 1
            await asyncio.sleep(0.01)


@pytest.mark.parametrize("seed", SEEDS)
async def test_keys_typed_ahead_while_a_study_is_measured(
    tmp_path: Path, slow: None, seed: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The run never ends by anything but the keys that stop it, and these are not among them."""
    services = desk_in(tmp_path)
    runs: list[Endless] = []

    def endless(results: Any, emit: Any) -> Endless:
        runs.append(Endless(results.study, emit))
        return runs[-1]

    monkeypatch.setattr(services.studies, "experiment", endless)
    monkeypatch.setattr("tests.screen.test_monkey.KEYS", tuple(k for k in KEYS if k not in {"s", "b", "p", "k"}))
    app = KettleApp(services)
    rng = random.Random(1_000 + seed)
    async with app.run_test(size=(142, 42)) as pilot:
        await pilot.pause()
        app.open_study(next(entry for entry in services.studies.shelf() if len(entry.runs) and not entry.simulated))
        app.start_run()
        done = await play(pilot, rng)
        assert app.return_code is None and app.runner.active, done
        told = runs[-1].told
        while runs[-1].told < told + 3:  # it still goes on
            await asyncio.sleep(0.01)
        await app.runner.stopped(5)
    assert not (tmp_path / "zinc-kettle.log").exists(), done
