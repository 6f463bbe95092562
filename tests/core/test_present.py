"""Sentences, JSON, tables and charts made of a study."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from rich.cells import cell_len
from rich.text import Text

from tests.build import repeats_at, study
from zinc_kettle.charts.draw import draw
from zinc_kettle.core.chart import Chart, Points
from zinc_kettle.core.compare.cells import standing
from zinc_kettle.core.facts import RunFacts
from zinc_kettle.core.grid import grid_of
from zinc_kettle.core.plan.study import Repeats, Study
from zinc_kettle.core.record.repeat import Missing
from zinc_kettle.core.record.value import Value
from zinc_kettle.core.results import Failure, KeptRepeat, RunInfo, StudyResults, cell_kept
from zinc_kettle.errors import UsageError
from zinc_kettle.present.answer import answer
from zinc_kettle.present.charts import build, offered
from zinc_kettle.present.charts.kinds import Subject
from zinc_kettle.present.findings import Finding, findings
from zinc_kettle.present.json import cell_json, figure_json
from zinc_kettle.present.planned import Planned
from zinc_kettle.present.table import plan_rows, result_rows
from zinc_kettle.present.values import bounds_text, value_text, whole_text
from zinc_kettle.tui.draw.fold import fold
from zinc_kettle.tui.draw.map_page import MapPage, MapSubject
from zinc_kettle.tui.theme import DARK

FACTS: RunFacts = {"processor": "made up", "physical_cores": 2, "virtual": True}
BROKEN = Failure("launch", "the engine did not start", "no memory")


def results_of(
    rates: Mapping[int, tuple[float, ...]], plan: Study | None = None, failed: tuple[int, ...] = (), **run: Any
) -> StudyResults:
    """A study with these decode speeds by the place of the cell."""
    made = plan or study(repeats=Repeats(count=3))
    kept: dict[str, list[KeptRepeat]] = {
        made.cells[i].key: [KeptRepeat("measured", r) for r in repeats_at(*values)] for i, values in rates.items()
    }
    for i in failed:
        kept.setdefault(made.cells[i].key, []).append(KeptRepeat("failed", repeats_at(1.0)[0], BROKEN))
    return StudyResults.of_repeats(made, kept, RunInfo("run", number=1, state="measured", **{"facts": FACTS, **run}))


def best(results: StudyResults, name: str) -> list[int]:
    """Places of the best cell and of those level with it."""
    return [c.cell.index for c in standing(results, name).all]


FULL = {i: (10.0 * (i + 1), 10.1 * (i + 1), 10.2 * (i + 1)) for i in range(6)}


def test_states() -> None:
    """Planned, partly, measured and failed by what there is."""
    results = results_of({0: (1.0, 2.0, 3.0), 1: (1.0,)}, failed=(2,))
    assert [c.state for c in results.cells[:4]] == ["measured", "partly", "failed", "planned"]
    assert (results.done_repeats, results.wanted_repeats, results.failed_cells) == (4, 18, 1)


def test_a_live_repeat_joins_its_cell() -> None:
    """Taking one changes that cell and the counts, and leaves the others alone."""
    results = results_of({0: (10.0,), 1: (20.0,)})
    other, cell = results.cells[1], results.cells[0].cell
    repeats = [KeptRepeat("measured", r) for r in repeats_at(10.0, 12.0)]
    results.take(cell.key, cell_kept(results.study, cell, FACTS, repeats))
    assert results.cells[0].done == 2 and results.cells[1] is other and results.done_repeats == 3
    assert results.cells[0].series("decode") == pytest.approx((10.0, 12.0))


def test_what_is_computed_while_a_cell_changes_is_not_kept() -> None:
    """As when a thread ranks the cells and a repeat ends meanwhile."""
    results = results_of({0: (10.0,)})
    cell = results.cells[0].cell

    def slow() -> int:
        before = results.done_repeats
        kept = [KeptRepeat("measured", r) for r in repeats_at(10.0, 12.0)]
        results.take(cell.key, cell_kept(results.study, cell, FACTS, kept))
        return before

    assert results.once("done", slow) == 1
    assert results.once("done", lambda: results.done_repeats) == 2
    assert results.once("done", lambda: 0) == 2, "kept now"


def test_the_best_is_not_chosen_by_noise() -> None:
    """Overlapping ranges stand together; one repeat each concludes nothing; clear ones stand alone."""
    clear = results_of(FULL)
    assert best(clear, "decode") == [5]
    assert answer(clear).startswith(
        "Q4_0 · 2 threads is the fastest in decode: 60.6 tok/s (60.0–61.2) against 50.5 tok/s"
    )
    noisy = results_of({0: (10.0, 12.0, 14.0), 1: (11.0, 12.5, 13.0)})
    assert set(best(noisy, "decode")) == {0, 1}
    assert answer(noisy).startswith("no clear difference in decode between")
    assert best(results_of({0: (10.0,), 1: (99.0,)}), "decode") == []
    assert best(results_of({0: (10.0, 10.1, 10.2), 1: (99.0, 99.1)}), "decode") == []
    assert answer(results_of({0: (10.0,), 1: (99.0,)})).startswith("so far F16 · 2 threads looks fastest")
    assert answer(results_of({})) == "nothing measured yet"


def test_less_is_better_for_times() -> None:
    """The shortest TPOT is the fastest cell's."""
    assert best(results_of(FULL), "tpot") == [5]
    assert best(results_of(FULL), "prompt_tokens") == []


def threads_step(found: Sequence[Finding], code: str = "") -> Finding:
    """The finding about two threads against one."""
    return next(f for f in found if f.sides == ({"threads": 1}, {"threads": 2}) and code in {"", f.code})


def test_gains_are_told_with_how_sure() -> None:
    """Ratios of cells that differ in one factor only, and how many are clear."""
    step = threads_step(findings(results_of(FULL)))
    assert step.code == "step" and "1.20 to 2.00" in step.text and "3 of 3" in step.text
    assert threads_step(findings(results_of({0: (9.0, 11.0, 10.0), 1: (9.5, 10.5, 10.2)}))).code == "step-unclear"


def test_what_depends_on_another_factor_is_told_by_its_levels() -> None:
    """More with one quantization, less with another, no clear difference with a third."""
    ten, twenty = (10.0, 10.1, 10.2), (20.0, 20.1, 20.4)
    clear = {0: ten, 1: twenty, 2: twenty, 3: ten, 4: (9.0, 11.0, 10.0), 5: (9.5, 10.5, 10.2)}
    both = threads_step(findings(results_of(clear)), "step-depends").text
    assert both.index("2.00") < both.index("F16") < both.index("50% less") < both.index("Q8_0") < both.index("Q4_0")
    one_way = {**clear, 2: (9.0, 11.0, 10.0), 3: (9.5, 10.5, 10.2)}
    one = threads_step(findings(results_of(one_way)), "step-depends").text
    assert one.index("2.00") < one.index("F16") < one.index("Q8_0") < one.index("Q4_0") and "0.50" not in one


def test_cells_that_read_other_tokens_are_named() -> None:
    """Beside tokens per second, characters per second; equal within the first token is the same tokenizer."""

    def results(characters: float) -> StudyResults:
        plan = study({"engine": ("built-in", "mistralrs")}, hold={"model": "brine-15m", "prompt_tokens": 100})
        kept = {}
        for cell, n in zip(plan.cells, (500.0, characters), strict=True):
            repeats = repeats_at(*(v + cell.index for v in (10.0, 10.1, 10.2)), extras={"prompt_characters": n})
            kept[cell.key] = [KeptRepeat("measured", r) for r in repeats]
        return StudyResults.of_repeats(plan, kept, RunInfo("run", number=1, facts=FACTS))

    found = results(170.0)
    (told,) = [f.text for f in findings(found) if f.code == "different-tokenizer"]
    assert "5.00" in told and "1.70" in told and told.rindex("mistralrs") > told.index("1.70"), "the best by characters"
    assert "different-tokenizer" in " ".join(build("map", Subject(found, "decode")).notes)
    assert not any(f.code == "different-tokenizer" for f in findings(results(490.5)))


def test_failures_come_first() -> None:
    """What could not be measured is said before any finding."""
    first = findings(results_of({0: (1.0, 2.0)}, failed=(2,)))[0]
    assert first.code == "cell-failed" and first.tone == "failure" and "did not start" in first.text


@pytest.mark.parametrize(
    ("value", "text", "bounds", "whole"),
    [
        (Value(12.34, 12.0, 12.7, "interval95", 6, "tokens/s"), "12.3", "±0.36", "12.3 ± 0.36 tok/s"),
        (Value(12.34, 12.0, 12.7, "range", 3, "tokens/s"), "12.3", "(12.0–12.7)", "12.3 tok/s (12.0–12.7)"),
        (Value(3.0, 2.9, 9.0, "range", 3, "s"), "3.0", "(2.9–9.0)", "3.0 s (2.9–9.0)"),
        (Value(0.0123, 0.0123, 0.0123, "range", 3, "s"), "12.3", "", "12.3 ms"),
        (Value(48.0, 48.0, 48.0, "range", 3, "tokens"), "48", "", "48 tokens"),
        (Value(12.0, 12.0, 12.0, "range", 1, "tokens/s"), "12.0", "", "12.0 tok/s"),
        (Missing("why"), "–", "", "–"),
    ],
)
def test_values_as_text(value: Value | Missing, text: str, bounds: str, whole: str) -> None:
    """Digits by the spread; ranges and lopsided bounds as (low–high) behind the unit, nothing for one repeat."""
    assert (value_text(value)[0], bounds_text(value), whole_text(value)) == (text, bounds, whole)


def test_json() -> None:
    """A value with bounds; null with its reason."""
    assert figure_json(Missing("why")) == {"value": None, "reason": "why"}
    results = results_of(FULL)
    told = cell_json(results, results.cells[0])
    assert len({cell_json(results, c)["workload"] for c in results.cells}) == 1, "they do the same work"
    assert told["cell"] == {"quantization": "F16", "threads": 1} and told["run"] == 1
    wanted = {"value": 10.1, "low": 10.0, "high": 10.2, "bound": "range", "n": 3, "unit": "tokens/s"}
    assert told["measures"]["decode"] == wanted


def test_tables() -> None:
    """A row a cell, as wide as the heading."""
    results = results_of(FULL)
    planned = {c.cell.key: Planned(1e6, 2.0) for c in results.cells}
    for heads, rows in (result_rows(results), plan_rows(results, planned), plan_rows(results, {})):
        assert len(rows) == 6 and all(len(row) == len(heads) for row in rows)
    assert result_rows(results)[1][0][:3] == ["F16", "1", "● measured 3/3"]


def chart(results: StudyResults, kind: str = "map", measure: str = "decode", place: int | None = None) -> Chart:
    """A chart of a study."""
    return build(kind, Subject(results, measure, None if place is None else results.cells[place]))


def test_the_map_marks_the_best_and_what_is_tied() -> None:
    """One cell is best; those without a clear difference say so; the subtitle says what the bounds are."""
    made = chart(results_of(FULL))
    cells = made.panels[0].cells
    assert [c.best for c in cells] == [False] * 5 + [True] and cells[5].shade == 1.0 and cells[0].shade == 0.0
    even = chart(results_of({0: (10.0, 12.0, 11.0), 1: (11.0, 12.5, 10.5)})).panels[0].cells
    assert [c.lines[-1] for c in even if c.tied] == ["≈ best"]
    assert "median of 1 to 2 repeats" in chart(results_of({0: (1.0,), 1: (1.0, 2.0)})).subtitle
    assert "range of 3 repeats" in made.subtitle and "virtual machine" in " ".join(made.notes)


def test_lines_over_a_factor() -> None:
    """A line and its points for each level of the other factor."""
    marks = chart(results_of(FULL), "lines").panels[0].marks
    points = [m for m in marks if isinstance(m, Points)]
    assert [p.name for p in points] == ["F16", "Q8_0", "Q4_0"] and points[0].y == pytest.approx((10.1, 20.2))
    assert points[0].low == pytest.approx((10.0, 20.0))


def test_slices_for_a_third_factor() -> None:
    """Two factors span the map, the third makes slices; every cell is in exactly one place."""
    plan = study({"quantization": ("F16", "Q4_0"), "threads": (1, 2), "prompt_tokens": (64, 96)})
    grid = grid_of(results_of({}, plan))
    assert sorted(key for s in grid.slices for row in s.keys for key in row if key) == sorted(plan.by_key)
    assert [s.title for s in grid.slices] == ["64 prompt tokens", "96 prompt tokens"]


def test_what_the_data_do_not_allow_is_not_offered() -> None:
    """An empty map can be drawn; lines of nothing, a cell's chart without a cell, and unknown names are errors."""
    empty = results_of({})
    assert [k.name for k in offered(Subject(empty, "decode"))] == ["map"] and draw(chart(empty), "svg")
    with pytest.raises(UsageError, match="no decode to draw yet"):
        chart(empty, "lines")
    with pytest.raises(UsageError, match="there is no measure"):
        chart(results_of(FULL), "map", "speed")
    with pytest.raises(UsageError, match="name it with --cell"):
        chart(results_of(FULL), "repeats")
    with pytest.raises(UsageError, match="one of: map"):
        chart(results_of(FULL), "pie")


def test_simulated_is_said_on_every_chart() -> None:
    """A simulated study can never pass for a measured one."""
    results = results_of(FULL, simulated=True)
    assert chart(results).notes[0] == "SIMULATED" and chart(results, "lines").notes[0] == "SIMULATED"
    assert cell_json(results, results.cells[0])["simulated"] is True


@pytest.mark.parametrize("height", range(3, 40))
def test_a_map_is_drawn_in_any_height(height: int) -> None:
    """Cells say more as they grow: the repeats, then further measures; a strip too; nothing is wider than its room."""
    results = results_of(FULL)
    for of in (results, results_of({}, study({"threads": (1, 2)}))):
        page = MapPage(MapSubject(of, "decode", DARK, further=("prefill_client", "ttft")), 80, height)
        lines = ["".join(text for text, _ in line) for line in page.lines((0, 0), (0, 0, 0))]
        assert max(map(cell_len, lines)) <= 80
    text = "\n".join(lines)
    whole = MapPage(MapSubject(results, "decode", DARK, further=("ttft",)), 80, 40).lines((0, 0), None)
    assert "TTFT" in "".join(text for line in whole for text, _ in line) and text


def test_a_large_map_is_seen_through_a_window() -> None:
    """Twenty by forty cells in a small pane: the window follows the cursor, says what lies beyond, and is never cut."""
    plan = study({"threads": tuple(range(1, 21)), "batch": tuple(range(32, 72))})
    results = results_of({}, plan)
    page = MapPage(MapSubject(results, "decode", DARK), 80, 20)
    place = page.panes[0].place
    assert place.rows < 20 and place.columns < 40
    origin = (0, 0)
    for cursor in ((0, 0), (19, 39), (10, 20), (0, 0)):
        origin = page.follow(origin, (0, *cursor))
        assert origin[0] <= cursor[0] < origin[0] + place.rows and origin[1] <= cursor[1] < origin[1] + place.columns
    drawn = page.lines(origin, None)
    lines = ["".join(text for text, _ in line) for line in drawn]
    assert len(lines) <= 20 and max(map(len, lines)) <= 80
    assert "↓ 16 more" in lines[-1] and "→ 34 more" in lines[-1]
    assert place.hit(place.label, 1, place.rows, place.columns) == (0, 0)
    assert place.hit(0, 1, place.rows, place.columns) is None


def test_a_rig_that_was_busy_before_the_run_is_named() -> None:
    """This machine or another; a quiet one is not."""
    busy = {"cores": 1.4, "top": [["film", 1.3]]}
    for facts, said in (({"busy": busy}, "this machine"), ({"rigs": {"petrel": {"busy": busy}}}, "petrel")):
        told = findings(results_of(FULL, facts=facts))
        (busy_one,) = [f for f in told if f.code == "busy-before"]
        assert busy_one.text.startswith(said) and "1.4" in busy_one.text and "film" in busy_one.text
    quiet = findings(results_of(FULL, facts={"busy": {"cores": 0.1, "top": []}}))
    assert not any(f.code == "busy-before" for f in quiet)


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
