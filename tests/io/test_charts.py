"""Every kind of chart, drawn of a finished example that allows it, by both backends."""

from __future__ import annotations

import shutil
from dataclasses import replace
from functools import cache
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zinc_kettle.app.build import open_store
from zinc_kettle.app.charting import subject_of
from zinc_kettle.charts.draw import draw
from zinc_kettle.config import DEMO_FILES, SAMPLE_STORE, Places
from zinc_kettle.core.chart import Axis, Line, Panel, Points
from zinc_kettle.core.chart_view import spots
from zinc_kettle.core.compare.reported import Reported
from zinc_kettle.core.results import StudyResults
from zinc_kettle.present.answer import main_measure
from zinc_kettle.present.charts import CHART_KINDS
from zinc_kettle.present.charts.kinds import Subject
from zinc_kettle.store.reading import open_run, shelf
from zinc_kettle.store.store import KettleStore
from zinc_kettle.tui.draw.chart import draw_chart
from zinc_kettle.tui.draw.plot import draw_plot
from zinc_kettle.tui.theme import DARK, LIGHT


@pytest.fixture(scope="module")
def places(tmp_path_factory: pytest.TempPathFactory) -> Places:
    """A data folder with the examples as its store."""
    home = tmp_path_factory.mktemp("charts")
    shutil.copyfile(DEMO_FILES / SAMPLE_STORE, home / "kettle.db")
    shutil.copyfile(DEMO_FILES / "rigs.toml", home / "rigs.toml")
    return Places(home=home, store=home / "kettle.db", demo=True)


@cache
def runs(path: Path, home: Places) -> tuple[KettleStore, list[StudyResults]]:
    """Every run of the examples."""
    store = open_store(home)
    return store, [open_run(store, run.run_id) for row in shelf(store) for run in row.runs]


def subject(kind: str, places: Places) -> Subject:
    """Of the first example that allows a kind."""
    store, all_of_them = runs(places.store, places)
    for results in all_of_them:
        cell = next(c for c in results.cells if c.done)
        found = subject_of(results, main_measure(results.study), places, store, cell=cell)
        if not CHART_KINDS[kind].needs(found):
            return found
    raise AssertionError(f"no example allows {kind}")


@pytest.mark.parametrize("kind", CHART_KINDS)
def test_every_kind_is_drawn_by_both_backends(kind: str, places: Places) -> None:
    """As SVG, the same bytes twice, and as PDF; in the terminal within its width, in both themes; points have cells."""
    found = subject(kind, places)
    made = CHART_KINDS[kind].build(found)
    svg = draw(made, "svg")
    assert svg == draw(made, "svg") and min(len(svg), len(draw(made, "pdf"))) > 3_000
    if kind != "map":
        for palette in (DARK, LIGHT):
            for width, height in ((70, 24), (108, 32)):
                lines = draw_chart(made, width, height, palette).plain.splitlines()
                assert len(lines) > 4 and max(map(len, lines)) <= width, lines
    if CHART_KINDS[kind].of == "study" and kind not in {"map", "where", "latency"}:
        keys = {cell.cell.key for cell in found.results.cells}
        assert spots(made) and {s.key for s in spots(made)} <= {*keys, ""}


BENDS = {"─": "lr", "│": "ud", "╮": "ld", "╯": "lu", "╭": "rd", "╰": "ru"}
"""The sides on which each character of a solid line goes on."""
SIDES = {"l": (0, -1, "r"), "r": (0, 1, "l"), "u": (-1, 0, "d"), "d": (1, 0, "u")}


@given(st.lists(st.integers(0, 20), min_size=2, max_size=6))
def test_a_line_between_points_has_no_gaps(ys: list[int]) -> None:
    """Each of its characters goes on in the next one, or ends beside a point; a dense line, and lines that run
    together, are drawn in dots."""
    xs = tuple(float(i) for i in range(len(ys)))
    marks = (Line(xs, tuple(map(float, ys))), Points(xs, tuple(map(float, ys))))
    panel = Panel(Axis(), Axis(low=0.0, high=20.0), marks)
    rows = draw_plot(panel, 70, 16, DARK, legend=False).plain.splitlines()[:16]
    at = {(r, c): char for r, row in enumerate(rows) for c, char in enumerate(row) if char in BENDS or char == "●"}
    assert sum(char != "●" for char in at.values()) >= 20
    for (row, column), char in at.items():
        for side in BENDS.get(char, ""):
            down, right, back = SIDES[side]
            beside = at.get((row + down, column + right), "")
            assert beside == "●" or back in BENDS.get(beside, ""), "\n".join(rows)
    dense = Line(tuple(float(i) for i in range(60)), tuple(float(i % 7) for i in range(60)))
    together = [Line(xs, tuple(y + more for y in map(float, ys))) for more in (0.0, 0.01)]
    for lines in ([dense], together):
        assert not set(BENDS) & set(draw_plot(replace(panel, marks=tuple(lines)), 70, 16, DARK, legend=False).plain)


def test_somebody_elses_points_stand_beside_the_frontier(places: Places) -> None:
    """Hollow, with their source, and said to be reported; never the knee, never what dims our own."""
    found = subject("frontier", places)
    theirs = tuple(
        Reported("harbour paper", name, value, levels={"concurrency": 4})
        for name, value in (("decode", 1e6), ("throughput", 1e7))
    )
    without, with_them = (
        CHART_KINDS["frontier"].build(s) for s in (found, Subject(found.results, found.measure, others=theirs))
    )
    names = [getattr(m, "name", "") for m in with_them.panels[0].marks]
    assert any("reported by harbour paper" in name for name in names)
    assert [s.key for s in spots(without) if s.key] == [s.key for s in spots(with_them) if s.key]
    assert any("not measured here" in note for note in with_them.notes)
