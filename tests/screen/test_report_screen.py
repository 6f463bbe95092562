"""Report on the real screen: sections, own words, files; and somebody else's bundle on the shelf."""

from __future__ import annotations

from pathlib import Path

from tests.cli import kettle
from tests.screen.term import Term
from tests.screens import examples, open_app, opened


def test_a_report_is_put_together_and_handed_on(tmp_path: Path) -> None:
    """A section out, own words, a lineup more; written in three formats, as a table and as a bundle; and all of it is
    there the next day."""
    with open_app(tmp_path) as t:
        opened(tmp_path, t)
        t.keys("8").wait("Bounds are 95% intervals")
        t.keys("Down").wait("▸ ☑ Map")
        t.keys("Space").wait("▸ ☐ Map")
        t.keys("Up").wait("▸ ☑ Answer")
        t.keys("w").wait("Your own words: Answer")
        t.keys("We take **Q4_0**.").wait("We take **Q4_0**.")
        t.keys("C-s").wait("✎ own words")
        t.wait("┃ We take Q4_0.")
        t.keys("i").wait("the report's title")
        t.keys("For the office").wait("For the office")
        t.keys("Enter")
        t.until(lambda page: "the report's title" not in page and "For the office" in page, "the title is kept")
        t.keys("a").wait("to tell of, too?")
        t.keys("lineup of").wait("the levels of its first factor")
        t.keys("Enter").wait("Lineup in decode")
        t.keys("e").wait("Wrote three-ways.html, three-ways.md, three-ways.pdf")
        t.keys("x").wait("A table of what")
        t.keys("repeats, par").wait("repeats, parquet")
        t.keys("Enter").wait("three-ways-1-repeats.parquet")
        t.keys("b").wait("What goes into the bundle?")
        t.keys("without answers").wait("what the engines wrote")
        t.keys("Enter").wait("three-ways-1.kettle")
        t.keys("q").wait_exit()
    page = (tmp_path / "exports" / "three-ways.html").read_text(encoding="utf-8")
    assert "<title>For the office</title>" in page and "<strong>Q4_0</strong>" in page and ">Map<" not in page
    kept = (tmp_path / "reports" / "three-ways.report.toml").read_text(encoding="utf-8")
    assert 'leave_out = ["three-ways/map"]' in kept and "lineup" in kept
    with open_app(tmp_path) as t:
        opened(tmp_path, t)
        t.keys("8").wait("┃ We take Q4_0.")
        t.keys("q").wait_exit()


def test_somebody_elses_run_is_shown_compared_and_not_measured_on(tmp_path: Path) -> None:
    """Packed, unpacked under a name, on the shelf with that name; a side of a duel; r says whose it is."""
    with open_app(tmp_path) as t:  # the first start puts the examples there
        t.wait("example")
        t.keys("q").wait_exit()
    bundle = tmp_path / "x.kettle"
    store = str(examples(tmp_path))
    assert kettle(tmp_path, "pack", "three-ways", "-o", str(bundle), "--store", store).returncode == 0
    ran = kettle(tmp_path, "unpack", str(bundle), "--as", "pilots")
    assert ran.stdout == "pilots::three-ways:1\n", ran.stderr
    with open_app(tmp_path) as t:
        t.wait("FROM pilots", "1 of other people")
        _click(t, "Night log and tide table", "FROM pilots")
        t.wait("best decode")
        t.wait("FROM pilots")
        t.keys("r").wait("somebody else's")
        t.keys("5").wait("A pilots::three-ways:1 F16")
        t.wait("B pilots::three-ways:1 Q4_0")
        t.keys("b").wait("Which is B?")
        t.keys("three-ways:1").wait("run 1 whole")
        t.keys("Escape").gone("Which is B?")
        t.keys("8").wait("pilots::three-ways, run 1")
        t.keys("q").wait_exit()
    again = kettle(tmp_path, "unpack", str(bundle), "--as", "pilots")
    assert again.returncode == 2 and "unpacked before" in again.stderr
    shown = kettle(tmp_path, "show", "pilots::three-ways")
    assert shown.returncode == 0 and "Q4_0 · 2 threads is the fastest in decode" in shown.stdout


def _click(t: Term, *words: str) -> None:
    """On the study of the shelf whose lines have these words."""
    rows = t.text().splitlines()
    at = next(i for i, line in enumerate(rows) if all(w in "".join(rows[i : i + 2]) for w in words))
    t.click(at, 10)
