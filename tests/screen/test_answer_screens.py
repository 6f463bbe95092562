"""Duel, Curves and Lineup on the real screen, with the finished examples; and that commands say the same."""

from __future__ import annotations

import json
import re
from pathlib import Path

from tests.cli import kettle
from tests.screens import examples, open_app, opened

STUDY = "three-ways"


def told(home: Path, *words: str) -> dict[str, object]:
    """What a command says as JSON."""
    ran = kettle(home, *words, "--store", str(examples(home)), "--json")
    assert ran.returncode == 0, ran.stderr
    found: dict[str, object] = json.loads(ran.stdout)
    return found


def test_the_cells_stand_in_a_table(tmp_path: Path) -> None:
    """One key, and once more for other columns, as the command has them; enter leads to a cell's sheet."""
    with open_app(tmp_path) as t:
        opened(tmp_path, t)
        t.keys("n").wait("Usual", "prefill, client")
        page = t.keys("n").wait("Durations", "latency")
        shown = kettle(tmp_path, "show", STUDY, "--columns", "durations", "--store", str(examples(tmp_path))).stdout
        first = re.search(r"load time\s+.*\n.*?6/6\s+(\S+ \S+)", shown)
        assert first is not None and first[1] in page
        t.keys("c").wait("The table is copied")
        t.keys("Enter").wait("Cell sheet")
        t.keys("q").wait_exit()


def test_duel_says_what_the_command_says(tmp_path: Path) -> None:
    """Sides chosen from a list, the verdict, a ladder, and out as files; the sentence is the command's."""
    with open_app(tmp_path) as t:
        opened(tmp_path, t)
        t.keys("5")
        t.wait("B is better", "the one thing: it is what made the difference", "decode, pair by pair")
        said = told(tmp_path, "duel", f"{STUDY}:1@quantization=F16", f"{STUDY}:1@quantization=Q4_0")
        t.wait(str(said["verdict"]))
        t.keys("v").wait("decode, prompt by prompt")
        t.keys("x").wait("A three-ways:1 Q4_0")
        t.keys("b").wait("Which is B?")
        t.keys("Q", "8", "_", "0").wait("every cell with Q8_0")
        t.keys("Enter").wait("B three-ways:1 Q8_0")
        t.keys("l").wait("next rung")
        t.keys("F", "1", "6").wait("every cell with F16")
        t.keys("Enter").wait("What did each change bring?")
        t.wait("The steps multiply to")
        t.keys("d").wait("Is B better than A")
        t.keys("m").wait("prefill, client")
        t.keys("c").wait("Copied")
        t.keys("e").wait("Exported")
        t.keys("l").wait("one change after the other")
        t.keys("Enter").wait("C Q4_0, 2 threads")
        t.keys("q").wait_exit()
    copied = (tmp_path / "exports" / "copied.txt").read_text()
    assert "B three-ways:1 Q8_0" in copied and "quantization Q4_0 → Q8_0" in copied
    assert {p.suffix for p in (tmp_path / "exports").glob("duel-*")} == {".svg", ".pdf"}


def test_curves_are_walked_zoomed_and_drawn(tmp_path: Path) -> None:
    """The kinds the data allow, a crosshair with values, a series hidden, others' figures over it, and out as files."""
    csv = tmp_path / "reported" / "osprey.csv"
    csv.parent.mkdir()
    head = "source,measure,value,rig,threads\n"
    csv.write_text(f"{head}harbour paper,decode,70,osprey,1\nharbour paper,decode,90,osprey,2\n")
    with open_app(tmp_path) as t:
        opened(tmp_path, t)
        t.keys("6")
        assert "frontier" not in t.wait("efficiency (% of ideal)", "wait over length")
        first = re.search(r"decode ([\d.]+)", t.wait("point 1 of")) or re.search("", "")
        t.keys("Right").wait("point 2 of")
        t.keys("h").wait("hidden:")
        t.keys("+").wait("zoomed to")
        t.keys("u").gone("zoomed to")
        t.keys("o").wait("osprey.csv")
        t.keys("Enter").wait("reported by harbour paper")
        t.keys("c").wait("Copied")
        t.keys("e").wait("Exported")
        t.keys("Down").wait("How does the wait grow")
        t.keys("Enter").wait("Cell sheet")
        t.keys("q").wait_exit()
    assert first is not None
    svg = next((tmp_path / "exports").glob("*scaling*.svg"))
    assert svg.stat().st_size > 5_000
    assert "series\tthreads\tdecode (tok/s)" in (tmp_path / "exports" / "copied.txt").read_text()


def test_lineup_ranks_and_leads_on(tmp_path: Path) -> None:
    """The command's order and figures, by another factor, an index, a duel of the best against the chosen one."""
    with open_app(tmp_path) as t:
        opened(tmp_path, t)
        t.keys("7")
        t.wait("leads with", "in each measure", "the rig, here")
        said = told(tmp_path, "lineup", STUDY, "--by", "quantization", "--measure", "decode")
        t.until(lambda page: str(said["verdict"]) in page.replace("\n", " "), "the command's verdict")
        t.keys("b").wait("by threads")
        t.keys("b").wait("by prompt tokens")
        t.keys("b").wait("by quantization")
        t.keys("Down").wait_re(r"▸ Q8_0")
        t.keys("i").wait("How many times as fast as Q8_0?")
        t.keys("i").wait("leads with")
        t.keys("d").wait("Is B better than A")
        t.keys("q").wait_exit()


def test_what_would_settle_a_duel_is_planned_by_one_key(tmp_path: Path) -> None:
    """An open verdict says how many repeats would settle it; the key adds them to the run of both sides, and only to
    them; what stood beside it leads back to the map."""
    with open_app(tmp_path) as t:
        opened(tmp_path, t)
        t.keys("5").wait("B is better")
        t.keys("b").wait("Which is B?")
        t.keys("Q", "8", "_", "0").wait("every cell with Q8_0")
        t.keys("Enter").wait("B three-ways:1 Q8_0")
        page = t.wait_re(r"to settle it: about \d+ more repeats of each")
        found = re.search(r"about (\d+) more repeats", page)
        assert found is not None
        t.keys("+").wait("of each side planned")
        t.keys("Enter").wait("stopped, r continues")
        t.wait(f"72 of {72 + 8 * int(found[1])} repeats")
        t.keys("q").wait_exit()
