"""Words, records, tables and figures made of a study."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping

import pytest
from hypothesis import given
from hypothesis import strategies as st
from rich.text import Text

from tests.build import repeats_at, study
from zinc_kettle.charts.draw import draw
from zinc_kettle.core.cell import Value
from zinc_kettle.core.measures import Missing
from zinc_kettle.core.plan import Repeats, Study
from zinc_kettle.core.record import RepeatRecord, StudyRecord
from zinc_kettle.errors import UsageError
from zinc_kettle.present.figure import line_figure, map_figure
from zinc_kettle.present.records import cell_record, measure_record
from zinc_kettle.present.table import plan_rows, result_rows
from zinc_kettle.present.view import StudyView
from zinc_kettle.present.words import answer, best, bounds_text, value_text, worth_knowing
from zinc_kettle.tui.draw.fold import fold
from zinc_kettle.tui.draw.heatmap import Look, layout
from zinc_kettle.tui.draw.heatmap import draw as draw_map
from zinc_kettle.tui.theme import DARK

FACTS = {"processor": "made up", "physical_cores": 2, "virtual": True}


def view_of(
    rates: Mapping[int, tuple[float, ...]], plan: Study | None = None, failed: tuple[int, ...] = ()
) -> StudyView:
    """A study with these decode speeds by cell."""
    repeats = [RepeatRecord(cell, "measured", r) for cell, values in rates.items() for r in repeats_at(*values)]
    repeats += [RepeatRecord(cell, "failed", repeats_at(1.0)[0], failure="the engine did not start") for cell in failed]
    made = plan or study(repeats=Repeats(count=3))
    return StudyView(StudyRecord("id", made, "measured", 1.0, facts=FACTS, repeats=tuple(repeats)))


FULL = {i: (10.0 * (i + 1), 10.1 * (i + 1), 10.2 * (i + 1)) for i in range(6)}


def test_states() -> None:
    """Planned, partly, measured and failed by what there is."""
    view = view_of({0: (1.0, 2.0, 3.0), 1: (1.0,)}, failed=(2,))
    assert [c.state for c in view.cells[:4]] == ["measured", "partly", "failed", "planned"]
    assert (view.done_repeats, view.wanted_repeats, view.failed_cells) == (4, 18, 1)


def test_a_live_repeat_joins_its_cell() -> None:
    """Adding one changes that cell and leaves the others' figures alone."""
    view = view_of({0: (10.0,), 1: (20.0,)})
    other = view.cells[1]
    view.add(RepeatRecord(0, "measured", repeats_at(12.0)[0]))
    assert view.cells[0].done == 2 and view.cells[1] is other and len(view.record.repeats) == 3


def test_the_best_is_not_chosen_by_noise() -> None:
    """Overlapping ranges stand together; one repeat each concludes nothing; clear ones stand alone."""
    clear = view_of(FULL)
    assert [c.cell.index for c in best(clear, "decode")] == [5]
    assert answer(clear).startswith("fastest decode: Q4_0 · 2 threads")
    noisy = view_of({0: (10.0, 12.0, 14.0), 1: (11.0, 12.5, 13.0)})
    assert {c.cell.index for c in best(noisy, "decode")} == {0, 1}
    assert "not told apart" in answer(noisy)
    assert best(view_of({0: (10.0,), 1: (99.0,)}), "decode") == []
    assert best(view_of({0: (10.0, 10.1), 1: (99.0,)}), "decode") == []
    assert "too early" in answer(view_of({0: (10.0,), 1: (99.0,)}))
    assert answer(view_of({})) == "nothing measured yet"


def test_less_is_better_for_times() -> None:
    """The shortest TPOT is the fastest cell's."""
    assert [c.cell.index for c in best(view_of(FULL), "tpot")] == [5]
    assert best(view_of(FULL), "prompt_tokens") == []


def test_gains_are_told_with_how_sure() -> None:
    """Ratios of cells that differ in one factor only, and how many are apart."""
    texts = [s.text for s in worth_knowing(view_of(FULL))]
    assert any("2 threads against 1 thread: 1.20 to 2.00 times the decode (ranges apart in 3 of 3)" in t for t in texts)
    level = [s.text for s in worth_knowing(view_of({0: (9.0, 11.0), 1: (9.5, 10.5)}))]
    assert any("2 threads against 1 thread: not told apart" in t for t in level)


def test_failures_come_first() -> None:
    """What could not be measured is said before any finding."""
    first = worth_knowing(view_of({0: (1.0, 2.0)}, failed=(2,)))[0]
    assert first.tone == "failure" and "did not start" in first.text


@pytest.mark.parametrize(
    ("value", "text", "bounds"),
    [
        (Value(12.34, 12.0, 12.7, "range", 3, "tokens/s"), "12.3", "±0.36"),
        (Value(3.0, 2.9, 9.0, "range", 3, "s"), "3.0", "2.9–9.0"),
        (Value(0.0123, 0.0123, 0.0123, "range", 3, "s"), "12.3", ""),
        (Value(48.0, 48.0, 48.0, "range", 3, "tokens"), "48", ""),
        (Value(12.0, 12.0, 12.0, "range", 1, "tokens/s"), "12.0", ""),
        (Missing("why"), "–", ""),
    ],
)
def test_values_as_text(value: Value | Missing, text: str, bounds: str) -> None:
    """Digits by the spread, lopsided bounds as low–high, nothing for one repeat."""
    assert value_text(value)[0] == text and bounds_text(value) == bounds


def test_records() -> None:
    """A value with bounds; null with its reason."""
    assert measure_record(Missing("why")) == {"value": None, "reason": "why"}
    told = cell_record(view_of(FULL), view_of(FULL).cells[0])
    workloads = {cell_record(view_of(FULL), c)["workload"] for c in view_of(FULL).cells}
    assert len(workloads) == 1, "two quantizations and two thread counts do the same work"
    assert told["cell"] == {"quantization": "F16", "threads": 1}
    assert told["measures"]["decode"] == {
        "value": 10.1,
        "low": 10.0,
        "high": 10.2,
        "bound": "range",
        "n": 3,
        "unit": "tokens/s",
    }


def test_tables() -> None:
    """A row a cell, as wide as the heading."""
    view = view_of(FULL)
    for heads, rows in (result_rows(view), plan_rows(view, dict.fromkeys(range(6)), dict.fromkeys(range(6), 2.0), {})):
        assert len(rows) == 6 and all(len(row) == len(heads) for row in rows)
    assert result_rows(view)[1][0][:3] == ["F16", "1", "● measured 3/3"]


def test_map_figure_marks_the_best_and_what_is_level() -> None:
    """One patch is best; those not told apart say so; the subtitle says what the bounds are."""
    figure = map_figure(view_of(FULL), "decode")
    patches = [p for _, rows in figure.panels for row in rows for p in row]
    assert [p.best for p in patches] == [False] * 5 + [True]
    assert "median of 1 to 2 repeats" in map_figure(view_of({0: (1.0,), 1: (1.0, 2.0)}), "decode").subtitle
    assert "range of 3 repeats" in figure.subtitle and "virtual machine" in figure.note
    assert line_figure(view_of(FULL), "decode").lines[0].y == pytest.approx((10.1, 20.2))


def test_slices_for_a_third_factor() -> None:
    """Two factors span the map, the third makes slices; every cell is in exactly one place."""
    plan = study({"quantization": ("F16", "Q4_0"), "threads": (1, 2), "prompt_tokens": (64, 96)})
    grid = view_of({}, plan).grid()
    placed = [c.cell.index for s in grid.slices for row in s.rows for c in row]
    assert sorted(placed) == list(range(8)) and [s.title for s in grid.slices] == [
        "64 prompt tokens",
        "96 prompt tokens",
    ]


def test_figures_of_nothing() -> None:
    """An empty map can be drawn; lines of nothing and unknown measures are errors."""
    assert draw(map_figure(view_of({}), "decode"), "svg")
    with pytest.raises(UsageError):
        line_figure(view_of({}), "decode")
    with pytest.raises(UsageError, match="there is no measure"):
        map_figure(view_of(FULL), "speed")


def test_simulated_is_said_on_every_figure() -> None:
    """A simulated study can never pass for a measured one."""
    record = dataclasses.replace(view_of(FULL).record, simulated=True)
    view = StudyView(record)
    assert map_figure(view, "decode").note.startswith("SIMULATED")
    assert b"SIMULATED" not in draw(map_figure(view_of(FULL), "decode"), "pdf")
    assert cell_record(view, view.cells[0])["simulated"] is True


def test_a_large_map_is_seen_through_a_window() -> None:
    """Twenty by forty cells in a small pane: the window follows the cursor, says what lies beyond, and is never cut."""
    plan = study({"threads": tuple(range(1, 21)), "batch": tuple(range(32, 72))})
    grid = view_of({}, plan).grid()
    place = layout(grid, 80, 20)
    assert place.rows < 20 and place.columns < 40
    origin = (0, 0)
    for cursor in ((0, 0), (19, 39), (10, 20), (0, 0)):
        origin = place.follow(origin, cursor)
        assert origin[0] <= cursor[0] < origin[0] + place.rows and origin[1] <= cursor[1] < origin[1] + place.columns
    look = Look("decode", "more", DARK, 0, None, None, frozenset(), {}, {})
    lines = draw_map(grid, grid.slices[0], place, look).plain.splitlines()
    assert len(lines) <= 20 and max(map(len, lines)) <= 80
    assert "↓ 16 more" in lines[-1] and "→ 34 more" in lines[-1]
    assert place.hit(place.label, 1, place.rows, place.columns) == (0, 0)
    assert place.hit(0, 1, place.rows, place.columns) is None


def test_a_rig_that_was_busy_before_the_run_is_named() -> None:
    """This machine or another; a quiet one is not."""
    busy = {"cores": 1.4, "top": [["film", 1.3]]}
    record = view_of(FULL).record
    for facts, said in (({"busy": busy}, "this machine"), ({"rigs": {"petrel": {"busy": busy}}}, "petrel")):
        view = StudyView(dataclasses.replace(record, facts=facts))
        assert any(s.text == f"{said} was busy before the run: 1.4 cores (film)." for s in worth_knowing(view))
    quiet = StudyView(dataclasses.replace(record, facts={"busy": {"cores": 0.1, "top": []}}))
    assert not any("busy before" in s.text for s in worth_knowing(quiet))


@given(st.lists(st.text(alphabet="ab▒", min_size=1, max_size=12), max_size=12), st.integers(12, 60))
def test_folding_tears_no_piece_apart(pieces: list[str], width: int) -> None:
    """Every piece is whole on one line, in order, and no line is wider than there is room."""
    lines = fold([Text(piece) for piece in pieces], width).plain.split("\n") if pieces else []
    assert all(len(line) <= width for line in lines)
    rest = iter(lines)
    line = next(rest, "")
    for piece in pieces:
        while not line.startswith(piece):
            line = line[2:] if line.startswith("  ") else next(rest)
        line = line[len(piece) :]
