"""Arrivals, lengths, samples, drivers, retries: what a load is made of."""

from __future__ import annotations

import itertools
import math
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from tests.build import study
from zinc_kettle.core.drivers import FULL_SHARE, ceiling_tokens_per_s, drivers_wanted
from zinc_kettle.core.plan.factors import FACTORS
from zinc_kettle.core.plan.study import Prompts, Repeats, shape_of, turns_of, workload
from zinc_kettle.core.plan.suite import SUITE
from zinc_kettle.core.plan.traffic import Lengths, Load, Recorded, arrivals_ns, draw, sample, thinks_ns
from zinc_kettle.core.redact import HIDDEN, redact
from zinc_kettle.store.plans import plan_text, study_of


def test_constant_arrivals() -> None:
    """Sixty a minute is one a second."""
    assert arrivals_ns(Load("open", "constant"), 4, 60, seed=1) == [0, 10**9, 2 * 10**9, 3 * 10**9]


def test_poisson_arrivals_are_poisson() -> None:
    """Exponential gaps of the mean asked for (Kolmogorov and Smirnov), and the same for the same seed."""
    load = Load("open", "poisson")
    due = arrivals_ns(load, 4_000, 600, seed=3)
    gaps = np.diff([0, *due]) / 1e9
    assert stats.kstest(gaps, "expon", args=(0, 0.1)).pvalue > 0.001
    assert float(gaps.mean()) == pytest.approx(0.1, rel=0.06)
    assert due == arrivals_ns(load, 4_000, 600, seed=3) != arrivals_ns(load, 4_000, 600, seed=4)


@given(st.lists(st.floats(0, 1e4), min_size=2, max_size=30), st.integers(1, 80), st.integers(0, 6_000))
def test_recorded_arrivals_keep_their_pattern(times: list[float], count: int, per_minute: int) -> None:
    """Ascending, from 0, as many as asked; at a rate their gaps are stretched by one factor."""
    first = min(times)
    times_s = tuple(sorted(t - first for t in times))
    due = arrivals_ns(Load("open", "recorded", times_s), count, per_minute, seed=1)
    assert len(due) == count and due[0] == 0 and due == sorted(due)
    if per_minute == 0 and count <= len(times_s):
        assert due == [round(t * 1e9) for t in times_s[:count]]


LENGTHS = [
    Lengths("fixed", tokens=7),
    Lengths("uniform", low=10, high=400),
    Lengths("lognormal", median=120.0, sigma=0.8, low=8, high=2_000),
    Lengths("table", table=((32, 1.0), (512, 2.0), (2_048, 1.0))),
]


@pytest.mark.parametrize("lengths", LENGTHS, ids=[x.kind for x in LENGTHS])
def test_drawn_lengths_are_of_their_distribution(lengths: Lengths) -> None:
    """Same for the same seed, within bounds, and of the distribution that was asked for."""
    drawn = draw(lengths, 2_000, seed=5, what="prompts")
    assert drawn == draw(lengths, 2_000, seed=5, what="prompts")
    assert max(drawn) <= lengths.most
    if lengths.kind == "uniform":
        assert (min(drawn), max(drawn)) == (10, 400) and np.mean(drawn) == pytest.approx(205, rel=0.01)
    if lengths.kind == "lognormal":
        assert np.median(drawn) == pytest.approx(120, rel=0.02)
        inside = [math.log(n / 120) / 0.8 for n in drawn if 8 < n < 2_000]
        assert stats.kstest(inside, "norm").pvalue > 0.001
    if lengths.kind == "table":
        assert [drawn.count(n) for n in (32, 512, 2_048)] == [500, 1_000, 500]


def test_prompts_and_answers_are_drawn_independently() -> None:
    """A long prompt has no longer an answer than a short one."""
    one, two = (draw(LENGTHS[1], 500, seed=5, what=what) for what in ("prompts", "outputs"))
    assert one != two and abs(float(np.corrcoef(one, two)[0, 1])) < 0.15


def test_thinking() -> None:
    """Exponential with the mean asked for; none where nobody thinks."""
    assert thinks_ns(Load(), 3, seed=1) == [0, 0, 0]
    assert np.mean(thinks_ns(Load(think_s=2.0), 4_000, seed=1)) / 1e9 == pytest.approx(2.0, rel=0.06)


@given(st.integers(1, 60), st.integers(1, 80), st.integers(0, 5))
def test_samples(total: int, count: int, seed: int) -> None:
    """Without repetition, in the order of the file, the same for the same seed."""
    recorded = [Recorded((("user", str(i)),)) for i in range(total)]
    picked = sample(recorded, count, seed=seed)
    numbers = [int(r.messages[0][1]) for r in picked]
    assert len(picked) == min(count, total) and all(a < b for a, b in itertools.pairwise(numbers))
    assert picked == sample(recorded, count, seed=seed)
    assert sample(recorded, None, seed=seed) == recorded


def test_the_suite_and_the_factor_name_the_same_tasks() -> None:
    """One list in two places would drift apart."""
    assert set(FACTORS["task"].choices) == set(SUITE)


def load_study(shape: str, *, hold: dict[str, Any] | None = None, **changes: Any) -> Any:
    """A study of one load shape over two concurrencies."""
    held = {"model": "brine-15m", "prompt_tokens": 64, "output_tokens": 8, "context": 256, **(hold or {})}
    return study({"concurrency": (1, 6)}, load=Load(shape, turns=3), hold=held, **changes)  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("shape", "counts"),
    [("closed", [1, 24]), ("burst", [1, 6]), ("batch", [1, 6]), ("open", [48, 48]), ("conversation", [3, 18])],
)
def test_requests_go_by_the_shape(shape: str, counts: list[int]) -> None:
    """As many as each shape needs by itself, and as many as are asked for."""
    plan = load_study(shape)
    assert [c.requests(plan) for c in plan.cells] == counts
    asked = load_study(shape, repeats=Repeats(requests=10))
    assert [c.requests(asked) for c in asked.cells] == ([12, 12] if shape == "conversation" else [10, 10])


def test_a_task_sets_lengths_and_shape() -> None:
    """Its own lengths where nothing else is said; a task of several turns is a conversation."""
    plan = study({"task": ("short-ask", "chat-in-depth")}, hold={"model": "m", "context": 4_096})
    short, talk = plan.cells
    assert (short.settings["prompt_tokens"], short.settings["output_tokens"]) == (128, 96)
    assert shape_of(plan, short) == "closed" and shape_of(plan, talk) == "conversation"
    assert turns_of(plan, talk) == SUITE["chat-in-depth"].turns == 6
    held = study({"task": ("drafting",)}, hold={"model": "m", "output_tokens": 32})
    assert held.cells[0].settings["output_tokens"] == 32


def test_the_fingerprint_of_a_workload_knows_its_load() -> None:
    """What the engine is asked to do differs: so does the fingerprint; a plain study keeps the one it had."""
    plain = study({"concurrency": (1,)})
    assert "arrivals" not in workload(plain, plain.cells[0])
    prints = []
    changes: list[dict[str, Any]] = [
        {},
        {"load": Load("burst")},
        {"load": Load("conversation")},
        {"load": Load(think_s=1.0)},
        {"prompts": Prompts(recorded=(Recorded((("user", "a"),)),))},
        {"prompts": Prompts(lengths=LENGTHS[1])},
        {"prompts": Prompts(outputs=LENGTHS[1])},
    ]
    for change in changes:
        plan = study({"concurrency": (1,)}, **change)
        prints.append(str(sorted(workload(plan, plan.cells[0]).items())))
    assert len(set(prints)) == len(prints)


def test_a_study_with_a_load_survives_being_kept() -> None:
    """Through JSON and back, nothing changes; an older study without a load is read as it was."""
    import json

    prompts = Prompts(
        recorded=(Recorded((("user", "a"), ("assistant", "b"), ("user", "c")), 9),),
        lengths=LENGTHS[3],
        tasks={"code": ("x",)},
    )
    plan = study({"concurrency": (1,)}, load=Load("open", "recorded", (0.0, 1.5)), prompts=prompts)
    assert study_of(plan_text(plan)) == plan
    old = json.loads(plan_text(study({"concurrency": (1,)})))
    for name in ("load", "retry"):
        del old[name]
    for name in ("recorded", "tasks", "sample", "lengths", "outputs"):
        del old["prompts"][name]
    assert study_of(json.dumps(old)) == study({"concurrency": (1,)})


@given(st.floats(0, 1e6), st.integers(1, 5_000), st.floats(1_000, 1e5), st.integers(1, 64))
def test_drivers_wanted(rate: float, streams: int, ceiling: float, cores: int) -> None:
    """At least one; enough for the streams; never more for the rate than half of the cores."""
    count = drivers_wanted(tokens_per_s=rate, streams=streams, ceiling=ceiling, cores=cores)
    assert count >= 1 and count * 2_048 >= streams
    if count > -(-streams // 2_048):
        assert count <= max(1, cores // 2) and (count - 1) * ceiling < rate
    assert drivers_wanted(tokens_per_s=rate * 2, streams=streams, ceiling=ceiling, cores=cores) >= count


def test_ceiling() -> None:
    """Twenty microseconds a token at the full share of a core."""
    assert ceiling_tokens_per_s(20.0) == pytest.approx(FULL_SHARE * 50_000)
    assert ceiling_tokens_per_s(0.0) > 0


@given(st.text(max_size=60), st.text(max_size=60), st.text("abcdefghij0123456789-", min_size=8, max_size=40))
def test_secrets_do_not_stay_in_a_text(before: str, after: str, secret: str) -> None:
    """Wherever it stands, and where the text was cut in its greater part."""
    assert secret not in redact(before + secret + after, secret)
    cut = secret[: len(secret) * 3 // 4]
    assert not redact(before + cut, secret).endswith(cut) or len(cut) < 4
    assert redact("nothing here", secret) == "nothing here" or secret in "nothing here"


def test_a_secret_leaves_a_mark() -> None:
    """So that a person sees that something was there; very short ones are left alone."""
    assert redact("your key sesame-4711 is wrong", "sesame-4711") == f"your key {HIDDEN} is wrong"
    assert redact("a b c", "a", "") == "a b c"
