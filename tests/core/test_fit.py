"""Sizes, placement, remedies: against figures worked out by hand, and against what the engine said of itself."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zinc_kettle.core.fit.placement import Device, place
from zinc_kettle.core.fit.remedies import GOOD, best_quantization, remedies
from zinc_kettle.core.fit.sizing import (
    ALL_LAYERS,
    LaunchSettings,
    buffers_bytes,
    kv_bytes,
    layer_kv_bytes,
    sizes,
    wish_of,
)
from zinc_kettle.core.model_shape import ModelShape, from_sizes
from zinc_kettle.core.rig import Fact, Probe, Rig
from zinc_kettle.core.storage_types import LADDER, STORAGE_TYPES
from zinc_kettle.present.fit_rows import (
    FILTERS,
    SORTS,
    Candidate,
    FitRow,
    Measured,
    chosen_rows,
    detail,
    fit_rows,
    remedy_lines,
    verdict,
)

GB = 1_000_000_000
MIB = 1 << 20
BIG = from_sizes(layers=40, heads=40, kv_heads=40, head_dim=128, ffn=13_824, vocab=32_000)
SMALL = from_sizes(layers=4, heads=8, kv_heads=2, head_dim=32, ffn=512, vocab=1_000)
EXPERTS = from_sizes(layers=8, heads=8, kv_heads=2, head_dim=64, ffn=256, vocab=1_000, experts=32, experts_active=4)
MAIN = Device("main memory", True, 64 * GB, 40e9)


def card(gb: float, name: str = "card") -> Device:
    return Device(name, False, int(gb * GB), 400e9)


def test_a_cache_worked_out_by_hand() -> None:
    """40 layers, 40 heads of 128, half precision, 2,048 tokens: 1.68 GB."""
    assert kv_bytes(BIG, LaunchSettings(context=2048)) == 2 * 40 * 40 * 128 * 2 * 2048 == 1_677_721_600
    assert BIG.weights == pytest.approx(13.0e9, rel=0.01)
    assert BIG.weights_bytes == 2 * BIG.weights + 2 * sum(g.weights for g in BIG.groups if g.kind == "norm")


@pytest.mark.parametrize(("cache", "each"), [("f32", 4.0), ("f16", 2.0), ("q8_0", 34 / 32), ("q4_0", 18 / 32)])
def test_precision_slots_and_rounding_of_the_cache(cache: str, each: float) -> None:
    """Bytes a value by its type; cells rounded up to 256; every slot has its own, or all share one."""
    values = 2 * 4 * 2 * 32
    assert kv_bytes(SMALL, LaunchSettings(context=300, cache=cache)) == values * 512 * each
    assert kv_bytes(SMALL, LaunchSettings(context=300, slots=3, cache=cache)) == values * 3 * 512 * each
    assert kv_bytes(SMALL, LaunchSettings(context=300, slots=3, cache=cache, unified=True)) == values * 1024 * each


def test_windowed_layers_keep_no_more_than_their_window() -> None:
    """The window and the micro-batch being written, rounded; layers without a window keep all."""
    shape = from_sizes(layers=4, heads=8, kv_heads=2, head_dim=32, ffn=512, vocab=1_000, window=1024, window_every=4)
    assert shape.windowed == (True, True, True, False)
    each = layer_kv_bytes(shape, LaunchSettings(context=8192, micro_batch=512))
    assert [b // (2 * 2 * 32 * 2) for b in each] == [1536, 1536, 1536, 8192]
    short = layer_kv_bytes(shape, LaunchSettings(context=512))
    assert len(set(short)) == 1


REPORTED = (
    # width, feed-forward, micro-batch, context, MiB of compute buffer as the engine's own log said
    (256, 1280, 512, 2048, 12.02),
    (256, 2560, 512, 2048, 19.52),
    (512, 1280, 512, 2048, 14.52),
    (512, 2048, 512, 2048, 19.02),
    (1024, 2048, 512, 2048, 24.02),
    (1024, 4096, 512, 2048, 36.02),
    (2048, 6144, 512, 2048, 58.02),
    (2048, 8192, 512, 2048, 70.02),
    (3072, 8192, 512, 2048, 80.02),
    (1024, 2048, 256, 2048, 12.01),
    (1024, 2048, 512, 8192, 30.02),
    (2048, 6144, 128, 2048, 14.50),
)


@pytest.mark.parametrize(("width", "ffn", "micro", "context", "reported"), REPORTED)
def test_buffers_are_what_the_engine_reported(width: int, ffn: int, micro: int, context: int, reported: float) -> None:
    """Within half a percent of the log of the engine, whose output buffer is apart."""
    shape = from_sizes(layers=2, heads=width // 64, width=width, head_dim=64, ffn=ffn, vocab=5632)
    said = buffers_bytes(shape, LaunchSettings(context=context, micro_batch=micro)) - 4 * 5632
    assert said / MIB == pytest.approx(reported, rel=0.005)


def test_a_mapped_file_of_repacked_types_counts_twice_in_what_is_resident_but_not_in_the_verdict() -> None:
    """The copy is needed, the mapped pages can be dropped."""
    shape = SMALL.at("Q4_0")
    mapped, copied = sizes(shape, LaunchSettings()), sizes(shape, LaunchSettings(load_mode="copied"))
    assert mapped.repacked_bytes == shape.weights_bytes - shape.bytes_of("embedding", "norm")
    assert copied.repacked_bytes == 0 and sizes(SMALL.at("Q8_0"), LaunchSettings()).repacked_bytes == 0
    both = [place(shape, LaunchSettings(load_mode=mode), [MAIN]).headroom_bytes for mode in ("mapped", "copied")]
    assert both[0] == both[1]


SHAPES = st.builds(
    lambda layers, heads, group, ffn, experts: from_sizes(
        layers=layers,
        heads=heads * group,
        kv_heads=heads,
        head_dim=64,
        ffn=ffn * 64,
        vocab=4096,
        experts=experts,
        experts_active=min(experts, 2),
    ),
    st.integers(1, 24),
    st.integers(1, 8),
    st.integers(1, 4),
    st.integers(1, 40),
    st.sampled_from((0, 8)),
)
WISHES = st.builds(
    LaunchSettings,
    context=st.sampled_from((256, 2048, 32_768)),
    slots=st.integers(1, 8),
    cache=st.sampled_from(("f16", "q8_0")),
    device_layers=st.sampled_from((None, 0, 5)),
    expert_layers_in_main=st.sampled_from((0, 2, ALL_LAYERS)),
)


@given(SHAPES, WISHES, st.lists(st.floats(0.5, 8), max_size=3))
def test_nothing_is_lost_or_doubled_in_a_placement(shape: ModelShape, wish: LaunchSettings, cards: list[float]) -> None:
    """All weights and all of the cache lie somewhere, once; every layer too."""
    placed = place(shape, wish, [*(card(gb) for gb in cards), MAIN])
    assert sum(s.weights_bytes for s in placed.shares) == shape.weights_bytes
    assert sum(s.kv_bytes for s in placed.shares) == kv_bytes(shape, wish)
    assert sum(s.layers for s in placed.shares) == shape.layers
    if placed.works:
        assert all(s.headroom_bytes >= 0 for s in placed.shares if s.total_bytes)
    if wish.device_layers is not None:
        assert placed.layers_on_devices <= wish.device_layers


@given(SHAPES, WISHES, st.floats(0.5, 8), st.floats(0, 8))
def test_more_memory_never_makes_it_worse(shape: ModelShape, wish: LaunchSettings, gb: float, more: float) -> None:
    """A larger card holds at least as many layers."""
    few = place(shape, wish, [card(gb), MAIN])
    many = place(shape, wish, [card(gb + more), MAIN])
    assert many.layers_on_devices >= few.layers_on_devices


def test_states() -> None:
    """Fits one card; split over two; spills where they are too small; shared where that was wished; or not at all."""
    need = sizes(BIG, LaunchSettings()).weights_bytes / GB
    assert place(BIG, LaunchSettings(), [card(need + 5), MAIN]).state == "fits"
    assert place(BIG, LaunchSettings(), [card(16), card(16), MAIN]).state == "split"
    assert place(BIG, LaunchSettings(), [card(8), MAIN]).state == "spills"
    assert place(BIG, LaunchSettings(device_layers=5), [card(need + 5), MAIN]).state == "shared"
    assert place(BIG, LaunchSettings(), [replace(MAIN, capacity_bytes=8 * GB)]).state == "will not fit"
    assert place(BIG, LaunchSettings(), [MAIN]).state == "fits"
    with pytest.raises(ValueError, match="exactly one main"):
        place(BIG, LaunchSettings(), [card(8)])


def test_experts_can_stay_in_main_memory() -> None:
    """Then the device holds everything else."""
    placed = place(EXPERTS, LaunchSettings(expert_layers_in_main=ALL_LAYERS), [card(2), MAIN])
    assert placed.state == "shared" and placed.layers_on_devices == 8
    assert placed.shares[0].experts_bytes == 0
    assert placed.shares[1].experts_bytes == EXPERTS.bytes_of("experts")


def test_layers_are_spread_over_cards_by_their_room() -> None:
    """As engines do: a card of twice the room has twice the layers, also where the first would hold all; headroom is
    that of all of them."""
    need = sizes(BIG, LaunchSettings()).weights_bytes / GB
    even = place(BIG, LaunchSettings(), [card(need + 5), card(need + 5), MAIN])
    assert even.state == "split" and abs(even.shares[0].layers - even.shares[1].layers) <= 1
    assert even.headroom_bytes == sum(s.headroom_bytes for s in even.shares[:2]) > 0
    uneven = place(BIG, LaunchSettings(), [card(need + 5), card(2 * need + 10), MAIN])
    assert uneven.shares[1].layers == pytest.approx(2 * uneven.shares[0].layers, abs=2)
    full = place(BIG, LaunchSettings(), [replace(MAIN, capacity_bytes=8 * GB)])
    assert full.headroom_bytes == min(s.headroom_bytes for s in full.shares) < 0


def test_experts_of_as_few_layers_as_are_enough() -> None:
    """One layer fewer would spill; and a setting says the number, or all of them."""
    whole = place(EXPERTS, LaunchSettings(), [card(100), MAIN]).shares[0].total_bytes
    devices = [card((whole - EXPERTS.bytes_of("experts") / 4) / GB + 0.4), MAIN]
    [found] = [r for r in remedies(EXPERTS, LaunchSettings(), devices) if "experts" in r.what]
    layers = int(found.changes["expert-layers-in-main"])
    assert 0 < layers < EXPERTS.layers and found.placement.state == "shared"
    less = place(EXPERTS, LaunchSettings(expert_layers_in_main=layers - 1), devices)
    assert less.state == "spills" and found.placement.layers_on_devices == EXPERTS.layers
    assert wish_of({"expert-layers-in-main": 3}).expert_layers_in_main == 3
    assert wish_of({"experts-in-main": True, "expert-layers-in-main": 3}).expert_layers_in_main == ALL_LAYERS


def test_two_changes_leave_more_than_one() -> None:
    """With a smaller cache, a higher precision fits than without; where two are not enough, three; where nothing is,
    what loads at all. Each says its settings, its cost, and the speed that is predicted."""
    devices = [replace(MAIN, capacity_bytes=int(20 * GB))]
    wish = LaunchSettings(context=8_192, slots=2)
    found = {frozenset(r.changes): r for r in remedies(BIG, wish, devices)}
    one, two = found[frozenset({"quantization"})], found[frozenset({"quantization", "cache-precision"})]
    assert two.shape.bits_per_weight > one.shape.bits_per_weight and " and " in two.what and ";" in two.cost
    [three] = remedies(BIG, LaunchSettings(context=32_768), [replace(MAIN, capacity_bytes=int(12 * GB))])
    assert set(three.changes) == {"cache-precision", "quantization", "context"}
    small = [card(2), replace(MAIN, capacity_bytes=int(16 * GB))]
    [last] = remedies(BIG, LaunchSettings(), small)
    assert last.placement.state == "spills" and "layers on devices" in last.cost
    rig = Rig("desk", "here", {"memory_bytes": Fact(20 * GB, "typed"), "bandwidth": Fact(12e9, "typed")})
    [row] = fit_rows([Candidate("big", BIG, "shape")], rig, wish, threads=4, calibration=rig.prior())
    more = detail(row, rig, wish, calibration=rig.prior(), threads=4)
    assert len(more.remedies) == len(more.speeds) and all("tok/s" in cost for _, cost in remedy_lines(more))


@pytest.mark.parametrize("capacity", [8, 12, 15, 20, 27])
@pytest.mark.parametrize(
    "wish",
    [LaunchSettings(context=8192, slots=2), LaunchSettings(context=32_768), LaunchSettings(slots=8, cache="f32")],
)
def test_every_remedy_makes_it_fit(capacity: float, wish: LaunchSettings) -> None:
    """Each change alone, and only where it did not fit before; the best quantization is the first that fits."""
    devices = [replace(MAIN, capacity_bytes=int(capacity * GB))]
    found = remedies(BIG, wish, devices)
    if place(BIG, wish, devices).state in GOOD:
        assert found == []
    for remedy in found:
        assert place(remedy.shape, remedy.placement.wish, devices).state in GOOD
        assert remedy.what and remedy.cost
    best = best_quantization(BIG, wish, devices)
    better = LADDER[: LADDER.index(best[0])] if best else LADDER
    assert not any(place(BIG.at(q), wish, devices).state in GOOD for q in better)


def test_the_longest_context_that_fits_is_named() -> None:
    """One step more would not fit."""
    devices = [replace(MAIN, capacity_bytes=40 * GB)]
    named = next(r for r in remedies(BIG, LaunchSettings(context=65_536), devices) if r.what.startswith("context"))
    longest = named.placement.wish.context
    assert longest % 256 == 0
    assert place(BIG, LaunchSettings(context=longest), devices).state == "fits"
    assert place(BIG, LaunchSettings(context=longest + 256), devices).state == "will not fit"


def test_types_are_as_large_as_their_blocks() -> None:
    """Bits per weight by the published layouts, and whole blocks only."""
    assert STORAGE_TYPES["Q4_0"].bits_per_weight == 4.5 and STORAGE_TYPES["Q6_K"].bits_per_weight == 6.5625
    assert STORAGE_TYPES["Q8_0"].size_bytes(33) == 2 * 34
    assert SMALL.at("Q8_0").bits_by_kind()["attention"] == 8.5
    assert SMALL.at("Q8_0").bits_by_kind()["norm"] == 32.0


@pytest.mark.parametrize("wrong", [{"heads": 0}, {"experts": 2, "experts_active": 3}, {"vocab": -1}])
def test_impossible_shapes(wrong: dict[str, int]) -> None:
    """Are refused."""
    with pytest.raises(ValueError, match="at least 1"):
        from_sizes(**{"layers": 2, "heads": 2, "head_dim": 64, "ffn": 64, "vocab": 10, **wrong})  # type: ignore[arg-type]


def rows_at(pace: float | None, **more: Measured) -> list[FitRow]:
    """A model of a file in two quantizations, on a rig that reads 12 GB a second."""
    rig = Rig(
        "desk",
        "here",
        {
            "memory_bytes": Fact(64 * GB, "gathered"),
            "bandwidth": Fact(12e9, "typed"),
            "physical_cores": Fact(4, "gathered"),
        },
    )
    wanted = [Candidate(f"kelp.{q}", SMALL_4B.at(q), "file", "kelp") for q in ("F16", "Q8_0")]
    return fit_rows(
        wanted,
        rig,
        LaunchSettings(),
        threads=4,
        calibration=rig.prior(),
        pace=pace,
        measured={f"kelp.{name}": found for name, found in more.items()},
    )


SMALL_4B = from_sizes(layers=36, heads=20, kv_heads=4, head_dim=128, ffn=10_240, vocab=32_000)


def test_the_best_that_fits_also_keeps_the_pace() -> None:
    """The highest precision is best until it is too slow; what was measured decides over what is predicted."""
    speed = {r.candidate.name: r.decode.value for r in rows_at(None) if r.decode}
    assert speed["kelp.Q8_0"] > speed["kelp.F16"]
    assert [r.best for r in rows_at(None)] == [True, False]
    between = (speed["kelp.F16"] + speed["kelp.Q8_0"]) / 2
    assert [r.best for r in rows_at(between)] == [False, True]
    assert [r.best for r in rows_at(10 * speed["kelp.Q8_0"])] == [False, False]
    faster = rows_at(between, F16=Measured(2 * between, between, 3 * between, "desk study"))
    assert [r.best for r in faster] == [True, False] and "measured" in verdict(faster[0])
    assert [r.candidate.name for r in chosen_rows(rows_at(between), FILTERS[2], SORTS[0])] == ["kelp.Q8_0"]
    assert chosen_rows(rows_at(None), FILTERS[0], SORTS[1])[0].candidate.name == "kelp.Q8_0"


def test_nothing_is_best_without_a_figure() -> None:
    """A rig whose bandwidth nobody knows has no best and keeps no pace; one that was probed beside others' programs is
    predicted, and keeps none either."""
    facts = {"memory_bytes": Fact(64 * GB, "gathered"), "physical_cores": Fact(4, "gathered")}
    probe = Probe({4: (12e9,)}, busy_cores=1.0)
    for rig in (Rig("desk", "here", facts), Rig("desk", "here", facts, probe=probe)):
        wanted = [Candidate("kelp.Q8_0", SMALL_4B.at("Q8_0"), "file", "kelp")]
        [row] = fit_rows(wanted, rig, LaunchSettings(), threads=4, calibration=rig.prior(), pace=0.1)
        assert row.keeps_pace is None and (row.decode is None) is not row.best
        assert detail(row, rig, LaunchSettings(), [row], calibration=rig.prior(), threads=4).paced is row.best
    assert row.decode is not None and "beside other programs" in row.decode.origin


def test_no_quantization_is_advised_that_is_not_there() -> None:
    """A file that exists as F16 only: not advised to be Q4_0; one that exists as Q8_0, too, is."""
    devices = [Device("main memory", True, int(6 * GB), 12e9)]
    assert any("instead of F16" in r.what for r in remedies(SMALL_4B, LaunchSettings(), devices))
    assert not any("instead of F16" in r.what for r in remedies(SMALL_4B, LaunchSettings(), devices, among={"F16"}))
    assert best_quantization(SMALL_4B, LaunchSettings(), devices, among={"F16", "Q8_0"})[0] == "Q8_0"  # type: ignore[index]
