"""Power and energy of a repeat, against sums worked out by hand."""

from __future__ import annotations

import dataclasses
from typing import Any

import numpy as np
import pytest

from tests.build import MS, S, powered, repeat, timeline, trace
from zinc_kettle.core.energy import IDLE, WALL
from zinc_kettle.core.measures import repeat_figures
from zinc_kettle.core.record.repeat import Missing, Repeat
from zinc_kettle.core.record.telemetry import DEVICE_BEFORE, DEVICE_LAYERS, watts_between

REQUEST = timeline((1000.0, 1500.0, 2000.0), end_ns=2000 * MS)
"""Prefill for a second, then two tokens in another."""


def figures(**changes: Any) -> dict[str, object]:
    """All figures of one such repeat."""
    given: dict[str, Any] = {"trace": powered(), "extras": {IDLE: 10.0}, **changes}
    r: Repeat = repeat(REQUEST, **given)
    return dict(repeat_figures(r))


def test_each_window_has_its_energy() -> None:
    """20 W while it prefills and 40 W while it decodes; three tokens, two of them after the first."""
    found = figures()
    assert found["power"] == pytest.approx(30.0)
    assert found["energy_token"] == pytest.approx(60.0 / 3)
    assert found["energy_token_net"] == pytest.approx((60.0 - 20.0) / 3)
    assert found["energy_prefill"] == pytest.approx(20.0)
    assert found["energy_decode"] == pytest.approx(40.0 / 2)


def test_a_window_that_overhangs_its_samples_is_charged_whole() -> None:
    """Samples from 0 to 2 s at 20 W: a window 0.1 s longer at each end is 2.2 s of 20 W, not 2.0."""
    steady = powered((20.0,) * 4)
    assert steady.joules(-S // 10, 2 * S + S // 10) == pytest.approx(44.0)
    assert steady.joules(S // 2, S) == pytest.approx(10.0) and steady.joules(-S, 2 * S) is None


def test_net_energy_may_be_negative() -> None:
    """The idle power was taken in a livelier moment."""
    net = figures(extras={IDLE: 50.0})["energy_token_net"]
    assert isinstance(net, float) and net < 0


@pytest.mark.parametrize(
    ("changes", "name", "why"),
    [
        ({"trace": trace()}, "power", "nothing on this rig"),
        ({"trace": None}, "energy_token", "nothing on this rig"),
        ({"extras": {}}, "energy_token_net", "idle power"),
        ({"concurrency": 2}, "energy_prefill", "overlap"),
        ({"trace": powered((20.0, 20.0))}, "power", "do not cover"),
    ],
)
def test_what_cannot_be_had_says_why(changes: dict[str, object], name: str, why: str) -> None:
    """Null with a reason, never a guess."""
    figure = figures(**changes)[name]
    assert isinstance(figure, Missing) and why in figure.reason


def test_a_wall_meter_reading_is_a_source() -> None:
    """Only where nothing else tells; of single phases it tells nothing."""
    found = figures(trace=trace(), extras={WALL: 25.0, IDLE: 5.0})
    assert found["power"] == 25.0 and found["energy_token"] == pytest.approx(25.0 * 2 / 3)
    assert found["energy_token_net"] == pytest.approx(20.0 * 2 / 3)
    assert isinstance(found["energy_prefill"], Missing)
    assert figures(extras={WALL: 99.0})["power"] == pytest.approx(30.0)


def test_a_window_between_samples() -> None:
    """Straight lines between them; outside by no more than a tenth of the window."""
    told = powered()
    assert told.joules(S // 4, 3 * S // 4) == pytest.approx(10.0)
    assert told.joules(0, 2 * S + S // 10) == pytest.approx(60.0 * 2.1 / 2)
    assert told.joules(0, 3 * S) is None and told.joules(5, 5) is None
    assert told.window(S // 2, S).joules(S // 2, S) == pytest.approx(10.0)


def test_memory_is_that_of_the_host_and_of_the_devices() -> None:
    """The highest of each, added up; what a desktop held on the device before the run is not the engine's."""
    told = powered(device_bytes=np.array([100, 700, 300, 200, 100], dtype=np.int64))
    whole = figures(trace=told)
    main = whole["memory_peak"]
    assert isinstance(main, float)
    assert whole["memory_device"] == 700.0 and whole["memory"] == main + 700.0
    less = figures(trace=told, extras={DEVICE_BEFORE: 60.0})
    assert less["memory_device"] == 640.0 and less["memory"] == main + 640.0
    running = figures(trace=told, extras={DEVICE_BEFORE: 60.0}, launch=None)
    assert running["memory_device"] == 700.0 and isinstance(running["memory"], Missing)  # it was there before


def test_a_device_that_does_not_tell_leaves_no_memory() -> None:
    """Seventeen megabytes of main memory are not what a model on a device takes."""
    assert isinstance(figures()["memory_device"], Missing)
    assert figures()["memory"] == figures()["memory_peak"]
    assert isinstance(figures(extras={DEVICE_LAYERS: 12.0})["memory"], Missing)
    assert figures(extras={DEVICE_LAYERS: 0.0})["memory"] == figures()["memory_peak"]


def test_columns_must_be_as_long() -> None:
    """Energy and device memory too."""
    with pytest.raises(ValueError, match="differ"):
        dataclasses.replace(trace(), energy_uj=np.array([1], dtype=np.int64))


@pytest.mark.parametrize(
    ("then", "now", "watts"),
    [
        ((0, 0), (2_000_000_000, 30_000_000), 15.0),
        ((0, -1), (1_000_000_000, 5), None),
        ((0, 7), (1_000_000_000, 5), None),
        ((5, 1), (5, 2), None),
    ],
)
def test_power_now_is_energy_over_time(then: tuple[int, int], now: tuple[int, int], watts: float | None) -> None:
    """Thirty joules in two seconds are 15 W; nothing where a reading is missing, went back, or no time has passed."""
    assert watts_between(*then, *now) == watts
