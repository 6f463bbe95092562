"""The first session: what was measured a moment ago is there in every station, in whichever order one goes to them."""

from __future__ import annotations

import itertools
import shutil
from pathlib import Path

import pytest
from textual.widgets import Input

from tests.cli import kettle
from tests.screen.piloting import settled, shown_text
from zinc_kettle.app.services import Services
from zinc_kettle.config import DEMO_FILES, SAMPLE_STORE, Places
from zinc_kettle.core.report import ReportPart, ReportPlan
from zinc_kettle.tui.app import KettleApp
from zinc_kettle.tui.screens.lineup.screen import LineupScreen
from zinc_kettle.tui.screens.shelf.screen import ShelfScreen
from zinc_kettle.tui.station import UNFORESEEN, Station
from zinc_kettle.tui.stations import STATIONS
from zinc_kettle.tui.theme import DARK

STUDY = """format = 1
name = "which-machine"
question = "Which machine?"
[vary]
rig = ["gannet", "petrel"]
[hold]
model = "brine-1b"
quantization = "Q4_0"
context = 256
prompt_tokens = 32
output_tokens = 8
[repeats]
count = 2
requests = 1
"""
KEYS = "12345678"
ORDERS = {*itertools.permutations("45678", 2), *itertools.product("123", "4"), *itertools.product("4", "123")}
"""Every one after every other of those that show what was measured; the others before and after the map."""


def begun(folder: Path) -> tuple[Places, Path]:
    """A data folder with rigs and a study file."""
    (folder / "rigs.toml").write_text('format = 1\n[gannet]\nreach = "rehearsal"\n[petrel]\nreach = "rehearsal"\n')
    file = folder / "studies" / "which-machine.study.toml"
    file.parent.mkdir()
    file.write_text(STUDY)
    return Places(folder, folder / "kettle.db"), file


@pytest.fixture
async def first(tmp_path: Path) -> Services:
    """A person's tool that was looked at while nothing was measured yet, and has measured one study since."""
    places, file = begun(tmp_path)
    made = Services(places)
    assert [entry.example for entry in made.studies.shelf()].count(True) > 3
    entry = next(entry for entry in made.studies.shelf() if entry.file == file)
    await made.studies.experiment(made.studies.open(entry), lambda _event: None).run()
    return made


@pytest.fixture(scope="module")
def measured(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A data folder in which the study was measured."""
    folder = tmp_path_factory.mktemp("measured")
    assert kettle(folder, "run", begun(folder)[1]).returncode == 0
    return folder


@pytest.fixture
def services(measured: Path, tmp_path: Path) -> Services:
    """A person's tool beside what was measured before."""
    shutil.copytree(measured, tmp_path, dirs_exist_ok=True)
    return Services(Places(tmp_path, tmp_path / "kettle.db"))


async def test_every_station_shows_the_first_run_in_every_order(first: Services) -> None:
    """From each to each, as often as that may matter; none asks for a study that is there."""
    app = KettleApp(first)
    async with app.run_test(size=(142, 42)) as pilot:
        await pilot.pause()
        app.open_study(next(entry for entry in first.studies.shelf() if entry.runs))
        left, at = set(ORDERS), "4"
        while left:
            # From where one is to a station not gone to from there, as long as there is one.
            at_next = next((then for first, then in sorted(left) if first == at), None) or sorted(left)[0][0]
            left.discard((at, at_next))
            await pilot.press(at_next)
            await settled(pilot)
            text = shown_text(app)
            wrong = [words for words in ("there is no study", "✕ there", "Reading …") if words in text]
            assert not wrong, (at, at_next, text)
            at = at_next
    assert {station.key for station in STATIONS} >= set(KEYS)


WAYS = (
    ("4", "map shelf"),
    ("4 6", "curves map shelf"),
    ("4 7 8 2", "fit report lineup map shelf"),
    ("4 enter 1", "rigs map shelf"),
    ("4 enter", "cell map shelf"),
    ("4 5 0 2", "fit shelf"),
)
"""Keys, and the stations that escape then leads through."""


async def test_escape_goes_back_where_one_came_from(services: Services) -> None:
    """Through every station on the way, each once; from the shelf on nothing is remembered of what was before."""
    for keys, wanted in WAYS:
        app = KettleApp(services)
        async with app.run_test(size=(142, 42)) as pilot:
            await pilot.pause()
            app.open_study(next(entry for entry in services.studies.shelf() if entry.runs))
            await settled(pilot)
            for key in keys.split():
                await pilot.press(key)
                await settled(pilot)
            seen = []
            for _ in wanted.split():
                seen.append(next(kind.name for kind in STATIONS if kind.screen == type(app.screen).__name__))
                await pilot.press("escape")
                await settled(pilot)
            assert " ".join(seen) == wanted, keys


async def test_words_typed_before_the_shelf_is_read_stay_words(services: Services) -> None:
    """They narrow the list, and none of them is taken for a key."""
    app = KettleApp(services)
    async with app.run_test(size=(142, 42)) as pilot:
        await pilot.press("slash", *"dt")
        shelf = app.screen
        assert isinstance(shelf, ShelfScreen)
        shelf.action_reload()
        await pilot.press(*"u")
        await settled(pilot)
        line = app.focused
        assert isinstance(line, Input) and line.value == "dtu" and app.theme == DARK.name
    assert len(next(entry for entry in services.studies.shelf() if entry.runs).runs) == 1


async def test_names_are_looked_up_in_ones_own_store_before_the_examples(first: Services) -> None:
    """For comparisons and reports; what only the examples have is found there."""
    comparisons = first.comparisons
    assert comparisons.side("which-machine", None).results.study.name == "which-machine"
    assert comparisons.side("whole-office", None).results.study.name == "whole-office"
    plan = ReportPlan(parts=(ReportPart("study", ("which-machine",)),))
    assert first.exports.document(plan, None).title == "Which machine?"
    written = await comparisons.beside(["show", "which-machine", "--json"])
    assert written


BREAKS = {
    "1": ("rigs", "rigs.gather"),
    "2": ("fit", "rigs.ready"),
    "5": ("duel", "comparisons.side"),
    "6": ("curves", "comparisons.chart_subject"),
    "7": ("lineup", "comparisons.entrants"),
    "8": ("report", "exports.document"),
}
"""The key of each station that works beside the screen, and what it asks then."""


@pytest.mark.parametrize("key", BREAKS)
async def test_work_that_fails_unexpectedly_is_shown_and_written_down(
    services: Services, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, key: str
) -> None:
    """A sentence stands where the result was to be, the trace is in the log, and the screen goes on."""
    name, asked = BREAKS[key]
    at: object = services
    for part in asked.split(".")[:-1]:
        at = getattr(at, part)

    def broken(*_given: object, **_more: object) -> None:
        raise ZeroDivisionError("seven by nought")

    app = KettleApp(services)
    async with app.run_test(size=(142, 42)) as pilot:
        await pilot.pause()
        app.open_study(next(entry for entry in services.studies.shelf() if entry.runs))
        await settled(pilot)
        monkeypatch.setattr(at, asked.rpartition(".")[2], broken)
        await pilot.press(key)
        await settled(pilot)
        assert isinstance(app.screen, Station)
        text = shown_text(app)
        assert "seven by nought" in text and UNFORESEEN in text and "Reading …" not in text, (name, text)
        assert app.return_code is None
    assert "ZeroDivisionError" in (tmp_path / "zinc-kettle.log").read_text()


async def test_a_missing_price_is_typed_in_where_it_is_missed(tmp_path: Path) -> None:
    """Per price nothing can be ranked: the ranking is by the measure alone, until the prices are there."""
    (tmp_path / "rigs.toml").write_text('format = 1\n[storm-tern]\nreach = "url"\nurl = "http://127.0.0.1:9"\n')
    shutil.copyfile(DEMO_FILES / SAMPLE_STORE, tmp_path / "kettle.db")
    app = KettleApp(Services(Places(tmp_path, tmp_path / "kettle.db")))
    entry = next(e for e in app.services.studies.shelf() if "Which rig" in e.question)
    app.runner.results = app.services.studies.open(entry)
    async with app.run_test(size=(142, 42)) as pilot:
        await pilot.press("7")
        await settled(pilot)
        await pilot.press("p")
        await settled(pilot)
        station = app.screen
        assert isinstance(station, LineupScreen) and station.result is not None and station.result.found is not None
        assert station.result.found.asked == "price" and station.result.found.groups
        assert [left.needs for left in station.result.found.left] == ["price"] * 4
        await pilot.press("w", *"200")
        await settled(pilot)
        await pilot.press("enter")
        await settled(pilot)
        found = station.result.found
        assert not found.asked and [p.entrant.name for g in found.groups for p in g.places] == ["storm-tern"]
        await pilot.press("w", "escape")
        await settled(pilot)
        assert not station.query_one("#line").display and app.screen is station


async def test_what_is_said_keeps_its_brackets(first: Services) -> None:
    """Names and texts of people are no markup, whoever says them."""
    app = KettleApp(first)
    async with app.run_test(size=(100, 30), notifications=True) as pilot:
        await settled(pilot)
        app.notify("there is no level [bold]x[/bold]", title="[red]")
        app.screen.notify("and none [y]")
        shown = ""
        for _ in range(100):
            await pilot.pause(0.05)
            shown = shown_text(app)
            if "and none [y]" in shown:
                break
    assert "[bold]x[/bold]" in shown and "[red]" in shown and "and none [y]" in shown, shown
