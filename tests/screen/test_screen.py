"""The real screen with the real engine, driven by keys and mouse."""

from __future__ import annotations

import json
import os
import re
import shutil
import signal
import sys
from collections.abc import Iterator
from pathlib import Path

import psutil
import pytest

from tests.cli import gone, kettle, study_file
from tests.screen.term import Term
from tests.screens import COMMAND, open_app, own_home
from zinc_kettle.store.reading import shelf
from zinc_kettle.store.store import KettleStore


def test_from_the_shelf_to_an_export_and_out(home: Path, tmp_path: Path) -> None:
    """Start, open, run, watch it fill, open a cell, write a note, export, quit: nothing lost."""
    mine = own_home(home, tmp_path)
    with open_app(mine) as t:
        t.wait("1 ready to run")
        t.keys("Enter").wait("r measures it on this machine", "○ planned", "15.7 MB", "0 of 4 repeats")
        t.keys("r")
        t.wait_re(r"block \d of 2")
        t.wait("◐")
        t.wait("4 of 4 repeats", "tok/s", "Q8_0", "Q4_0", "Measured.")
        t.keys("Right", "Enter")
        t.wait("Cell sheet", "prefill, engine", "cell 2 of 2", "repeats, decode", "cautions")
        t.keys("w").wait("a note on this cell")
        t.keys("f", "o", "g", "Enter")
        t.wait_re(r"notes\s*\n[^\n]*fog")
        t.keys("a").wait("is no worry here")  # which caution comes first is for the machine to say
        t.keys("s", "o", "Enter")
        t.wait("acknowledged: so")
        t.keys("p")
        t.wait("cell 1 of 2")
        t.gone("fog")
        t.keys("Escape").gone("Cell sheet")
        t.keys("v").wait("What did they write?")
        t.keys("Tab", "f").wait("marked fine")
        t.keys("f").gone("marked fine")
        t.keys("Escape").gone("What did they write?")
        t.keys("m")
        t.wait("prefill, client, tok/s")
        t.keys("e")
        t.wait("Exported 6 charts")
        t.keys("q")
        assert t.wait_exit() == 0
    written = sorted(p.suffix for p in (mine / "exports").iterdir())
    assert written == [".pdf"] * 3 + [".svg"] * 3
    again = kettle(mine, "run", mine / "studies" / "quick.study.toml")
    assert again.returncode == 0
    assert [run.state for run in shelf(KettleStore(mine / "kettle.db"))[0].runs] == ["measured", "measured"]


def test_stop_quit_and_go_on(home: Path, tmp_path: Path) -> None:
    """Stopped on the screen, left while running, gone on later: no repeat twice, no engine left."""
    mine = own_home(home, tmp_path, count=6, output=64)
    with open_app(mine) as t:
        t.wait("1 ready to run")
        t.keys("Enter").wait("r measures it on this machine")
        t.keys("r").wait_re(r"[1-9] of 12 repeats")
        t.keys("s").wait("stopped, r continues")
        t.keys("r").wait("running,")
        t.wait_re(r"[2-9] of 12 repeats")
        children = psutil.Process(t.pid).children(recursive=True)
        t.keys("q")
        assert t.wait_exit() == 0
        assert gone(children, 5)
    ((row,),) = (study.runs for study in shelf(KettleStore(mine / "kettle.db")))
    assert row.state == "stopped" and row.repeats_done >= 2
    rest = kettle(mine, "run", mine / "studies" / "quick.study.toml")
    assert f"{row.repeats_done} of them kept" in rest.stderr


def test_a_run_is_steered_here_and_from_another_terminal(home: Path, tmp_path: Path) -> None:
    """Paused, a cell dropped, a wrong level refused, two more repeats; gone on from elsewhere, measured, and told."""
    mine = own_home(home, tmp_path, count=3, output=64)
    with open_app(mine) as t:
        t.wait("1 ready to run")
        t.keys("Enter").wait("r measures it on this machine")
        t.keys("r").wait_re(r"[1-9] of 6 repeats")
        t.keys("p").wait("Paused.")
        t.wait("· paused")
        t.keys("Right", "d").wait("Skipped: quantization Q4_0")
        t.keys("Left", "+").wait("2 more repeats: quantization Q8_0")
        t.keys("a").wait("a new level, such as quantization=Q4_0")
        t.keys("t", "h", "r", "e", "a", "d", "s", "Enter").wait("names no level")
        for words, code in ((("rest", ""), 2), (("skip", "quantization=F16"), 2), (("resume", ""), 0)):
            assert kettle(mine, "steer", "quick", *filter(None, words)).returncode == code
        t.wait("Measured.", "skipped", "Decided while it ran")
        t.keys("q")
        assert t.wait_exit() == 0
    shown = kettle(mine, "show", "quick", "--json").stdout
    told = {r["cell"]["quantization"]: r for r in map(json.loads, shown.splitlines())}
    assert told["Q8_0"]["repeats"]["done"] == 5 and told["Q4_0"]["state"] == "skipped" and told["Q4_0"]["skipped"]


def test_a_killed_screen_leaves_nothing(home: Path, tmp_path: Path) -> None:
    """SIGKILL while it measures: engine and driver are gone within five seconds."""
    mine = own_home(home, tmp_path, count=6, output=64)
    with open_app(mine) as t:
        t.wait("1 ready to run")
        t.keys("Enter").wait("r measures it on this machine")
        t.keys("r").wait_re(r"[1-9] of 12 repeats")
        tool = psutil.Process(t.pid)
        children = tool.children(recursive=True)
        assert children
        tool.kill()
        assert gone(children, 5)


FAULTY = """
from zinc_kettle.cli.entry import main
from zinc_kettle.tui.screens.map.screen import MapScreen

def broken(self):
    raise KeyError("a mistake of ours")

MapScreen.action_next_measure = broken
main()
"""


def test_an_error_of_the_screen_leaves_the_run(home: Path, tmp_path: Path) -> None:
    """A short message in place of a traceback; the run continues, and the details are in the log."""
    mine = own_home(home, tmp_path, count=4, output=64)
    with Term([sys.executable, "-c", FAULTY], env={"ZINC_KETTLE_HOME": str(mine)}) as t:
        t.wait("1 ready to run")
        t.keys("Enter").wait("r measures it on this machine")
        t.keys("r").wait_re(r"[1-9] of 8 repeats")
        t.keys("m")
        told = t.wait("The screen was restarted", "KeyError: 'a mistake of ours'", "The run continues.")
        assert "Traceback" not in told
        t.wait("8 of 8 repeats")
        t.keys("q")
        assert t.wait_exit() == 0
    assert "broken" in (mine / "zinc-kettle.log").read_text()


@pytest.fixture(scope="module")
def finished(home: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    """A data folder with a measured study and a broken study file."""
    folder = tmp_path_factory.mktemp("finished")
    mine = own_home(home, folder)
    ran = kettle(mine, "run", study_file(folder))
    assert ran.returncode == 0, ran.stderr
    (mine / "studies" / "broken.study.toml").write_text("format = 1\nname = 'x'\n")
    yield mine
    shutil.rmtree(folder)


def test_help_palette_theme_mouse_and_resize(finished: Path) -> None:
    """One app: explanation, command palette, both themes, clicks, a small terminal and back."""
    with open_app(finished) as t:
        t.wait("1 measured or begun, 1 ready to run", "not usable", "question is missing")
        t.keys("?").wait("escape closes this")
        t.keys("Escape").gone("escape closes this")
        t.keys("Home", "Enter")
        shown = t.until(lambda s: "4 of 4 repeats" in s and "▌" in s, "the map with its cursor")
        dark = t.text(colours=True)
        t.keys("t")
        t.until(lambda _s: t.text(colours=True) != dark, "the light theme")
        t.wait("tok/s")
        # Where the cells are named, not where the answer or a finding names them.
        both = ("▌", "Q8_0", "Q4_0")
        row, line = next((i, line) for i, line in enumerate(shown.splitlines()) if all(w in line for w in both))
        first_cell = line.index("Q8_0")
        at = line.index("▌")
        t.keys("Right")
        t.until(lambda s: s.splitlines()[row].find("▌") > first_cell, "the cursor on the second cell")
        t.click(row, first_cell)
        t.until(lambda s: s.splitlines()[row].find("▌") == at, "the cursor on the first cell")
        t.click(row, first_cell)
        t.wait("cell 1 of 2")
        t.keys("Escape").gone("Cell sheet")
        t.resize(100, 30)
        wanted = ("Q8_0", "Q4_0", "tok/s", "4 of 4 repeats ━", "quit")
        small = t.until(lambda s: len(s.splitlines()) <= 30 and all(w in s for w in wanted), "the small screen")
        assert all(len(line) <= 100 for line in small.splitlines())
        t.keys("0").wait("1 measured or begun")
        t.keys("C-p").wait("Search for commands")
        t.keys("Escape").gone("Search for commands")
        t.keys("q")
        assert t.wait_exit() == 0


def test_a_broken_study_file_is_explained(finished: Path) -> None:
    """Choosing it says what is wrong, and the screen goes on."""
    with open_app(finished) as t:
        t.wait("not usable")
        t.keys("Home", "Down", "Enter")
        t.wait("cannot be used")
        t.keys("4").wait("Open a study on the shelf first")
        t.keys("q")
        assert t.wait_exit() == 0


def test_small_terminal_from_the_start(finished: Path) -> None:
    """100 by 30: nothing of the map and the sheet is cut that matters."""
    with open_app(finished, columns=100, rows=30) as t:
        t.wait("1 measured or begun")
        t.keys("Home", "Enter")
        wanted = ("Q8_0", "Q4_0", "tok/s", "4 of 4 repeats ━", "quit")
        t.until(lambda s: all(w in s for w in wanted), "the whole map")
        t.keys("Enter").wait("cell 1 of 2", "tok/s decode", "cautions")


def test_without_colours_states_still_have_words(finished: Path) -> None:
    """NO_COLOR: marks and words carry the state."""
    with open_app(finished, NO_COLOR="1") as t:
        t.wait("1 measured or begun")
        t.keys("Home", "Enter")
        t.wait("4 of 4 repeats")
        seen = t.text(colours=True)
        colours = [tuple(found.split(";")) for found in re.findall(r"[34]8;2;(\d+;\d+;\d+)", seen)]
        assert colours and all(red == green == blue for red, green, blue in colours)


def test_an_empty_shelf_says_what_to_do(tmp_path: Path) -> None:
    """The very first start."""
    with open_app(tmp_path / "new") as t:
        t.wait("10 finished examples", "EXAMPLE", "m finds the model files")
        t.keys("Enter").wait("24 of 24 repeats")
        t.keys("q")
        assert t.wait_exit() == 0


def test_a_store_that_cannot_be_opened_is_said(tmp_path: Path) -> None:
    """On the shelf, in a sentence, with what to try."""
    bad = tmp_path / "bad.db"
    bad.write_text("a letter, not a database" * 100)
    env = {"ZINC_KETTLE_HOME": str(tmp_path), **{k: v for k, v in os.environ.items() if k == "PATH"}}
    with Term([*COMMAND, "--store", str(bad)], env=env) as t:
        t.wait("The shelf cannot be read", "--store PATH")
        t.keys("q")
        assert t.wait_exit() == 0


@pytest.mark.parametrize("number", [signal.SIGTERM, signal.SIGHUP])
def test_a_signal_gives_the_terminal_back(home: Path, tmp_path: Path, number: int) -> None:
    """As a shell finds it: not on the alternate screen, no reports of the mouse, with the status of the signal."""
    shell = ["sh", "-c", f"{' '.join(COMMAND)}; echo ended with $?; sleep 60"]
    with Term(shell, env={"ZINC_KETTLE_HOME": str(own_home(home, tmp_path))}) as t:
        t.wait("1 ready to run")
        assert t.modes() == "1 1"
        tool = next(p for p in psutil.Process(t.pid).children(recursive=True) if "zinc_kettle" in " ".join(p.cmdline()))
        tool.send_signal(number)
        t.wait(f"ended with {128 + number}")
        assert t.modes() == "0 0" and "Traceback" not in t.text()
