"""Where the time of a token goes: a made-up machine whose cells take exactly what their parts take."""

from __future__ import annotations

import dataclasses

import pytest

from tests.build import repeat, study, timeline
from zinc_kettle.core.breakdown import TimeSplit, time_split
from zinc_kettle.core.facts import EngineFacts, ModelFacts, RunFacts
from zinc_kettle.core.fit.predict import ATTENTION_FLOPS, OPERAND_FLOPS, STEP_S
from zinc_kettle.core.plan.study import Study
from zinc_kettle.core.record.repeat import Missing
from zinc_kettle.core.results import KeptRepeat, StudyResults
from zinc_kettle.present.breakdown import part_lines, sentence, split_json

BANDWIDTH, FLOPS = 10e9, 100e9
DEEP, OUTPUT = 1_000, 4
"""Prompt tokens of every request, and tokens of its answer."""
FACTS: RunFacts = {
    "physical_cores": 4,
    "probe": {"reading": {"1": [BANDWIDTH], "2": [2 * BANDWIDTH]}, "gemm": {"1": [FLOPS], "2": [2 * FLOPS]}},
}


def model(read: float, weights: float = 10e6) -> ModelFacts:
    """A model that reads so many bytes a token; its cache grows by 1 kB and a thousand products a token."""
    return {
        "touched": {"bytes": read, "operands": weights, "weights": weights},
        "kv_bytes_per_token_f16": 1_000.0,
        "attention_per_token": 1_000.0,
        "layers": 4,
        "weights": 10,
    }


def step_s(read: float, weights: float, threads: int, *, slower: float = 1.0) -> float:
    """What a step takes on that machine."""
    look = 1_000.0 * (DEEP + OUTPUT / 2)
    work = OPERAND_FLOPS * weights + ATTENTION_FLOPS * look
    return slower * ((read + look) / BANDWIDTH / threads + work / FLOPS / threads + STEP_S)


def results(
    reads: dict[int, float], *, weights: float = 10e6, slower: float = 1.0, rest_s: float = 0.0, **facts: object
) -> StudyResults:
    """Cells of one and two threads whose model reads so many bytes; the engine may be slower than the probe."""
    plan: Study = study({"threads": tuple(reads)}, hold={"model": "m", "output_tokens": OUTPUT})
    kept = {}
    for cell in plan.cells:
        threads = int(cell.levels["threads"])
        engine: EngineFacts = {"model": model(reads[threads], weights), **facts}  # type: ignore[typeddict-item]
        ms = 1e3 * (step_s(reads[threads], weights, threads, slower=slower) + rest_s)
        request = timeline([200.0 + ms * i for i in range(OUTPUT)], prompt_tokens=DEEP)
        kept[cell.key] = [KeptRepeat("measured", repeat(request, block=i), facts=engine) for i in range(3)]
    return StudyResults.of_repeats(plan, kept, dataclasses.replace(StudyResults(plan).run, facts=FACTS))


def split_of(found: StudyResults, at: int = 0) -> TimeSplit:
    """That of a cell."""
    split = time_split(found, found.cells[at])
    assert isinstance(split, TimeSplit), split
    return split


def test_the_parts_are_those_of_the_machine() -> None:
    """200 MB of weights at 10 GB/s, 1 MB of cache, ten million weights: each part by hand, and nothing is left over."""
    split = split_of(results({1: 200e6, 2: 200e6}))
    assert split.seconds("weights") == pytest.approx(0.020, rel=0.01)
    assert split.seconds("cache") == pytest.approx(1_002_000 / BANDWIDTH, rel=0.01)
    assert split.seconds("arithmetic") == pytest.approx(2 * 10e6 / FLOPS, rel=0.01)
    assert split.seconds("unpacking") == pytest.approx((OPERAND_FLOPS - 2) * 10e6 / FLOPS, rel=0.01)
    assert split.seconds("attention") == pytest.approx(ATTENTION_FLOPS * 1_002_000 / FLOPS, rel=0.01)
    assert split.rest_s == pytest.approx(0.0, abs=1e-4)
    assert split.limit == "bandwidth" and "2 threads read 100% faster" in sentence(split)
    assert [name for name, *_ in part_lines(split)][:2] == ["weights", "KV cache"]
    two = split_of(results({1: 200e6, 2: 200e6}), at=1)
    assert "more threads will not help" in sentence(two)


def test_other_cells_calibrate_and_never_the_cell_itself() -> None:
    """An engine half as fast as the probe promises is half as fast for the others, too; alone it is not explained."""
    both = split_of(results({1: 200e6, 2: 100e6}, slower=2.0))
    assert both.calibrated_by == 1 and abs(both.rest_s) < 0.3 * both.step_s
    alone = split_of(results({1: 200e6}, slower=2.0))
    assert alone.calibrated_by == 0 and alone.rest_s == pytest.approx(alone.step_s / 2, rel=0.02)


def test_what_binds_is_said_with_its_uncertainty() -> None:
    """Little to read and much to multiply; little of both; more than was measured."""
    busy = split_of(results({1: 1e6, 2: 1e6}, weights=2e9))
    assert busy.limit == "arithmetic" and "most of it for unpacking weights; 3 cores more may help" in sentence(busy)
    idle = split_of(results({1: 1e6}, weights=1e5, rest_s=0.020))
    assert idle.limit == "overhead" and part_lines(idle)[-1][0] == "not explained"
    share, low, high = busy.share("arithmetic", "unpacking")
    assert low < share <= high and share / low == pytest.approx(1 + busy.band)


def test_what_cannot_be_told_has_a_reason() -> None:
    """No shape, layers in two memories, several requests at once; on a device reading is told alone."""
    found = results({1: 200e6})
    spilled = results({1: 200e6}, placement={"layers_on_devices": 2, "bandwidth": 100e9})
    assert isinstance(why := time_split(spilled, spilled.cells[0]), Missing) and "several memories" in why.reason
    device = split_of(results({1: 200e6}, placement={"layers_on_devices": 4, "bandwidth": 100e9}))
    assert {part.name for part in device.parts} == {"weights", "cache", "overhead"}
    assert device.limit == "untold" and device.share("weights", "cache")[2] < 0.5
    slow = split_of(results({1: 200e6}, placement={"layers_on_devices": 4, "bandwidth": 12e9}))
    assert slow.limit == "bandwidth"
    bare = StudyResults(found.study)
    told = split_json(bare, bare.cells[0])
    assert told["value"] is None and told["reason"]


def test_several_streams_share_the_weights() -> None:
    """Two streams: weights are read once, all else is done for each; a step is one token each."""
    plan: Study = study({"concurrency": (2,)}, hold={"model": "m", "threads": 1, "output_tokens": OUTPUT})
    requests = [timeline([200.0 + 30.0 * i for i in range(OUTPUT)], prompt_tokens=DEEP, stream=i % 2) for i in range(8)]
    kept = {
        plan.cells[0].key: [KeptRepeat("measured", repeat(*requests, concurrency=2), facts={"model": model(200e6)})]
    }
    found = StudyResults.of_repeats(plan, kept, dataclasses.replace(StudyResults(plan).run, facts=FACTS))
    split, one = split_of(found), split_of(results({1: 200e6}))
    assert split.streams == 2 and split.step_s == pytest.approx(0.030)
    assert split.seconds("weights") == pytest.approx(one.seconds("weights"))
    for name in ("cache", "arithmetic", "unpacking", "attention"):
        assert split.seconds(name) == pytest.approx(2 * one.seconds(name))


def test_a_simulated_rig_multiplies_for_free() -> None:
    """Its physics reads while it computes: nothing but reading and overhead is a part of its time."""
    found = results({1: 200e6})
    found.run = dataclasses.replace(found.run, simulated=True)
    assert split_of(found).seconds("arithmetic", "unpacking", "attention") == 0.0
