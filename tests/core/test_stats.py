"""Statistics against scipy, by hand, and by their properties."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats as reference

from zinc_kettle.core.stats import flukes, median, median_interval, quantile, ratio_interval, robust_spread, thin
from zinc_kettle.core.stats.interval import pooled_quantile_interval

numbers = st.lists(st.floats(0.01, 1e6), min_size=1, max_size=40)


@pytest.mark.parametrize("p", [0.0, 0.25, 0.5, 0.9, 0.95, 0.99, 1.0])
def test_quantile_is_hyndman_fan_7(p: float) -> None:
    """The formula written out: x[j] + (h − j)(x[j+1] − x[j]) with h = (n − 1)p."""
    values = [3.0, 1.0, 4.0, 1.5, 9.0, 2.6, 5.0]
    ordered = sorted(values)
    h = (len(values) - 1) * p
    j = min(math.floor(h), len(values) - 2)
    assert quantile(values, p) == pytest.approx(ordered[j] + (h - j) * (ordered[j + 1] - ordered[j]))


@pytest.mark.parametrize("p", [-0.1, 1.1, 95])
def test_quantile_refuses_percent(p: float) -> None:
    """Handing 95 for 0.95 is a classic; it must not pass."""
    with pytest.raises(ValueError, match=r"\[0, 1\]"):
        quantile([1.0, 2.0], p)


def test_nothing_has_no_quantile() -> None:
    """n = 0 raises instead of giving a NaN that travels on."""
    with pytest.raises(ValueError, match="no values"):
        quantile([], 0.5)
    with pytest.raises(ValueError, match="no values"):
        median_interval([])


@given(numbers)
def test_robust_spread_is_scipys_scaled_mad(values: list[float]) -> None:
    """1.4826 · MAD ÷ median, held against scipy; None only for a single value."""
    spread = robust_spread(values)
    if len(values) < 2:
        assert spread is None
    else:
        mad = reference.median_abs_deviation(values, scale=1.0)
        assert spread == pytest.approx(1.4826 * mad / np.median(values), abs=1e-12)


@given(numbers)
def test_bounds_hold_the_median(values: list[float]) -> None:
    """Whatever the repeats, low ≤ value ≤ high, and fewer than six are never called an interval."""
    i = median_interval(values)
    assert min(values) <= i.low <= i.value <= i.high <= max(values)
    assert i.bound == ("interval95" if len(values) >= 6 else "range")
    assert i.n == len(values)


def test_few_repeats_give_their_range() -> None:
    """Three repeats: the range, exactly."""
    i = median_interval([11.0, 10.0, 13.0])
    assert (i.value, i.low, i.high, i.bound) == (11.0, 10.0, 13.0, "range")


def test_equal_repeats_have_an_interval_of_no_width() -> None:
    """All equal: no NaN from a degenerate bootstrap."""
    i = median_interval([5.0] * 8)
    assert (i.low, i.high) == (5.0, 5.0)


def test_interval_covers_the_median_about_as_often_as_it_says() -> None:
    """Of 60 samples of ten normal repeats, the true median is inside most of the time (95% nominal)."""
    rng = np.random.default_rng(4)
    hits = 0
    for k in range(60):
        i = median_interval(list(rng.normal(100, 5, 10)), seed=k)
        hits += i.low <= 100 <= i.high
    assert hits >= 51


def test_same_repeats_same_interval() -> None:
    """The resampling is seeded: a figure does not tremble between two looks."""
    values = [9.0, 10.0, 11.0, 10.5, 9.5, 12.0, 10.2]
    assert median_interval(values, seed=3) == median_interval(values, seed=3)


def test_ratio_of_few_is_the_widest_the_ranges_allow() -> None:
    """10–12 against 5–6: between 10/6 and 12/5."""
    r = ratio_interval([10.0, 11.0, 12.0], [5.0, 5.5, 6.0])
    assert (r.value, r.low, r.high) == pytest.approx((2.0, 10 / 6, 12 / 5))
    assert r.bound == "range"


@given(st.lists(st.floats(1, 100), min_size=6, max_size=12), st.lists(st.floats(1, 100), min_size=6, max_size=12))
def test_ratio_turned_round_is_the_inverse(a: list[float], b: list[float]) -> None:
    """The value of b over a is one over that of a over b; bounds stay positive and in order."""
    forth, back = ratio_interval(a, b), ratio_interval(b, a)
    assert forth.value == pytest.approx(1 / back.value)
    assert 0 < forth.low <= forth.value <= forth.high


def test_ratio_wants_positive_values() -> None:
    """A ratio to zero has no interval."""
    with pytest.raises(ValueError, match="positive"):
        ratio_interval([1.0], [0.0])


def test_flukes_are_far_and_alone() -> None:
    """Five times too high is found; a tremble around equal values is not."""
    assert flukes([10.0, 10.1, 50.0, 9.9, 10.0]) == [2]
    assert flukes([10.0, 10.0, 10.4]) == []
    assert flukes([10.0, 50.0]) == []
    assert flukes([]) == []


@pytest.mark.parametrize(
    ("n", "p", "is_thin"), [(199, 0.95, True), (200, 0.95, False), (999, 0.99, True), (1000, 0.99, False)]
)
def test_thin_at_the_boundary(n: int, p: float, is_thin: bool) -> None:
    """p95 wants 200 requests, p99 a thousand."""
    assert thin(n, p) is is_thin


def test_pooled_quantile_draws_whole_groups() -> None:
    """One group far off widens the bounds, however many values the others have."""
    groups = [np.full(100, 1.0)] * 7 + [np.full(100, 2.0)]
    i = pooled_quantile_interval(groups, 0.95)
    assert i.value == 2.0
    assert i.low == 1.0
    with pytest.raises(ValueError, match="no values"):
        pooled_quantile_interval([np.array([])], 0.5)


@given(st.lists(st.floats(-1e9, 1e9), min_size=1, max_size=40))
def test_the_quick_median_is_the_median(values: list[float]) -> None:
    """Of lists it is found without arrays; the same number."""
    assert median(values) == pytest.approx(float(np.median(values)), rel=1e-12, abs=1e-9)
