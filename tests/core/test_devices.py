"""What each device of a rig did."""

from __future__ import annotations

import dataclasses
import statistics

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from tests.build import repeats_at, study
from zinc_kettle.core.chart import Line
from zinc_kettle.core.devices import MOST_DEVICES, DeviceUse, Reading, typical_use, use_of
from zinc_kettle.core.record.telemetry import DEVICE_BEFORE
from zinc_kettle.core.results import KeptRepeat, StudyResults
from zinc_kettle.core.summary import summarise
from zinc_kettle.present.charts.cell import memory_panel
from zinc_kettle.present.devices import device_lines

numbers = st.none() | st.integers(0, 1 << 40)
readings = st.builds(Reading, numbers, st.none() | st.integers(0, 100), numbers, numbers, numbers)


@given(st.integers(1, 3).flatmap(lambda n: st.lists(st.lists(readings, min_size=n, max_size=n), min_size=1)))
def test_what_one_does_not_tell_is_left_open(samples: list[list[Reading]]) -> None:
    """The highest of what was held and of heat, and the means of the others, over the moments that told them."""
    for place, use in enumerate(use_of(samples)):
        columns = zip(*(sample[place] for sample in samples), strict=True)
        held, busy, power, heat, clock = ([v for v in column if v is not None] for column in columns)
        assert use.highest_bytes == (max(held) if held else None)
        assert use.hottest_c == (max(heat) / 1000 if heat else None)
        for found, told, per in ((use.busy_share, busy, 100), (use.power_w, power, 1000), (use.clock_hz, clock, 1e-3)):
            assert (found is None) == (not told)
            assert found is None or abs(found - statistics.fmean(told) / per) <= 1e-9 * (1 + found)


def test_a_cell_has_the_median_of_its_repeats() -> None:
    """Of each figure by itself; nothing is made up where repeats saw other devices, or so many that it would be no
    reading any more."""
    one = [(DeviceUse(held, 0.5, None), DeviceUse(7, None, held / 2)) for held in (10, 30, 20)]
    assert typical_use([*one, ()]) == (DeviceUse(20, 0.5, None), DeviceUse(7, None, 10.0))
    assert typical_use([*one, one[0][:1]]) == () == typical_use([])
    assert typical_use([(DeviceUse(1),) * (MOST_DEVICES + 1)]) == ()
    assert use_of([]) == () == use_of([[]]) == use_of([[Reading(1, 1, 1)] * (MOST_DEVICES + 1)])
    assert use_of([[Reading(1, 2)], [Reading(5)] * 2]) == (DeviceUse(1, 0.02, None),)
    cell = summarise(repeats_at(10.0, 12.0)).devices
    assert cell == (DeviceUse(3 << 30, 0.5, None),) and device_lines([*cell, DeviceUse()])[0].count(",") == 1


def test_the_memory_that_is_drawn_is_that_of_the_figure() -> None:
    """Main memory and devices together, less what was in use there before: the panel's highest is the figure, but for
    the launcher."""
    repeats = repeats_at(10.0, extras={DEVICE_BEFORE: 1000.0})
    trace = repeats[0].trace
    assert trace is not None and repeats[0].launch is not None
    device = np.arange(len(trace.at_ns)) * 500
    repeats = [dataclasses.replace(repeats[0], trace=dataclasses.replace(trace, device_bytes=device))]
    plan = study()
    results = StudyResults.of_repeats(plan, {plan.cells[0].key: [KeptRepeat("measured", repeats[0])]})
    (line,) = memory_panel(results.cells[0]).marks
    assert isinstance(line, Line)
    wanted = [r + max(0, d - 1000) for r, d in zip(trace.resident_bytes.tolist(), device.tolist(), strict=True)]
    assert list(line.y) == wanted and memory_panel(results.cells[1]).empty
