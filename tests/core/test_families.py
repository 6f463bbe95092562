"""Lines, slopes, falls with depth, drift, precision, pooled quantiles: against other ways to compute them."""

from __future__ import annotations

import random
from collections.abc import Sequence
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.build import measured, repeat, repeats_at, study, timeline
from zinc_kettle.core.family import PrefillSlope, depth_fall, prompt_point
from zinc_kettle.core.family import prefill_slope as slope_of_points
from zinc_kettle.core.lengths import families
from zinc_kettle.core.measures import repeat_figures
from zinc_kettle.core.plan.study import Repeats
from zinc_kettle.core.record.repeat import Missing, Repeat
from zinc_kettle.core.record.value import Value
from zinc_kettle.core.results import StudyResults
from zinc_kettle.core.run.precision import half_width_percent, look_level, looks, wanted_repeats
from zinc_kettle.core.stats import fit_line, median_interval
from zinc_kettle.core.stats.drift import trend
from zinc_kettle.core.summary import cell_value
from zinc_kettle.present.answer import answer
from zinc_kettle.present.findings import findings
from zinc_kettle.present.lengths import slope_text, turn_lines


def asked(tokens: int, ttft_ms: float, *, output: int = 8, step_ms: float = 20.0, **changes: Any) -> Repeat:
    """One request with a prompt of so many tokens."""
    stamps = [ttft_ms + step_ms * i for i in range(output)]
    return repeat(timeline(stamps, prompt_tokens=tokens), **changes)


def family(overhead_ms: float, rate: float, *, noise: float = 0.0, bend: float = 0.0) -> dict[int, list[Repeat]]:
    """Three repeats at five lengths, of a machine with this overhead and prefill speed."""
    rng = random.Random(4)
    out = {}
    for n in (128, 256, 512, 1_024, 2_048):
        true = overhead_ms + 1e3 * n / rate + bend * n * n / 1e6
        out[n] = [asked(n, true * (1 + noise * rng.gauss(0, 1))) for _ in range(3)]
    return out


def prefill_slope(of_length: dict[int, list[Repeat]]) -> PrefillSlope | Missing:
    """The slope of a family's repeats by prompt length."""
    return slope_of_points([p for repeats in of_length.values() for r in repeats if (p := prompt_point(r)) is not None])


def test_a_slope_finds_speed_and_overhead() -> None:
    """Exact points give the exact line; its interval holds the truth when there is noise."""
    exact = prefill_slope(family(30.0, 500.0))
    assert not isinstance(exact, Missing)
    assert exact.rate == pytest.approx(500.0, rel=1e-6) and exact.line.intercept == pytest.approx(0.030, rel=1e-4)
    noisy = prefill_slope(family(30.0, 500.0, noise=0.02))
    assert not isinstance(noisy, Missing) and noisy.rate_high is not None
    assert noisy.rate_low < 500.0 < noisy.rate_high and noisy.rate_high / noisy.rate_low < 1.2
    assert not noisy.line.curved


def test_a_curve_is_told() -> None:
    """Attention that grows with the square: the line is not the truth, and the text says so."""
    bent = prefill_slope(family(30.0, 500.0, noise=0.005, bend=400.0))
    assert not isinstance(bent, Missing) and bent.line.curved and bent.overhead is None
    assert bent.ends is not None and bent.ends[0] > bent.ends[1] and "curved" in slope_text(bent)


def test_a_slope_that_may_be_nothing_is_not_determined() -> None:
    """Noise far above the effect: no upper bound, or no slope at all; never a number out of the air."""
    wild = {n: [asked(n, t) for t in (90.0, 110.0, 100.0)] for n in (128, 160, 192)}
    found = prefill_slope(wild)
    assert isinstance(found, Missing) or found.rate_high is None
    falling = {n: [asked(n, 400.0 - n / 10)] for n in (128, 512, 1_024, 2_048)}
    assert isinstance(prefill_slope(falling), Missing)


def test_a_slope_wants_three_lengths_alone() -> None:
    """Two lengths, or queued requests, carry none."""
    alike = {n: [asked(n, 100.0 + n)] for n in (128, 130, 132)}
    assert isinstance(prefill_slope(alike), Missing)
    two = {n: repeats for n, repeats in family(30.0, 500.0).items() if n < 512}
    assert isinstance(prefill_slope(two), Missing)
    queued = {n: [asked(n, 100.0 + n, concurrency=2)] for n in (128, 256, 512)}
    assert isinstance(prefill_slope(queued), Missing)


@given(st.floats(0.001, 10), st.floats(-0.5, 5), st.integers(4, 20), st.integers(0, 1_000))
def test_lines_against_another_way(a: float, b: float, n: int, seed: int) -> None:
    """Weights 1/y²: the same as ordinary least squares of 1 on (1/y, x/y), done by the normal equations."""
    rng = np.random.default_rng(seed)
    x = np.linspace(1, 10, n)
    y = np.abs(a + b * x + rng.normal(0, 0.01, n)) + 0.1
    line = fit_line(x.tolist(), y.tolist())
    assert line is not None
    design = np.stack([1 / y, x / y], axis=1)
    beta = np.linalg.solve(design.T @ design, design.T @ np.ones(n))
    assert (line.intercept, line.slope) == pytest.approx(tuple(beta), rel=1e-6, abs=1e-9)
    assert line.slope_low <= line.slope <= line.slope_high


def test_line_intervals_cover() -> None:
    """Of 400 noisy lines about 95% hold the true slope."""
    rng = np.random.default_rng(1)
    x = np.repeat([100.0, 200.0, 400.0, 800.0], 3)
    held = 0
    for _ in range(400):
        y = (0.02 + x / 500) * (1 + rng.normal(0, 0.03, len(x)))
        line = fit_line(x.tolist(), y.tolist())
        assert line is not None
        held += line.slope_low <= 1 / 500 <= line.slope_high
    assert 0.91 <= held / 400 <= 0.985


def test_line_intervals_cover_when_blocks_wander() -> None:
    """A slow block slows all of its points: bounds over blocks hold the truth, those over points would not."""
    rng = np.random.default_rng(2)
    lengths = np.array([100.0, 200.0, 400.0, 800.0])
    held = alone = 0
    for _ in range(400):
        slow = np.exp(rng.normal(0, 0.05, 6))
        y = ((0.02 + lengths / 500) * slow[:, None] * (1 + rng.normal(0, 0.005, (6, 4)))).ravel().tolist()
        x, blocks = np.tile(lengths, 6).tolist(), np.repeat(range(6), 4).tolist()
        by_block, by_point = fit_line(x, y, blocks), fit_line(x, y)
        assert by_block is not None and by_point is not None
        held += by_block.slope_low <= 1 / 500 <= by_block.slope_high
        alone += by_point.slope_low <= 1 / 500 <= by_point.slope_high
    assert 0.91 <= held / 400 <= 0.985
    assert alone / 400 < 0.9


def test_a_negative_overhead_is_remarked() -> None:
    """Times that grow with the square of the length put the line's start below zero."""
    bent = {n: [asked(n, n * n / 500, block=i) for i in range(3)] for n in (128, 512, 1_024, 2_048)}
    found = prefill_slope(bent)
    assert not isinstance(found, Missing)
    assert found.line.intercept_high < 0 and found.overhead is None and "neither one speed" in slope_text(found)


def test_a_curve_is_found_behind_slow_blocks() -> None:
    """Of 200 studies of three blocks that differ by 10%: a tenth more at the longest prompt is nearly always told, none
    rarely; the slope at the end is that of the curve it was made of."""
    rng = np.random.default_rng(3)
    lengths = np.array([128.0, 256.0, 512.0, 1_024.0, 2_048.0])
    x, blocks = np.tile(lengths, 3).tolist(), np.repeat(range(3), 5).tolist()
    told = {0.0: 0, 0.1: 0}
    for bend in told:
        times = 0.02 + lengths / 500 + bend * (0.02 + lengths[-1] / 500) * (lengths / lengths[-1]) ** 2
        for _ in range(200):
            y = times * np.exp(rng.normal(0, 0.1, (3, 1)) + rng.normal(0, 0.01, (3, 5)))
            line = fit_line(x, y.ravel().tolist(), blocks)
            assert line is not None
            told[bend] += line.curved
    assert told[0.0] <= 16 and told[0.1] >= 180
    exact = fit_line(x, np.tile(times, 3).tolist(), blocks)
    slope_last = 1 / 500 + 2 * 0.1 * (0.02 + lengths[-1] / 500) / lengths[-1]
    assert exact is not None and exact.curve is not None
    assert exact.curve.slope_last == pytest.approx(slope_last, rel=1e-6)


def test_nothing_to_fit() -> None:
    """Too few points, too few places, or times that are no times."""
    assert fit_line([1, 2], [1, 2]) is None
    assert fit_line([1, 1, 2, 2], [1, 1, 2, 2]) is None
    assert fit_line([1, 2, 3], [1, 0, 2]) is None


def test_decode_over_depth() -> None:
    """20 ms a token and 1 ms more for every 100 tokens of context."""
    requests = [asked(n, 50.0, step_ms=20.0 + (n + 4) / 100) for n in (100, 600, 1_100)]
    fall = depth_fall(requests)
    assert not isinstance(fall, Missing)
    shallow, deep = 20.0 + 1.04, 20.0 + 11.04
    assert fall.speed(104) == pytest.approx(1e3 / shallow, rel=1e-6)
    assert fall.loss == pytest.approx(1 - shallow / deep, rel=1e-6)
    assert isinstance(depth_fall(requests[:2]), Missing)
    level = [asked(n, 50.0) for n in (1_000, 1_100, 1_200)]
    assert isinstance(depth_fall(level), Missing)


def test_drift_is_told_from_noise() -> None:
    """A steady fall drifts; noise, a small trend, and five values do not."""
    falling = trend([100 - i for i in range(10)])
    assert falling is not None and falling.drifts and falling.share == pytest.approx(-9 / 95.5)
    rng = random.Random(2)
    quiet = trend([100 + rng.gauss(0, 3) for _ in range(12)])
    assert quiet is not None and not quiet.drifts
    small = trend([100 + 0.1 * i for i in range(12)])
    assert small is not None and small.p < 0.01 and not small.drifts
    assert trend([1, 2, 3, 4, 5]) is None and trend([2.0] * 9) is None


def test_false_alarms_of_drift_are_rare() -> None:
    """One cell in a hundred by chance, as the threshold says."""
    rng = np.random.default_rng(5)
    found = [trend(rng.normal(100, 10, 8).tolist()) for _ in range(600)]
    assert sum(t is not None and t.drifts for t in found) <= 600 * 0.02


PLAN = Repeats(count=6, until_percent=2.0, ceiling=30)


def test_repeats_until_narrow() -> None:
    """The first look first; enough when narrow; the next look when wide; never beyond the ceiling."""
    narrow = [100.0, 100.2, 99.9, 100.1, 100.0, 99.8, 100.3, 99.9]
    wide = [100.0, 130.0, 80.0, 110.0, 90.0, 120.0, 85.0, 105.0]
    planned = looks(PLAN.count, PLAN.most)
    assert wanted_repeats(PLAN, narrow[:5]) == planned[0] and wanted_repeats(PLAN, narrow) == planned[0]
    assert wanted_repeats(PLAN, wide) == planned[1]
    assert wanted_repeats(PLAN, wide * 5) == 30 and wanted_repeats(PLAN, []) == planned[0]
    assert wanted_repeats(Repeats(count=3), wide) == 3
    interval = median_interval(wide, level=look_level(PLAN))
    half = 100 * max(interval.high - interval.value, interval.value - interval.low) / interval.value
    assert half_width_percent(wide, level=look_level(PLAN)) == pytest.approx(half)
    assert half_width_percent(wide[:5]) is None and half_width_percent([]) is None


@given(st.integers(1, 40), st.integers(1, 2_000))
def test_looks_are_few_and_can_carry_their_level(floor: int, more: int) -> None:
    """They grow from the floor on to the ceiling, and at the first one bounds at the looks' level exist."""
    planned = looks(floor, floor + more)
    assert list(planned) == sorted(set(planned)) and planned[0] >= floor and planned[-1] == floor + more
    level = 1 - 0.05 / len(planned)
    assert planned[0] == planned[-1] or median_interval([float(i) for i in range(planned[0])], level=level).bound != (
        "range"
    )


def test_a_study_until_narrow_is_measured_when_it_is() -> None:
    """The map counts what each cell wants, not what all might."""
    plan = study({"threads": (1, 2)}, repeats=PLAN)
    one, two = plan.cells
    steady = measured(*repeats_at(25.0, 25.1, 24.9, 25.0, 25.05, 24.95, 25.0, 25.02))
    loose = measured(*repeats_at(20.0, 25.0, 30.0, 22.0, 28.0, 24.0, 21.0, 29.0))
    results = StudyResults.of_repeats(plan, {one.key: steady, two.key: loose})
    assert [c.state for c in results.cells] == ["measured", "partly"]
    assert results.cells[1].wanted > 8


def burst(latencies_ms: Sequence[float], **changes: Any) -> Repeat:
    """Requests at once, each with its first output after so long."""
    return repeat(*(timeline([ms, ms + 10]) for ms in latencies_ms), concurrency=len(latencies_ms), **changes)


def test_request_percentiles_pool_and_say_when_thin() -> None:
    """p95 over all requests; thin below 200; one repeat counts requests."""
    few = cell_value([burst([100.0 + i for i in range(100)])], "ttft_p95")
    assert isinstance(few, Value) and few.thin and few.of == "requests" and few.n == 100
    assert few.value == pytest.approx(float(np.quantile([0.1 + i / 1e3 for i in range(100)], 0.95)))
    many = cell_value([burst([100.0 + i % 50 for i in range(200)], block=b) for b in range(2)], "ttft_p95")
    assert isinstance(many, Value) and not many.thin and many.of == "repeats" and many.n == 2


def test_a_burst_has_a_batch_time_and_no_throughput() -> None:
    """From the first sent to the last output; a steady state there is none."""
    figures = repeat_figures(burst([100.0, 400.0], extras={"burst": 1.0}))
    assert figures["batch_wall"] == pytest.approx(0.410)
    assert isinstance(figures["throughput"], Missing) and "at once" in figures["throughput"].reason
    assert figures["overall_requests"] == pytest.approx(2 / 0.410)
    written = sum(t.total_tokens for t in burst([100.0, 400.0]).measured)
    assert figures["overall_output"] == pytest.approx(written / 0.410)
    read = figures["overall_input"]
    assert isinstance(read, float) and figures["overall_tokens"] == pytest.approx(read + written / 0.410)


def test_open_loop_throughput_counts_between_the_first_latency_and_the_last_due() -> None:
    """Twenty requests a second apart, each of ten tokens: ten tokens a second."""
    second = 1_000_000_000
    moved = [
        timeline([i * 1e3 + 100 + 20 * k for k in range(10)], sent_ms=i * 1e3, due_ns=i * second) for i in range(20)
    ]
    figures = repeat_figures(repeat(*moved, extras={"open_loop": 1.0}))
    assert figures["throughput"] == pytest.approx(10.0, rel=0.04)
    assert isinstance(figures["prefill_client"], Missing)


def test_families_are_told_in_words() -> None:
    """One sentence for each family of a study over prompt lengths; none where lengths do not vary."""
    lengths = (128, 256, 512, 1_024)
    plan = study({"threads": (1, 2), "prompt_tokens": lengths}, hold={"model": "m", "context": 4_096})
    points = family(30.0, 500.0, noise=0.01)
    repeats = {c.key: measured(*points[int(c.levels["prompt_tokens"])]) for c in plan.cells}
    results = StudyResults.of_repeats(plan, repeats)
    assert [f.title for f in families(results)] == ["1 thread", "2 threads"]
    told = " ".join(f.text for f in findings(results))
    assert "by slope" in told and "overhead" in told
    assert families(StudyResults(study())) == []
    assert answer(results)


def test_turns_are_a_table() -> None:
    """Depth, wait and speed of each turn, medians over the conversations."""
    requests = [
        timeline([100.0 * (t + 1) + 20 * k for k in range(5)], prompt_tokens=100 * (t + 1), conversation=c, turn=t)
        for c in range(3)
        for t in range(4)
    ]
    plan = study({"threads": (1,)})
    results = StudyResults.of_repeats(plan, {plan.cells[0].key: measured(repeat(*requests))})
    lines = turn_lines(results.cells[0])
    assert len(lines) == 6 and "over 3 conversations" in lines[0]
    assert lines[5].split()[:2] == ["4", "402"] and "50.0 tok/s" in lines[5]
    assert turn_lines(StudyResults(plan).cells[0]) == []
