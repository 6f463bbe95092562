"""Simulated rigs: the physics holds, and what is served is the real protocol, labelled for what it is."""

from __future__ import annotations

import asyncio
import json
import subprocess
import sys
import time
from collections.abc import Iterator
from typing import Any

import httpx
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.build import RECIPES, spec
from zinc_kettle.core.fit.placement import place
from zinc_kettle.core.fit.sizing import LaunchSettings
from zinc_kettle.core.fit.step_work import touched
from zinc_kettle.core.plan.recipe import Endpoint
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.engines.endpoint import EndpointStarter
from zinc_kettle.link.process import DriverProcess
from zinc_kettle.rigs.scrape import Names, ScrapeWatch, parse, pick, scraped_idle_watts
from zinc_kettle.sim.engine import SimEngine
from zinc_kettle.sim.fleet import SIM_MODELS, SIM_RIGS, sim_shape
from zinc_kettle.sim.physics import (
    LIMIT_C,
    LOWEST_CLOCK,
    ROOM_C,
    Body,
    Noise,
    Step,
    StepShare,
    bandwidth,
    cold_factor,
    flops,
    parts,
)
from zinc_kettle.wire.messages import ChatMessage, Episode, RequestOrder, Setup

RIGS = list(SIM_RIGS.values())
SHAPE = sim_shape("kelp-4b", "Q8_0")


def seconds(work: list[StepShare]) -> float:
    """Length of a step."""
    return sum(p.seconds for p in work)


def step(rig: str, of: Step, *, threads: int = 4, quantization: str = "Q8_0", clock: float = 1.0) -> list[StepShare]:
    """A step of the middle model on a rig."""
    shape = sim_shape("kelp-4b", quantization)
    placed = place(shape, LaunchSettings(load_mode="copied"), SIM_RIGS[rig].placement_devices())
    return parts(SIM_RIGS[rig], shape, placed, "f16", threads, of, clock)


@pytest.mark.parametrize("rig", ["storm-tern", "gannet"])
def test_a_step_reads_every_weight_and_the_cache_once(rig: str) -> None:
    """The bytes of all memories together are those that a token touches; a batch reads the weights once."""
    one = sum(p.read_bytes for p in step(rig, Step(depths=[500])))
    assert one == pytest.approx(touched(SHAPE, depth=500).bytes, rel=0.001)
    four = sum(p.read_bytes for p in step(rig, Step(depths=[500] * 4)))
    assert four - one == pytest.approx(3 * (touched(SHAPE, depth=500).bytes - touched(SHAPE).bytes), rel=0.001)


def test_work_is_two_operations_a_weight_and_token() -> None:
    """Also spread over several memories; attention adds to it with depth."""
    for rig in ("storm-tern", "gannet"):
        work = sum(p.operations for p in step(rig, Step(depths=[0])))
        assert work == pytest.approx(2 * touched(SHAPE).weights, rel=0.02)
    shallow, deep = (sum(p.operations for p in step("gannet", Step(64, d))) for d in (0, 4000))
    assert deep > shallow


@given(st.sampled_from(RIGS), st.integers(1, 16), st.floats(LOWEST_CLOCK, 1.0))
def test_monotonic_in_threads_up_to_the_cores(rig: Any, threads: int, clock: float) -> None:
    """More threads read and compute at least as fast; beyond the cores they get slower; never beyond the rig's own."""
    if threads < rig.cores:
        assert bandwidth(rig, threads + 1, clock) >= bandwidth(rig, threads, clock)
        assert flops(rig, threads + 1, clock) > flops(rig, threads, clock)
    else:
        assert bandwidth(rig, threads + 1, clock) < bandwidth(rig, threads, clock)
    assert bandwidth(rig, threads, clock) <= rig.bandwidth
    assert flops(rig, threads, clock) <= rig.cores * rig.core_flops


def test_fewer_bytes_are_faster_and_prefill_is_bound_by_arithmetic() -> None:
    """Decode follows bytes; a long prefill takes as long at any quantization."""
    decode = [seconds(step("storm-tern", Step(depths=[100]), quantization=q)) for q in ("F16", "Q8_0", "Q4_0")]
    assert decode == sorted(decode, reverse=True) and decode[0] > 3 * decode[2]
    long = [seconds(step("storm-tern", Step(512), quantization=q)) for q in ("F16", "Q4_0")]
    assert long[0] == pytest.approx(long[1], rel=0.05)
    assert seconds(step("storm-tern", Step(depths=[100]), clock=0.6)) > seconds(step("storm-tern", Step(depths=[100])))


def test_a_spill_is_slow() -> None:
    """A model too large for the card runs at the speed of main memory for its larger part."""
    rig = SIM_RIGS["gannet"]
    times = {}
    for q in ("Q4_K", "F16"):
        shape = sim_shape("fathom-14b", q)
        placed = place(shape, LaunchSettings(load_mode="copied"), rig.placement_devices())
        times[placed.state] = seconds(parts(rig, shape, placed, "f16", 8, Step(depths=[10]))) / shape.weights_bytes
    assert times["spills"] > 5 * times["fits"]


@given(st.lists(st.tuples(st.floats(0.01, 50), st.floats(5, 60)), min_size=1, max_size=20))
def test_energy_is_conserved_and_heat_lags(stretches: list[tuple[float, float]]) -> None:
    """Joules are the sum of power times time; heat stays between the least and the most power drawn."""
    body = Body(SIM_RIGS["petrel"])
    for length, watts in stretches:
        body.pass_time(length, watts)
    assert body.joules == pytest.approx(sum(a * b for a, b in stretches))
    drawn = [w for _, w in stretches] + [SIM_RIGS["petrel"].idle_watts]
    assert min(drawn) - 1e-9 <= body.heat_watts <= max(drawn) + 1e-9
    assert LOWEST_CLOCK <= body.clock <= 1.0


def test_a_hot_machine_slows_down_and_recovers() -> None:
    """After minutes of more power than its cooling carries; and after minutes of rest not any more."""
    body = Body(SIM_RIGS["petrel"])
    assert body.clock == 1.0
    body.pass_time(300, 60)
    assert body.clock < 0.8
    body.pass_time(300, 7)
    assert body.clock == 1.0


def test_noise_is_seeded_and_warm_up_ends() -> None:
    """The same seed gives the same noise, around one; the first steps after a load are slower, then none."""
    first, again = (Noise("7-gannet", 0.02) for _ in range(2))
    values = [first.next() for _ in range(400)]
    assert values == [again.next() for _ in range(400)]
    assert sum(values) / 400 == pytest.approx(1.0, abs=0.01)
    factors = [cold_factor(i) for i in range(10)]
    assert factors[0] > factors[3] > factors[8] == 1.0


def test_every_model_has_a_shape() -> None:
    """Of about the size its name says."""
    sizes = {name: sim_shape(name, "Q4_K").weights / 1e9 for name in SIM_MODELS}
    assert sizes["kelp-4b"] == pytest.approx(4, rel=0.1) and sizes["shoal-30b"] == pytest.approx(30, rel=0.1)


@pytest.fixture
def gannet() -> Iterator[str]:
    """A simulated rig in its own process."""
    line = [sys.executable, "-m", "zinc_kettle.sim.rehearsal", "gannet"]
    with subprocess.Popen(line, stdin=subprocess.PIPE, stdout=subprocess.PIPE) as server:
        assert server.stdout is not None and server.stdin is not None
        told = json.loads(server.stdout.readline())
        assert told["simulated"] is True
        yield str(told["address"])
        server.stdin.close()
        assert server.wait(10) in {0, 9}


def load(url: str, **settings: Any) -> httpx.Response:
    """Load a model there."""
    body = {"model": "brine-1b", "quantization": "Q8_0", "context": 512, "slots": 2, **settings}
    return httpx.post(f"{url}/rehearse/load", json=body, timeout=600, trust_env=False)


async def ask(url: str, *, words: int = 100, tokens: int = 12, count: int = 1, stall: float = 20.0) -> list[Timeline]:
    """Requests through the real driver."""
    driver = await DriverProcess.spawn()
    seen: list[Timeline] = []
    try:
        await driver.aim(Setup(url, "m"))
        message = [ChatMessage("user", "fog " * words)]
        orders = [
            RequestOrder(f"r{i}", "measured", message, tokens, extra={"timings_per_token": True}) for i in range(count)
        ]
        episode = Episode("e", count, orders, timeout_s=60, stall_s=stall)
        await driver.run(episode, on_tick=lambda _t: None, on_timeline=seen.append)
    finally:
        await driver.close()
    return seen


async def test_it_speaks_the_protocol(gannet: str) -> None:
    """Counts, usage, timings and end marker as the driver wants them; the engine's clock agrees with ours."""
    unloaded = await asyncio.to_thread(httpx.get, f"{gannet}/health", trust_env=False)
    assert unloaded.status_code == 503
    told = load(gannet).json()
    assert told["simulated"] is True and told["state"] == "fits" and told["device_bytes"] > 1e9
    (t,) = await ask(gannet, tokens=40)
    assert t.usable and t.total_tokens == 40 and t.prompt_tokens == 107 and t.counted_by == "chunk-counts"
    assert t.engine is not None and t.engine.prompt_n == 107 and t.engine.predicted_n == 40
    assert t.duration_ns / 1e6 >= 0.5 * (t.engine.prompt_ms + t.engine.predicted_ms)
    both = await ask(gannet, count=2)
    assert all(x.usable for x in both) and len({x.stream for x in both}) == 2


async def test_it_stays_simulated_behind_an_address(gannet: str) -> None:
    """What asks it as any server is told that it is made up, and does not watch its process."""
    load(gannet)
    there = EndpointStarter(Endpoint(gannet, "brine-1b"), RECIPES["open-protocol"])
    engine = await there.start(spec(), None, launch_id="l")
    assert engine.facts["simulated"] and engine.pid is None and engine.launch.loaded_bytes is None


async def test_metrics_tell_memory_power_and_energy(gannet: str) -> None:
    """At ten a second through the scraper; energy adds up to the power; idle power is that of the rig at rest."""
    idle = await asyncio.to_thread(scraped_idle_watts, f"{gannet}/metrics", Names(), 0.4)
    assert idle == pytest.approx(SIM_RIGS["gannet"].idle_watts, rel=0.05)
    load(gannet)
    watch = ScrapeWatch(f"{gannet}/metrics", Names())
    # The samples must reach over both ends of the window, also on a machine that is slow to take them.
    await asyncio.sleep(0.4)
    start = time.monotonic_ns()
    await ask(gannet, words=300, tokens=100)
    end = time.monotonic_ns()
    await asyncio.sleep(0.4)
    trace, machine = watch.end(driver_cpu_ns=0)
    joules = trace.joules(start, end)
    assert joules is not None and idle is not None and joules / ((end - start) / 1e9) > idle
    assert trace.device_bytes is not None and int(trace.device_bytes.max()) > 1e9
    (card,) = machine.devices
    assert card.highest_bytes == int(trace.device_bytes.max()) and card.busy_share is not None and card.power_w
    assert machine.hottest_c == max(card.hottest_c or 0, machine.processor.hottest_c or 0 if machine.processor else 0)
    assert watch.latest().hottest_c is not None and ROOM_C < machine.hottest_c < LIMIT_C + 30
    assert 0 < card.busy_share <= 1 and card.power_w < joules / ((end - start) / 1e9)
    assert len(trace.at_ns) >= 4 * (end - start) / 1e9
    names = set(parse((await asyncio.to_thread(httpx.get, f"{gannet}/metrics", trust_env=False)).text))
    assert {"rehearsal_simulated", "rehearsal_kv_cache_used_bytes", "rehearsal_energy_joules_total"} <= names


@pytest.mark.parametrize("kind", ["status", "reset", "close", "stall", "die"])
async def test_faults_on_demand(gannet: str, kind: str) -> None:
    """Each ends one request as what it is; but for a dead rig the next one is sound."""
    load(gannet)
    order = {"kind": kind, "after": 2}
    await asyncio.to_thread(httpx.post, f"{gannet}/rehearse/fault", json=order, trust_env=False)
    (bad,) = await ask(gannet, stall=1.0)
    assert not bad.usable and bad.error
    if kind == "die":
        with pytest.raises(httpx.HTTPError):
            await asyncio.to_thread(httpx.get, f"{gannet}/health", trust_env=False)
        return
    (good,) = await ask(gannet)
    assert good.usable


def test_loads_that_fail_say_why(gannet: str) -> None:
    """Too large, unknown, and told to."""
    huge = load(gannet, model="shoal-30b", quantization="F16")
    assert huge.status_code == 507 and "insufficient memory" in huge.json()["error"]["message"]
    assert "no simulated model" in load(gannet, model="none").json()["error"]["message"]
    httpx.post(f"{gannet}/rehearse/fault", json={"kind": "load"}, trust_env=False)
    assert "set to fail" in load(gannet).json()["error"]["message"]
    assert load(gannet).status_code == 200
    assert httpx.post(f"{gannet}/rehearse/fault", json={"kind": "x"}, trust_env=False).status_code == 400


async def test_its_prompt_cache_helps_only_where_it_is_on() -> None:
    """The same words again are reused but for the last; another beginning is not; the cache grows with each token."""
    engine = SimEngine(SIM_RIGS["cormorant"])
    for on, reused in ((True, 49), (False, 0)):
        await engine.load({"model": "brine-1b", "prompt_cache": on})
        prompt = [f"w{i}" for i in range(50)]
        for again in range(2):
            job = engine.submit(prompt, 3)
            sizes = []
            for _ in range(3):
                await job.tokens.get()
                sizes.append(engine.kv_used_bytes())
            assert job.cached == (reused if again else 0)
        other = engine.submit(["x", *prompt], 1)
        assert other.cached == 0
    await engine.unload()


def test_metrics_by_name() -> None:
    """The first name that is there; sums over labels; text that is none is refused."""
    found = parse('# TYPE a gauge\na{x="1"} 2\na{x="2"} 3\n# TYPE b gauge\nb 7\n')
    assert found == {"a": 5.0, "b": 7.0}
    assert pick(found, ("z", "b", "a")) == 7.0 and pick(found, ("z",)) is None
    with pytest.raises(ValueError, match=r"\w"):
        parse("{{{ no metrics\n")
