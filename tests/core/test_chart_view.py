"""Looking at a chart: round numbers along axes, series off, other scales, a part of it, and its points."""

from __future__ import annotations

import itertools
import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zinc_kettle.core.chart import Axis, Chart, Line, Panel, Points, Rule, Steps, ticks
from zinc_kettle.core.chart_view import View, series_of, spots, viewed

LINE = Line((0.0, 10.0, 20.0), (0.0, 10.0, 40.0), "a", 0)
POINTS = Points((0.0, 10.0, 20.0), (0.0, 10.0, 40.0), (0.0, 9.0, 39.0), (1.0, 11.0, 41.0), "b", 1, keys=("x", "y", "z"))
CHART = Chart("q", "s", (Panel(Axis("n", low=0.0), Axis("v", low=0.0), (LINE, POINTS, Rule(3.0, "x"))),))


@given(st.floats(1e-6, 1e6), st.floats(1.001, 1e6), st.integers(1, 20), st.booleans())
def test_ticks_are_round_ascending_and_within(low: float, times: float, most: int, log: bool) -> None:
    """Never more than there is room for, never outside, and each with few digits."""
    high = low * times
    found = ticks(low, high, most, log=log)
    assert len(found) <= most + 1 and list(found) == sorted(found)
    assert all(low * 0.998 <= v <= high * 1.002 for v in found)
    if len(found) > 1:
        step = min(b - a for a, b in itertools.pairwise(found))
        lead = step / 10 ** math.floor(math.log10(step) + 1e-9)
        assert log or min(abs(lead - m) for m in (1, 2, 5, 10)) < 1e-3


def test_a_part_is_cut_where_it_begins_and_ends() -> None:
    """Lines end on the edge at the height they have there, points outside are gone, and keys go with their points."""
    panel = viewed(CHART, View(window=(5.0, 15.0))).panels[0]
    line, points = panel.marks
    assert isinstance(line, Line) and (line.x, line.y) == ((5.0, 10.0, 15.0), (5.0, 10.0, 25.0))
    assert isinstance(points, Points) and (points.x, points.keys, points.low) == ((10.0,), ("y",), (9.0,))
    assert (panel.x.low, panel.x.high) == (5.0, 15.0)
    held = Chart("", "", (Panel(Axis(), Axis(), (Steps((0.0, 10.0), (1.0, 2.0), "s"),)),))
    steps = viewed(held, View(window=(2.0, 8.0))).panels[0].marks[0]
    assert isinstance(steps, Steps) and steps.y == (1.0, 1.0)


def test_series_scales_and_points() -> None:
    """A hidden series is gone, a logarithmic axis begins at a positive value, and every point can be stood on."""
    assert series_of(CHART) == ["a", "b"]
    assert series_of(viewed(CHART, View(hidden=frozenset({"a"})))) == ["b"]
    log = viewed(CHART, View(log=frozenset({"x", "y"}))).panels[0]
    assert log.x.scale == log.y.scale == "log" and log.x.low is not None and log.x.low > 0
    assert viewed(viewed(CHART, View(log=frozenset("x"))), View(log=frozenset("x"))).panels[0].x.scale == "linear"
    assert [(s.x, s.y, s.low, s.key) for s in spots(CHART)] == [
        (0.0, 0.0, 0.0, "x"),
        (10.0, 10.0, 9.0, "y"),
        (20.0, 40.0, 39.0, "z"),
    ]
    assert viewed(CHART, View()) == CHART and pytest.approx(ticks(0.0, 1.0, 5)[-1]) == 1.0
