"""Predicted speeds, their calibration, the limit of bandwidth, and the caution that needs both."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.build import MS, decode_timeline, repeat, timeline
from zinc_kettle.core.cautions import Setting, cell_cautions
from zinc_kettle.core.cautions.machine import SPILLED_SHARE
from zinc_kettle.core.facts import EngineFacts, MachineFacts, ProbeFacts
from zinc_kettle.core.fit.limit import limit_extras, share_of_limit
from zinc_kettle.core.fit.placement import Device, place
from zinc_kettle.core.fit.predict import (
    DEVICE_SHARE,
    LEAST_BAND,
    OUTSIDE_BAND,
    STEP_S,
    UNCALIBRATED_BAND,
    Calibration,
    DevicePoint,
    MachineRates,
    Point,
    calibrate,
    calibrate_devices,
    decode_speed,
    machine_at,
    placed_speed,
    prefill_speed,
    terms,
)
from zinc_kettle.core.fit.sizing import ALL_LAYERS, LaunchSettings
from zinc_kettle.core.fit.step_work import attention_cost, describe, expert_share, kv_bytes_at, touched
from zinc_kettle.core.measures import repeat_figures
from zinc_kettle.core.model_shape import from_sizes
from zinc_kettle.core.record.repeat import Missing, Repeat
from zinc_kettle.core.record.timeline import EngineReport

SHAPE = from_sizes(layers=18, heads=16, kv_heads=8, head_dim=64, ffn=3328, vocab=5632)
MACHINE = MachineRates(10e9, 75e9, 1, "from the probe")
QUANTIZATIONS = ("F16", "Q8_0", "Q6_K", "Q5_0", "Q4_0")


def points(reading: float, operands: float, *, leave_out: str = "") -> list[Point]:
    """What a machine would show whose terms are so many times the prior's."""
    out = []
    for q in QUANTIZATIONS:
        work = touched(SHAPE.at(q))
        a, b, _, c = terms(work, MACHINE)
        if q != leave_out:
            out.append(Point(work, reading * a + operands * b + c, MACHINE, 40.0))
    return out


def test_what_a_token_touches() -> None:
    """All weights but the input embedding; the cache at its depth; a tied output counts once."""
    work = touched(SHAPE)
    assert work.bytes == SHAPE.weights_bytes - SHAPE.bytes_of("embedding")
    assert touched(SHAPE, depth=100).bytes - work.bytes == 100 * 18 * 8 * 128 * 2
    assert touched(SHAPE, depth=100).attention == 100 * 18 * 16 * 128 and work.attention == 0
    costs = [attention_cost("f16", fused=False), attention_cost("q8_0"), attention_cost("f16"), attention_cost("f32")]
    assert costs == sorted(costs) and costs[2] == 1.0
    tied = from_sizes(layers=2, heads=2, head_dim=64, ffn=64, vocab=500, tied=True)
    assert touched(tied).bytes == tied.weights_bytes
    assert touched(SHAPE.at("Q5_0")).operands > touched(SHAPE.at("Q5_0")).weights > touched(SHAPE.at("Q4_0")).operands


def test_experts_that_work_are_read() -> None:
    """One stream reads its own; many streams read nearly all, by the expected number of distinct ones."""
    shape = from_sizes(
        layers=2, heads=2, head_dim=64, ffn=64, vocab=500, experts=16, experts_active=2, weight_type="Q8_0"
    )
    assert expert_share(shape) == pytest.approx(2 / 16)
    assert expert_share(shape, 2) == pytest.approx(1 - (14 / 16) ** 2)
    dense = shape.weights_bytes - shape.bytes_of("embedding", "experts")
    assert touched(shape).bytes == pytest.approx(dense + shape.bytes_of("experts") / 8)
    assert 0.99 < expert_share(shape, 64) <= 1


@given(st.floats(0.8, 1.6), st.floats(0.8, 1.6), st.sampled_from(QUANTIZATIONS))
def test_calibration_predicts_what_was_left_out(reading: float, operands: float, left: str) -> None:
    """On a machine that follows the model, whatever its two rates are, also beyond what was measured."""
    known = calibrate(points(reading, operands, leave_out=left))
    work = touched(SHAPE.at(left))
    a, b, _, c = terms(work, MACHINE)
    true = 1 / (reading * a + operands * b + c)
    predicted = decode_speed(SHAPE.at(left), MACHINE, known)
    assert predicted.value == pytest.approx(true, rel=0.25)
    assert predicted.low < predicted.value < predicted.high


def test_bands_tell_how_far_to_trust() -> None:
    """Wide before anything was measured, narrow within what was, wider beyond it."""
    empty = decode_speed(SHAPE, MACHINE, Calibration())
    assert empty.high / empty.value == pytest.approx(1 + UNCALIBRATED_BAND) and "probe" in empty.origin
    known = calibrate(points(1.1, 1.2, leave_out="F16"))
    inside, outside = decode_speed(SHAPE.at("Q6_K"), MACHINE, known), decode_speed(SHAPE, MACHINE, known)
    assert inside.high / inside.value - 1 >= LEAST_BAND
    assert outside.high / outside.value - 1 >= OUTSIDE_BAND > inside.high / inside.value - 1
    assert "4 measured cells" in inside.origin
    assert calibrate([]) == Calibration()


def test_a_nonsense_measurement_cannot_turn_a_cost_negative() -> None:
    """A larger file that was faster leaves its term out rather than below zero."""
    odd = [replace(p, step_s=p.step_s / (1 + 9 * i)) for i, p in enumerate(reversed(points(1, 1)))]
    known = calibrate(odd)
    assert min(known.reading, known.operands, known.step) >= 0
    assert decode_speed(SHAPE, MACHINE, known).value > 0


def test_prefill_follows_what_was_measured() -> None:
    """The mean ratio to the prior, over all points."""
    known = calibrate(points(1, 1))
    assert prefill_speed(SHAPE, MACHINE, known).value == pytest.approx(40.0, rel=0.01)
    assert prefill_speed(SHAPE, MACHINE, Calibration()).value > 0


def test_experts_in_main_memory_are_between_all_there_and_none() -> None:
    """Only those that work are read, and the input embedding is not: by hand, and between the two extremes."""
    shape = from_sizes(
        layers=8, heads=16, head_dim=128, ffn=1024, vocab=30_000, experts=32, experts_active=4, weight_type="Q8_0"
    )
    main, card = Device("main memory", True, 60_000_000_000, 10e9), Device("card", False, 24_000_000_000, 400e9)
    found = {}
    for name, wish in {
        "card": LaunchSettings(),
        "experts": LaunchSettings(expert_layers_in_main=ALL_LAYERS),
        "main": LaunchSettings(device_layers=0),
    }.items():
        speed = placed_speed(shape, place(shape, wish, [card, main]), MACHINE, Calibration())
        assert speed is not None
        found[name] = speed.value
    assert found["main"] < found["experts"] < found["card"]
    dense = shape.weights_bytes - shape.bytes_of("experts", "embedding")
    read = shape.bytes_of("experts") * 4 / 32
    a, b, _, c = terms(touched(shape), MACHINE)
    there = (a + b) * read / (dense + read)
    assert 1 / found["experts"] == pytest.approx(there + dense / (400e9 * DEVICE_SHARE) + c, rel=1e-6)


def test_layers_on_a_device_are_read_at_its_speed() -> None:
    """All on it is fastest; half of it in main memory costs most of that; nothing is said of unknown bandwidths."""
    main = Device("main memory", True, 60_000_000_000, 10e9)
    card = Device("card", False, 8_000_000_000, 400e9)
    speeds = []
    for layers in (None, 9, 0):
        wish = LaunchSettings(device_layers=layers)
        found = placed_speed(SHAPE, place(SHAPE, wish, [card, main]), MACHINE, Calibration())
        assert found is not None
        speeds.append(found.value)
    assert speeds[0] > 3 * speeds[1] > 3 * speeds[2]
    dark = replace(card, bandwidth_bytes_per_s=None)
    assert placed_speed(SHAPE, place(SHAPE, LaunchSettings(), [dark, main]), MACHINE, Calibration()) is None


@given(share=st.floats(0.4, 1.0), count=st.integers(0, 12))
def test_devices_are_corrected_by_what_ran_on_them(share: float, count: int) -> None:
    """Cells that read at a share of the data sheet: the more there are the nearer is what is predicted of another one,
    always within its band, which narrows; main memory is left alone."""
    card, main = Device("card", False, 24_000_000_000, 400e9), Device("main memory", True, 60_000_000_000, 10e9)

    def truth(quantization: str) -> float:
        return touched(SHAPE.at(quantization)).bytes / (400e9 * share) + STEP_S

    points = [DevicePoint(touched(SHAPE.at(q)).bytes, 400e9, truth(q)) for q in QUANTIZATIONS[1:]] * count
    fitted = calibrate_devices(points, Calibration())
    laid = place(SHAPE.at("F16"), LaunchSettings(), [card, main])
    found = placed_speed(SHAPE.at("F16"), laid, MACHINE, fitted)
    assert laid.layers_on_devices == SHAPE.layers and found is not None
    if count or abs(share / DEVICE_SHARE - 1) < UNCALIBRATED_BAND / 2:
        assert found.low <= 1 / truth("F16") <= found.high
    assert (found.high / found.value - 1 < 0.9 * UNCALIBRATED_BAND) == bool(count)
    assert (fitted.reading, fitted.points) == (1.0, 0)


def test_a_machine_between_probed_thread_counts() -> None:
    """Straight lines between them, the last beyond; an unknown rate is assumed from bandwidth, nothing is nothing."""
    found = machine_at({1: 10e9, 4: 30e9}, {1: 50e9, 4: 200e9}, 2, "x")
    assert found is not None and found.bandwidth_bytes_per_s == pytest.approx(16.67e9, rel=0.01)
    beyond = machine_at({1: 10e9, 4: 30e9}, {}, 16, "x")
    assert beyond is not None and beyond.bandwidth_bytes_per_s == 30e9 and beyond.flops > 0
    assert machine_at({}, {}, 1, "x") is None


def known_extras(**changes: float) -> dict[str, float]:
    """What a repeat keeps of a model of 1 GB on a machine that reads 10 GB/s."""
    return {"step_weight_bytes": 1e9, "kv_bytes_token": 0.0, "bandwidth": 10e9, "cache_bytes": 30e6, **changes}


def test_share_of_the_limit() -> None:
    """5 tokens a second where 10 are allowed is half; the cache at its depth counts."""
    assert share_of_limit(tokens_per_s=5, streams=1, step_bytes=1e9, bandwidth_bytes_per_s=10e9) == 0.5
    figures = repeat_figures(repeat(decode_timeline(5.0), extras=known_extras()))
    assert figures["limit_share"] == pytest.approx(0.5)
    deep = repeat_figures(repeat(decode_timeline(5.0), extras=known_extras(kv_bytes_token=1e6)))
    assert deep["limit_share"] == pytest.approx(0.5 * (1 + 1e6 * (100 + 5.5) / 1e9))


@pytest.mark.parametrize(
    ("extras", "why"),
    [({}, "is not known"), ({"bandwidth": 1e9}, "shape"), (known_extras(cache_bytes=0.3e9), "not applicable")],
)
def test_no_share_without_what_it_is_made_of(extras: dict[str, float], why: str) -> None:
    """The reason is told."""
    figure = repeat_figures(repeat(decode_timeline(5.0), extras=extras))["limit_share"]
    assert isinstance(figure, Missing) and why in figure.reason


def test_extras_of_a_repeat() -> None:
    """From facts of engine and rig: the probe's best bandwidth, experts of all streams, the cache's precision."""
    shape = from_sizes(layers=2, heads=2, head_dim=64, ffn=64, vocab=500, experts=8, experts_active=2)
    probe: ProbeFacts = {"reading": {"1": [9e9, 10e9, 11e9], "2": [18e9, 20e9, 19e9]}}
    rig: MachineFacts = {"probe": probe, "last_level_cache_bytes": 1000}
    out = limit_extras({"model": describe(shape)}, rig, streams=3, cache="q8_0")
    assert out["bandwidth"] == 19e9 and out["cache_bytes"] == 1000
    assert out["step_weight_bytes"] == pytest.approx(touched(shape, streams=3).bytes)
    assert out["kv_bytes_token"] == pytest.approx(2 * 2 * 128 * 34 / 32)
    assert limit_extras({}, {"bandwidth": 20e9}, streams=1, cache="f16")["bandwidth"] == 20e9
    assert limit_extras({}, {}, streams=1, cache="f16") == {}


@pytest.mark.parametrize(
    ("card_bytes", "rate", "bandwidth"),
    [(8e9, 300e9, 300e9), (8e9, None, None), (0.6e9, 300e9, None), (1e6, 300e9, 20e9)],
    ids=["on the card", "a card that does not tell", "spilled over both", "in main memory"],
)
def test_the_limit_is_that_of_the_memory_the_model_lies_in(
    card_bytes: float, rate: float | None, bandwidth: float | None
) -> None:
    """As Fit places it: a card's own bandwidth, none where two memories share the model, else main memory's."""
    shape = from_sizes(layers=8, heads=8, head_dim=64, ffn=8_192, vocab=32_000)
    card, main = Device("card", False, int(card_bytes), rate), Device("main memory", True, int(64e9), 20e9)
    engine: EngineFacts = {"placement": place(shape, LaunchSettings(context=512), [card, main]).plain()}
    rig: MachineFacts = {"bandwidth": 20e9, "probe": {"reading": {"1": [20e9]}}}
    assert limit_extras(engine, rig, streams=1, cache="f16").get("bandwidth") == bandwidth


def test_a_tied_output_matrix_is_read_where_the_last_layer_lies() -> None:
    """On a card it is a copy of the embedding, which fills and is read there; main memory then only looks rows up: the
    speed is that of the bytes of a step at the card's bandwidth, by the limit and by Fit."""
    shape = from_sizes(layers=4, heads=8, head_dim=64, ffn=2_048, vocab=128_000, tied=True)
    card, main = Device("card", False, int(8e9), 300e9), Device("main memory", True, int(64e9), 20e9)
    placement = place(shape, LaunchSettings(context=512), [card, main])
    on_card, in_main = placement.shares
    assert placement.output_on_device and on_card.weights_bytes == shape.weights_bytes
    assert in_main.weights_bytes == shape.bytes_of("embedding")
    found = placed_speed(shape, placement, None, Calibration())
    step_s = STEP_S + touched(shape).bytes / (300e9 * DEVICE_SHARE)
    assert found is not None and found.value == pytest.approx(1 / step_s, rel=1e-6)
    partly = place(shape, LaunchSettings(context=512, device_layers=2), [card, main])
    assert not partly.output_on_device


def spilled(rate: float, **extras: float) -> bool:
    """Whether the caution is raised for a cell that decodes at this rate."""
    r: list[Repeat] = [repeat(decode_timeline(rate), extras=extras)]
    return "spilled" in [c.code for c in cell_cautions(r, Setting())]


def test_spilled_needs_prediction_and_measurement() -> None:
    """Raised where Fit says so, or the host is busy beside a device, and decoding is far too slow; else not."""
    predicted = {"predicted_decode_low": 100.0}
    assert spilled(99, **predicted, spill_predicted=1.0)
    assert not spilled(101, **predicted, spill_predicted=1.0)
    assert spilled(100 * SPILLED_SHARE * 0.99, **predicted, spill_predicted=0.0, has_devices=1.0)
    assert not spilled(100 * SPILLED_SHARE * 1.01, **predicted, spill_predicted=0.0, has_devices=1.0)
    assert not spilled(20, **predicted, spill_predicted=0.0, has_devices=0.0)
    assert not spilled(20)


def test_the_limit_of_windowed_layers_and_of_an_open_loop() -> None:
    """A full window grows no further; many streams of an open loop share the weights, and each has its own cache."""
    shape = from_sizes(layers=6, heads=8, head_dim=64, ffn=512, vocab=1_000, window=256, window_every=3)
    facts: EngineFacts = {"model": describe(shape)}
    extras = limit_extras(facts, {"bandwidth": 1e9}, streams=1, cache="f16")
    for depth in (10.0, 256.0, 4_096.0):
        t = decode_timeline(5.0, prompt_tokens=int(depth - 5.5), tokens=11)
        share = repeat_figures(repeat(t, extras=extras))["limit_share"]
        read = extras["step_weight_bytes"] + kv_bytes_at(shape, t.prompt_tokens + t.total_tokens / 2, "f16")  # type: ignore[operator]
        assert share == pytest.approx(5.0 * read / 1e9)
    # One of ten seconds every 2.5: four side by side all the time, each at 5 tokens/s, in steps that the four share;
    # at both ends, which the rate leaves out, there are fewer.
    plain = {"step_weight_bytes": 1e8, "kv_bytes_token": 0.0, "bandwidth": 1e9, "open_loop": 1.0}
    starts = [2_500.0 * i for i in range(20)]
    arriving = [timeline([at + 200.0 * (j + 1) for j in range(51)], sent_ms=at, due_ns=int(at * MS)) for at in starts]
    assert repeat_figures(repeat(*arriving, extras=plain))["limit_share"] == pytest.approx(
        0.5, rel=0.03
    )  # each has a token of its prefill, too


def test_a_draft_that_is_accepted_saves_a_pass() -> None:
    """Of twenty tokens fifteen were drafted: five passes through the weights, not twenty."""
    report = EngineReport(0, 100, 500.0, 20, 400.0, draft_n=18, draft_accepted_n=15)
    extras = known_extras()
    plain = repeat_figures(repeat(decode_timeline(30.0), extras=extras))["limit_share"]
    drafted = repeat_figures(repeat(decode_timeline(30.0, engine=report), extras=extras))["limit_share"]
    assert plain == pytest.approx(3.0) and drafted == pytest.approx(3.0 * 5 / 20)


def test_cards_of_unlike_speed_are_read_one_after_the_other() -> None:
    """Half of it at 1,000 GB/s and half at 250: what both take together, not the slower one alone."""
    shape = from_sizes(layers=40, heads=40, head_dim=128, ffn=13_824, vocab=32_000)
    devices = [Device("a", False, 20_000_000_000, 1e12), Device("b", False, 20_000_000_000, 250e9)]
    laid = place(shape, LaunchSettings(), [*devices, Device("main", True, 64_000_000_000)])
    a, b, _main = laid.shares
    assert laid.device_bandwidth == pytest.approx(
        (a.weights_bytes + b.weights_bytes) / (a.weights_bytes / 1e12 + b.weights_bytes / 250e9)
    )
