"""The shelf's own conduct, the palette, and figures that explain themselves, on the real screen."""

from __future__ import annotations

from pathlib import Path

from tests.cli import kettle
from tests.screens import open_app, opened

STUDY = """format = 1
name = "{name}"
question = "{question}"
[vary]
concurrency = [1]
[hold]
rig = "gannet"
model = "brine-1b"
quantization = "Q8_0"
context = 256
prompt_tokens = 64
output_tokens = 8
[repeats]
count = 1
requests = 1
"""


def test_a_shelf_is_filtered_and_cleared_and_gives_back(tmp_path: Path) -> None:
    """Words narrow the list; a run is thrown away, a file too, and each comes back by one key."""
    (tmp_path / "rigs.toml").write_text('format = 1\n[gannet]\nreach = "rehearsal"\n')
    (tmp_path / "studies").mkdir()
    for name, question in (("first", "Which way is north?"), ("second", "Which way is south?")):
        (tmp_path / "studies" / f"{name}.study.toml").write_text(STUDY.format(name=name, question=question))
    assert kettle(tmp_path, "run", str(tmp_path / "studies" / "first.study.toml")).returncode == 0
    with open_app(tmp_path) as t:
        t.wait("Which way is south?", "1 measured or begun, 1 ready to run")
        t.keys("/").wait("words to look for")
        t.keys("south").wait("1 of 2 lines")
        assert "north" not in t.text()
        t.keys("west").wait("Nothing here has these words")
        t.keys("Escape").wait("Which way is north?")
        t.keys("/").wait("words to look for")
        t.keys("first.study.toml").wait("1 of 2 lines")  # found by what is not to be read in the line
        t.keys("Enter", "Enter").wait("1 of 1 repeats")  # to the list, and the study is open
        t.keys("0").wait("1 of 2 lines")
        t.keys("Escape").wait("Which way is south?")
        t.keys("d").wait("Thrown away")
        t.wait("0 measured or begun, 2 ready to run")
        t.keys("u").wait("Taken back: run 1 of: Which way is north?")
        t.wait("1 measured or begun")
        t.keys("Down").wait("open it and press r")
        t.keys("d").wait("The study file second.study.toml")
        t.keys("u").wait("Taken back: the study file")
        t.keys("q").wait_exit()
    assert (tmp_path / "studies" / "second.study.toml").is_file()


def test_every_list_is_narrowed_by_words(tmp_path: Path) -> None:
    """The same key on each station with a list; escape shows all of it again, and only then leaves the station."""
    with open_app(tmp_path) as t:
        opened(tmp_path, t)
        for key, there, words, shown, hidden in (
            ("7", "leads", "4_0", "Q4_0", "Q8_0"),
            ("6", "point 1 of", "latencies", "latencies", "decode over depth"),
        ):
            t.keys(key).wait(there)
            t.wait(hidden)
            t.keys("/").wait("words to look for")
            t.keys(words).gone(hidden)
            t.wait(shown)
            t.keys("Escape").wait(hidden)
        t.keys("Escape").wait("leads")
        t.keys("Escape").wait("◐ partly")
        t.keys("q").wait_exit()


def test_what_is_shown_is_copied(tmp_path: Path) -> None:
    """On each station by a key: what it says, as text that a sheet or a letter takes; also in a file."""
    copied = tmp_path / "exports" / "copied.txt"
    with open_app(tmp_path) as t:
        opened(tmp_path, t)
        for station, there, key, words in (
            ("4", "◐ partly", "Y", "F16\t1\t128\t● measured 6/6\t56 tok/s (48–59)"),
            ("3", "What exactly will be measured?", "c", "[vary]"),
            ("2", "What fits on this machine?", "c", "What fits on this machine?"),
            ("1", "hardware threads", "c", "hardware threads"),
            ("0", "finished examples", "c", "short and long prompts alike?\tQ4_0 · 2 threads is the fastest in decode"),
        ):
            t.keys(station).wait(there)
            t.keys(key)
            t.until(lambda _, w=words: copied.is_file() and w in copied.read_text(), f"copied on {station}")  # type: ignore[misc]
        t.keys("q").wait_exit()


def test_a_first_start_says_what_can_be_done(tmp_path: Path) -> None:
    """Nothing of the person's is there: the first page, what of the machine can be used, and on by one key; the next
    start begins on the shelf, where another key opens the page again."""
    home = tmp_path / "new"
    with open_app(home, newcomer=True) as t:
        t.wait("What comes first?")
        t.wait("kernel stamps", "▸ Measure a model of yours", "● data folder")
        t.keys("Down", "Enter").wait("What is the question?")
        t.keys("Escape").gone("What is the question?")
        t.keys("0").wait("finished examples")
        t.keys("q").wait_exit()
    with open_app(home, newcomer=True) as t:
        t.wait("finished examples")
        t.keys("b").wait("What comes first?")
        t.keys("Down", "Down", "Down", "Enter").wait("comfortable reading")
        t.keys("q").wait_exit()


def test_a_figure_explains_itself_and_the_palette_finds_by_name(tmp_path: Path) -> None:
    """`?` on the map: the measure, the figure of the selected cell, how it is made; in the palette a study and a
    measure by some of their words."""
    with open_app(tmp_path) as t:
        opened(tmp_path, t)
        t.keys("?").wait(
            "How it is made: computed for each repeat",
            "56 tok/s (48–59), from 6 repeats",
            "Tokens of one stream after the first chunk",
        )
        t.keys("Escape").gone("How it is made")
        t.keys("C-p").wait("Search for commands")
        t.keys("explain share of the").wait("explain: share of the limit")
        t.keys("Enter").wait("Mistakes to avoid")
        t.keys("Escape").gone("Mistakes to avoid")
        t.keys("C-p").wait("Search for commands")
        t.keys("study pasted").wait("study: How long does the office wait")
        t.keys("Enter").gone("study: How long does the office wait")
        t.wait("How long does the office wait until a pasted harbour log is read?")
        t.keys("q").wait_exit()


def test_a_screen_leaves_nothing_of_the_one_before(tmp_path: Path) -> None:
    """From the map to a cell sheet: the line between its head and its columns is empty, where the map had its headings;
    and back, with the map as it was."""
    with open_app(tmp_path) as t:
        headings = opened(tmp_path, t).splitlines()[5]
        assert headings.strip()
        t.keys("Enter").wait("Cell sheet", "repeats, decode")
        t.until(lambda page: not page.splitlines()[5].strip(), "nothing of the map is left")
        t.keys("Escape").until(lambda page: page.splitlines()[5] == headings, "the map as it was")
        t.keys("q").wait_exit()


def test_settings_are_changed_on_the_screen_and_kept(tmp_path: Path) -> None:
    """A figure typed in, the light theme chosen; the next start looks like it, and the command says so, too."""
    with open_app(tmp_path) as t:
        t.wait("example")
        t.keys(",").wait("What is set, and where is that from?")
        t.wait("comfortable reading", str(tmp_path))
        t.keys("Enter").wait("empty restores the default")
        t.keys("7.5").wait("7.5")
        t.keys("Enter").wait("7.50 tok/s")
        t.keys("Enter").wait("empty restores the default")
        t.keys("fast").wait("fast")
        t.keys("Enter").wait("'fast' is no number")
        t.keys(*["Down"] * 7).wait("dark or light")
        t.keys("Enter").wait("type to search")
        t.keys("light").wait("light")
        t.keys("Enter").gone("type to search")
        t.wait("light ")
        t.keys("Escape").wait("example")
        t.keys("q").wait_exit()
    said = kettle(tmp_path, "settings").stdout
    assert "7.50 tok/s" in said and "light" in said and "preferences.toml" in said
    with open_app(tmp_path) as t:
        t.wait("example")
        assert "48;2;243;245;246" in t.text(colours=True)  # the paper of the light theme
        t.keys("q").wait_exit()
