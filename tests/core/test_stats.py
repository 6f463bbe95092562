"""Statistics against scipy, by hand, and by their properties."""

from __future__ import annotations

import itertools
import math
import random
from collections.abc import Callable
from typing import Any

import numpy as np
import pytest
from benchmarks import claims
from hypothesis import assume, given
from hypothesis import strategies as st
from scipy import stats as reference

from zinc_kettle.core.compare.cells import differs
from zinc_kettle.core.stats import Interval, flukes, median, median_interval, quantile, robust_spread, thin
from zinc_kettle.core.stats.interval import pooled_quantile_interval, pooled_share, tolerance_bound
from zinc_kettle.core.stats.ratios import (
    geometric_interval,
    holm,
    paired_ratio,
    paired_ratios,
    pairs_error,
    pairs_p,
    pooled_ratios,
    significantly_different,
    unpaired_ratio,
)
from zinc_kettle.core.stats.waves import Waves, steady, waves

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


@given(st.lists(st.floats(0.1, 100), min_size=1, max_size=40), st.sampled_from([0.95, 0.99]))
def test_bounds_are_those_of_the_sign_test(values: list[float], level: float) -> None:
    """Ranks from the binomial distribution, as scipy inverts the test of a quantile."""
    i = median_interval(values, level=level)
    expected: Any = reference.quantile_test(np.array(values), q=0.0, p=0.5)
    expected = expected.confidence_interval(level)
    if np.isnan(expected.low) or np.isnan(expected.high):
        assert i.bound == "range"
    else:
        assert (i.low, i.high, i.bound) == (expected.low, expected.high, "interval95")


@given(st.floats(-0.5, 0.95), st.integers(6, 60))
def test_memory_only_ever_widens(memory: float, n: int) -> None:
    """Bounds are never narrower for what the blocks remember, nor without limit; between runs no less than within."""
    found = Waves(memory)
    assert 1.0 <= found.widening(n) < 12.0
    assert 1.0 <= found.apart(n) < 12.0 and found.apart(n) >= found.widening(n) - 1e-9


@pytest.mark.parametrize(("rho", "said"), [(0.0, (50, 100)), (0.5, (0, 20)), (0.9, (0, 12)), (0.98, (0, 20))])
def test_a_run_that_wanders_speaks_of_itself_only(rho: float, said: tuple[int, int]) -> None:
    """Of 100 runs of four cells and forty blocks: a steady machine is mostly called so, one that wanders hardly ever,
    however slowly; nineteen blocks never."""
    rng = np.random.default_rng(10)
    found = 0
    for _ in range(100):
        wave = rng.normal(0, 1, 240)
        for i in range(1, 240):
            wave[i] += rho * wave[i - 1]
        rows = np.exp(0.02 * (wave[None, -40:] * (1 - rho**2) ** 0.5 + rng.normal(0, 0.5, (4, 40))))
        cells = [dict(enumerate(row.tolist())) for row in rows]
        found += steady(cells)
        assert not steady([{b: v for b, v in cell.items() if b < 19} for cell in cells])
    assert said[0] <= found <= said[1]


def test_waves_are_found_in_the_cells_together() -> None:
    """A walk of the machine that all cells share is seen; independent repeats are left alone."""
    rng = np.random.default_rng(2)
    wave = np.zeros(30)
    for i in range(1, 30):
        wave[i] = 0.8 * wave[i - 1] + rng.normal(0, 0.05)
    shared = [list(np.exp(wave + rng.normal(0, 0.01, 30))) for _ in range(4)]
    calm = [list(np.exp(rng.normal(0, 0.05, 30))) for _ in range(4)]
    assert waves(shared).widening(30) > 1.6 and waves(calm).widening(30) < 1.2
    assert waves([[1.0, 2.0]]).widening(2) == 1.0


# ratios
FIGURES = st.lists(st.floats(1, 100), min_size=3, max_size=12)


@given(FIGURES, st.randoms(use_true_random=False))
def test_a_paired_ratio_is_the_textbook_one(a: list[float], rng: random.Random) -> None:
    """Student's interval of the logarithms, by scipy's own test; turned round it is the inverse."""
    b = [value * rng.uniform(0.5, 2.0) for value in a]
    assume(np.log(np.array(a) / np.array(b)).std() > 1e-6)
    r, back = paired_ratio(a, b), paired_ratio(b, a)
    known = reference.ttest_rel(np.log(a), np.log(b))
    bounds = known.confidence_interval(0.95)
    assert (r.low, r.high) == pytest.approx((math.exp(bounds.low), math.exp(bounds.high)))
    assert r.p == pytest.approx(known.pvalue) and r.bound == "interval95" and r.n == len(a)
    assert (back.value, back.low, back.high) == pytest.approx((1 / r.value, 1 / r.high, 1 / r.low))


@given(FIGURES, FIGURES)
def test_an_unpaired_ratio_is_the_textbook_one(a: list[float], b: list[float]) -> None:
    """Welch's, by scipy's own test."""
    assume(min(np.log(a).std(), np.log(b).std()) > 1e-6)
    known = reference.ttest_ind(np.log(a), np.log(b), equal_var=False)
    r, bounds = unpaired_ratio(a, b), known.confidence_interval(0.95)
    assert (r.low, r.high) == pytest.approx((math.exp(bounds.low), math.exp(bounds.high)))
    assert r.p == pytest.approx(known.pvalue)


def test_a_wave_of_the_machine_cancels_in_pairs() -> None:
    """Blocks that differ threefold, cells by 5%: the paired ratio knows it exactly, the unpaired one not at all."""
    waves = [1.0, 3.0, 2.0, 1.2]
    r = paired_ratio([1.05 * w for w in waves], waves)
    assert (r.low, r.high) == pytest.approx((1.05, 1.05)) and r.p == 0.0
    loose = unpaired_ratio([1.05 * w for w in waves], waves)
    assert loose.low < 0.5 and loose.high > 2 and loose.p > 0.8


@pytest.mark.parametrize("make", [paired_ratio, unpaired_ratio])
def test_two_repeats_are_what_was_seen_and_no_claim(make: Callable[[list[float], list[float]], Interval]) -> None:
    """However far apart they are."""
    r = make([10.0, 11.0], [1.0, 1.0])
    assert r.bound == "range" and r.low >= 9.9 and r.high <= 11.1 and r.p == 1.0 and not differs(r)
    same = make([2.0, 2.0, 2.0], [2.0, 2.0, 2.0])
    assert (same.low, same.high, same.p) == (1.0, 1.0, 1.0) and not differs(same)


def test_runs_that_wander_are_told_apart_in_few_of_many() -> None:
    """Two runs of four cells, twelve repeats that remember half of the one before: with the run's own memory nearly all
    intervals hold 1, without it one in five does not."""
    rng = np.random.default_rng(8)
    held = {True: 0, False: 0}
    for _ in range(300):
        both = []
        for _run in range(2):
            wave = rng.normal(0, 1, 40)
            for i in range(1, 40):
                wave[i] += 0.5 * wave[i - 1]
            rows = np.exp(0.02 * (wave[None, -12:] + rng.normal(0, 0.4, (4, 12))))
            both.append((rows[0].tolist(), waves(rows.tolist()).apart(12)))
        (a, wide_a), (b, wide_b) = both
        for known in held:
            found = unpaired_ratio(a, b, (wide_a, wide_b) if known else (1.0, 1.0))
            held[known] += found.low <= 1 <= found.high
    assert held[True] >= 276 and held[False] < 255


def test_many_rows_share_their_scatter() -> None:
    """One row is the textbook's; of thirty rows of three repeats with two modes hardly any is told apart, where each by
    itself several are."""
    rng = np.random.default_rng(9)
    a, b = [1.0, 1.1, 0.95], [1.2, 1.25, 1.3]
    assert pooled_ratios([(a, b)], paired=True) == [paired_ratio(a, b)]
    alone = together = 0
    for _ in range(100):
        rows = [
            tuple(np.where(rng.random(3) < 0.3, 0.7, 1.0) * np.exp(rng.normal(0, 0.003, 3)) for _ in range(2))
            for _ in range(30)
        ]
        pairs = [(x.tolist(), y.tolist()) for x, y in rows]
        alone += min(holm([paired_ratio(x, y).p for x, y in pairs])) < 0.05
        together += min(holm([r.p for r in pooled_ratios(pairs, paired=True)])) < 0.05
    assert together <= 10 and alone > together


@given(FIGURES)
def test_a_geometric_interval_is_the_textbook_one(values: list[float]) -> None:
    """Student's of the logarithm from six on, by scipy's own; below that what was seen."""
    found = geometric_interval(values)
    assert found.value == pytest.approx(math.exp(np.log(values).mean()))
    if len(values) < 6:
        assert found.bound == "range" and (found.low, found.high) == pytest.approx((min(values), max(values)))
    elif np.log(values).std() > 1e-6:
        known = reference.ttest_1samp(np.log(values), 0.0).confidence_interval(0.95)
        assert (found.low, found.high) == pytest.approx((math.exp(known.low), math.exp(known.high)))


def test_a_ratio_wants_positive_values() -> None:
    """A ratio to zero has no interval."""
    for a, b in (([1.0, 1.0], [0.0, 1.0]), ([], [])):
        with pytest.raises(ValueError, match=r"positive|no values"):
            paired_ratio(a, b)
    with pytest.raises(ValueError, match="as many"):
        paired_ratio([1.0, 2.0], [1.0])


@given(st.lists(st.floats(0, 1), min_size=1, max_size=8))
def test_holm_by_its_definition(p: list[float]) -> None:
    """The k-th smallest is rejected where it and all smaller ones are below 5% over what is left of them."""
    order = sorted(range(len(p)), key=lambda i: p[i])
    rejected = set()
    for rank, i in enumerate(order):
        if p[i] * (len(p) - rank) >= 0.05:
            break
        rejected.add(i)
    assert {i for i, value in enumerate(holm(p)) if value < 0.05} == rejected


def test_all_against_one_are_all_pairs_at_once() -> None:
    """Of a block design, against the sums of squares by least squares; of two cells it is the paired test."""
    rng = np.random.default_rng(5)
    logs = rng.normal(0, 0.05, (5, 6)) + rng.normal(0, 0.5, 6)[None, :] + np.array([0, 0.02, 0.1, 0.3, 0.05])[:, None]
    design = np.hstack([np.kron(np.eye(5), np.ones((6, 1))), np.kron(np.ones((5, 1)), np.eye(6))])
    fitted = design @ np.linalg.lstsq(design, logs.ravel(), rcond=None)[0]
    error = float(((logs.ravel() - fitted) ** 2).sum()) / 20
    own = [(logs[i] - logs[3]).var(ddof=1) / 2 for i in range(5)]
    edge = [reference.t.ppf(1 - 0.05 / 20, 20) * (2 * max(error, v) / 6) ** 0.5 for v in own]
    wanted = [abs(logs[i].mean() - logs[3].mean()) > edge[i] for i in range(5)]
    assert significantly_different(np.exp(logs), 3).tolist() == wanted and any(wanted) and not wanted[3]
    for shift in np.linspace(0, 0.2, 15):
        two = np.exp(logs[:2] + np.array([[shift], [0.0]]))
        assert significantly_different(two, 0)[1] == (paired_ratio(list(two[0]), list(two[1])).p < 0.05)


@given(st.integers(2, 4), st.integers(1, 3), st.integers(1, 4), st.integers(3, 6), st.integers(0, 99))
def test_what_cells_share_is_no_evidence(rigs: int, launches: int, cells: int, blocks: int, seed: int) -> None:
    """In a balanced design the variance of a kind of pair is the mean of what those pairs scatter by; of all cells on
    rigs of their own, or of all on one, it is the residual of the blocks."""
    rig = np.repeat(np.arange(rigs), launches * cells)
    launch = np.repeat(np.arange(rigs * launches), cells)
    logs = np.random.default_rng(seed).normal(0, 0.05, (len(rig), blocks))
    shared = [(f"rig {r}", f"launch {number}") for r, number in zip(rig, launch, strict=True)]
    every = list(itertools.combinations(range(len(rig)), 2))
    kinds = [(rig[a] != rig[b], launch[a] != launch[b]) for a, b in every]
    own = {pair: float((logs[pair[0]] - logs[pair[1]]).var(ddof=1)) for pair in every}
    _, error, df = pairs_error(np.exp(logs), every, shared)
    for pair, kind, found in zip(every, kinds, error, strict=True):
        alike = [own[p] for p, k in zip(every, kinds, strict=True) if k == kind]
        assert found**2 * blocks == pytest.approx(max(np.mean(alike), own[pair]), rel=1e-6)
    assert df.min() >= blocks - 1
    for nothing in ((), [("one", "one")] * len(rig), [(str(i), "one") for i in range(len(rig))]):
        assert pairs_p(np.exp(logs), every, nothing) == pytest.approx(pairs_p(np.exp(logs), every), rel=1e-6)


def test_the_luck_of_a_rig_is_not_ten_cells_that_agree() -> None:
    """Ten cells on each of two rigs, of which one was slower in all three blocks: that is three figures, not thirty;
    cells of one rig are told from each other as if nothing had happened."""
    rng = np.random.default_rng(0)
    logs = rng.normal(0, 0.01, (20, 3))
    logs[10:] -= (0.12, 0.05, 0.08)
    logs[0], logs[10] = logs[0] + 0.04, logs[10] + 0.04
    rigs = [("gannet",)] * 10 + [("petrel",)] * 10
    across, within = [(i, i + 10) for i in range(1, 10)], [(0, 1), (10, 11)]
    assert min(holm(pairs_p(np.exp(logs), across))) < 0.001 < 0.05 < min(holm(pairs_p(np.exp(logs), across, rigs)))
    assert max(pairs_p(np.exp(logs), within, rigs)) < 0.01 < max(pairs_p(np.exp(logs), within))


def test_a_cell_that_is_noisier_than_the_others_is_judged_by_its_own_noise() -> None:
    """Four quiet cells would make it look clearly slower."""
    quiet = np.full((4, 5), 100.0) * np.exp(np.random.default_rng(1).normal(0, 0.001, (4, 5)))
    loud = np.array([[60.0, 140.0, 95.0, 70.0, 130.0]])
    assert not significantly_different(np.vstack([quiet, loud]), 0)[4]


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


def test_a_share_of_requests_over_repeats() -> None:
    """Of many alike repeats as of independent requests; wider where those of a repeat fail together; of two a range."""
    found = pooled_share([9] * 300, [10] * 300)
    exact = reference.binomtest(2700, 3000).proportion_ci(method="exact")
    assert (found.low, found.high) == pytest.approx((exact.low, exact.high), rel=2e-3)
    apart, together = pooled_share([9] * 10, [10] * 10), pooled_share([10] * 9 + [0], [10] * 10)
    assert together.low < apart.low < apart.value == together.value == 0.9 and together.high > apart.high
    assert pooled_share([0, 0, 0], [4, 4, 4]).low == 0.0 and pooled_share([4, 4, 4], [4, 4, 4]).high == 1.0
    assert pooled_share([3, 4], [4, 4]).bound == "range"
    for hits, sizes in (([], []), ([5], [4])):
        with pytest.raises(ValueError, match="nothing"):
            pooled_share(hits, sizes)


def test_a_tolerance_bound_lies_above_the_quantile_as_often_as_it_says() -> None:
    """97.5% of bounds from five values each, against the normal quantile itself."""
    rng, true = np.random.default_rng(3), float(reference.norm.ppf(0.95))
    above = sum(tolerance_bound(rng.normal(size=5), 0.95, 5, 0.0) >= true for _ in range(4000)) / 4000
    assert above == pytest.approx(0.975, abs=0.0075)  # three standard errors


def test_pooled_quantile_knows_that_requests_hang_together() -> None:
    """The same requests tell more where they come from many repeats that are alike than from a few that are not."""
    values = np.random.default_rng(3).normal(10, 1, 1600)
    mixed, sorted_in = np.split(values, 8), np.split(np.sort(values), 8)
    i, apart = pooled_quantile_interval(mixed, 0.95), pooled_quantile_interval(sorted_in, 0.95)
    assert i.value == apart.value == pytest.approx(float(np.quantile(values, 0.95)))
    assert i.bound == "interval95" and i.low < i.value < i.high
    assert apart.bound == "range"
    with pytest.raises(ValueError, match="no values"):
        pooled_quantile_interval([np.array([])], 0.5)


def test_a_thin_percentile_has_no_interval() -> None:
    """Of 96 requests nothing is known beyond the highest: what was seen is said."""
    groups = np.split(np.random.default_rng(3).normal(10, 1, 96), 6)
    i = pooled_quantile_interval(groups, 0.95)
    assert i.bound == "range" and i.low <= i.value <= i.high


@given(st.lists(st.floats(-1e9, 1e9), min_size=1, max_size=40), st.floats(0, 1))
def test_the_quick_quantile_is_that_of_the_library(values: list[float], p: float) -> None:
    """To the last bit: figures of old stores stay what they were."""
    assert quantile(values, p) == float(np.quantile(values, p))


@given(st.lists(st.floats(-1e9, 1e9), min_size=1, max_size=40))
def test_the_quick_median_is_the_median(values: list[float]) -> None:
    """Of lists it is found without arrays; the same number."""
    assert median(values) == pytest.approx(float(np.median(values)), rel=1e-12, abs=1e-9)


@pytest.mark.parametrize("noise", ["normal", "slow tail", "bimodal", "heavy tails", "drift", "waves 0.8, shared"])
def test_equal_cells_are_seldom_told_apart(noise: str) -> None:
    """A short version of the simulation in benchmarks/claims.py: of 300 studies no more than chance allows above 5%."""
    rng = np.random.default_rng(3)
    for n, cells in ((3, 6), (6, 6)):
        false = [simulate(rng, noise, n, cells, 300)[0].value for simulate in (claims.false_best, claims.false_gain)]
        held, alone = claims.coverage(rng, noise, n, 300)
        assert max(false) <= 0.085 and held.value >= 0.91 and alone.value <= 0.085


def test_pairs_of_a_study_share_its_error() -> None:
    """Of two cells it is the paired test; three repeats that happen to agree are no certainty beside restless cells."""
    rng = np.random.default_rng(2)
    columns = np.exp(rng.normal(0, 0.05, (6, 3)))
    two = columns[:2]
    assert pairs_p(two, [(0, 1)]) == pytest.approx([paired_ratio(list(two[0]), list(two[1])).p])
    columns[0], columns[1] = 1.0, (1.02, 1.0201, 1.0199)
    many = paired_ratios(columns, [(2, 3), (5, 4)])
    for found, (a, b) in zip(many, [(2, 3), (5, 4)], strict=True):
        one = paired_ratio(list(columns[a]), list(columns[b]))
        assert (found.value, found.low, found.high, found.p) == pytest.approx((one.value, one.low, one.high, one.p))
    alone, together = pairs_p(columns[:2], [(1, 0)])[0], pairs_p(columns, [(1, 0)])[0]
    assert alone < 0.001 and together > 0.2 and pairs_p(columns, []) == []
