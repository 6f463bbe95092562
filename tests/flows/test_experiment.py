"""Whole studies: with the real engine and a tiny model, against the paced server, and with things going wrong."""

from __future__ import annotations

import asyncio
import dataclasses
import json
from pathlib import Path
from typing import Any

import pytest

from tests.build import study
from tests.flows.fakes import Bench, FakeTelemetry, sound
from tests.flows.studies import measure, places
from zinc_kettle.app.build import experiment
from zinc_kettle.config import Places
from zinc_kettle.core.fingerprint import fingerprint
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.plan.factors import Level
from zinc_kettle.core.plan.recipe import Endpoint
from zinc_kettle.core.plan.study import Limits, Repeats, Study, workload
from zinc_kettle.core.record.telemetry import Machine, Trace
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.core.record.value import Value
from zinc_kettle.core.run.decisions import AddLevel, Decision, OnFailure, Pause, Resume, Skip, Step
from zinc_kettle.errors import DriverError, EngineChangedError, StoreError
from zinc_kettle.ports.engines import RunningEngine
from zinc_kettle.rigs.telemetry import TreeWatch
from zinc_kettle.session import progress as p
from zinc_kettle.store.reading import open_run, shelf
from zinc_kettle.store.store import KettleStore
from zinc_kettle.wire.messages import Episode


def small(**changes: Any) -> Study:
    """Two quantizations by two lengths, one repeat."""
    hold = {"model": "brine-15m", "threads": 1, "context": 256, "output_tokens": 8}
    given: dict[str, Any] = {"hold": hold, "repeats": Repeats(count=1)}
    return study({"quantization": ("Q8_0", "Q4_0"), "prompt_tokens": (64, 128)}, **{**given, **changes})


async def test_a_study_on_the_real_engine(home: Path, tmp_path: Path) -> None:
    """Every cell measured: exact lengths, both decode clocks alike, salted prompts not helped by a cache."""
    events: list[p.Event] = []
    view = await measure(small(), places(home, tmp_path), events)
    assert view.run.state == "measured"
    for cell in view.cells:
        assert cell.state == "measured"
        figures = {name: v.value for name in MEASURES if isinstance(v := cell.value(name), Value)}
        assert figures["prompt_tokens"] == cell.cell.levels["prompt_tokens"]
        assert figures["output_tokens"] == 8
        assert figures["load_time"] > 0 and figures["memory_peak"] >= figures["memory_loaded"] > 5e6
        assert figures["duration"] >= figures["ttft"] > 0 and figures["decode_engine"] > 0
        # How well the two clocks agree is a matter of benchmarks/repeatability.py: 30 ms of answer are too short here,
        # and on a busy machine come in one piece, which has no decode.
        assert ("decode" in figures) == (figures["duration"] > figures["ttft"])
        assert "cache-helped" not in {c.code for c in cell.cautions}
        cold = [t for r in cell.repeats for t in r.timelines if t.cold]
        assert all(t.role == "warmup" for t in cold)
    kinds = {type(e) for e in events}
    assert {p.Began, p.Loading, p.Warming, p.Received, p.RepeatEnded, p.Progress, p.Ended} <= kinds
    finish = [e for e in events if isinstance(e, p.Progress)][-1]
    assert (finish.done, finish.repeats, finish.left_s) == (4, 4, 0.0)


async def test_repeating_a_prompt_is_caught_and_salt_prevents_it(home: Path, tmp_path: Path) -> None:
    """With the engine's prompt cache on and no salt the caution is raised; with the salt it is not."""
    hold = {"model": "brine-15m", "quantization": "Q8_0", "threads": 1, "context": 512, "output_tokens": 4}
    plan = study(
        {"salt": (True, False)},
        hold={**hold, "prompt_tokens": 256, "prompt_cache": True},
        repeats=Repeats(count=1, requests=3),
    )
    view = await measure(plan, places(home, tmp_path))
    codes = {bool(c.cell.levels["salt"]): {x.code for x in c.cautions} for c in view.cells}
    assert "cache-helped" in codes[False]
    assert "cache-helped" not in codes[True]


async def test_depth_puts_earlier_text_into_the_context(home: Path, tmp_path: Path) -> None:
    """Exactly so many tokens before each prompt; with the prompt cache on only the prompt itself is read again."""
    hold = {"model": "brine-15m", "quantization": "Q8_0", "threads": 1, "context": 512, "output_tokens": 4}
    plan = study(
        {"depth": (100, 300)},
        hold={**hold, "prompt_tokens": 64, "prompt_cache": True},
        repeats=Repeats(count=1, requests=3),
    )
    view = await measure(plan, places(home, tmp_path))
    for cell in view.cells:
        assert {t.prompt_tokens for t in cell.repeats[0].measured} == {64 + int(cell.cell.levels["depth"])}
        assert all((t.uncached_tokens or 0) <= 64 for t in cell.repeats[0].measured)
        assert "cache-helped" not in {c.code for c in cell.cautions}
    assert len({fingerprint(workload(plan, c.cell)) for c in view.cells}) == 2


async def test_concurrency_sweep_shares_a_launch(home: Path, tmp_path: Path) -> None:
    """One load for all; with two streams the steady window gives a throughput, and no client prefill is claimed."""
    hold = {"model": "brine-15m", "quantization": "Q8_0", "threads": 1, "context": 256, "output_tokens": 12}
    plan = study(
        {"concurrency": (1, 2)}, hold={**hold, "prompt_tokens": 64}, repeats=Repeats(count=1, order="by-launch")
    )
    events: list[p.Event] = []
    view = await measure(plan, places(home, tmp_path), events)
    assert sum(isinstance(e, p.Loading) for e in events) == 1
    two = view.cells[1]
    assert isinstance(two.value("throughput"), Value) and not isinstance(two.value("prefill_client"), Value)
    assert len(two.repeats[0].measured) == 8


async def test_an_endpoint_by_usage(paced: str, tmp_path: Path) -> None:
    """An engine that already runs: lengths found by its usage record; the memory of its process, which is on this
    machine, and no load time."""
    plan = study(
        {"prompt_tokens": (40, 80)},
        hold={"output_tokens": 6},
        endpoint=Endpoint(paced, "m"),
        repeats=Repeats(count=2),
    )
    view = await measure(plan, places(tmp_path, tmp_path))
    for cell in view.cells:
        figures = {name: cell.value(name) for name in MEASURES}
        prompt = figures["prompt_tokens"]
        assert isinstance(prompt, Value) and prompt.value == cell.cell.levels["prompt_tokens"]
        assert isinstance(figures["memory_peak"], Value) and not isinstance(figures["load_time"], Value)


async def test_a_missing_model_is_made(tmp_path: Path) -> None:
    """From an empty data folder: made, told, measured."""
    events: list[p.Event] = []
    plan = small(hold={"model": "brine-15m", "threads": 1, "context": 256, "output_tokens": 4})
    one = dataclasses.replace(plan, vary={"quantization": ("Q4_0",), "prompt_tokens": (64,)})
    record = await measure(one, places(tmp_path, tmp_path), events)
    assert record.run.state == "measured" and any(isinstance(e, p.Making) for e in events)


THREADS: dict[str, tuple[Level, ...]] = {"threads": (1, 2, 3)}


async def test_a_configuration_that_will_not_load_is_a_result(tmp_path: Path) -> None:
    """Kept with its last words, tried twice and no more; the others are measured."""
    bench = Bench(tmp_path, broken={2})
    view = await bench.run(study(THREADS, hold={**study().hold, "quantization": "F16"}, repeats=Repeats(count=4)))
    assert [c.state for c in view.cells] == ["measured", "failed", "measured"]
    assert bench.engines.tries.count(2) == 2
    broken = [r for r in view.cells[1].kept_repeats if r.state == "failed"]
    assert len(broken) == 4 and broken[0].failure is not None and broken[0].failure.last_words == "no memory"
    assert broken[0].failure.kind == "launch"
    assert all(e.stopped for e in bench.engines.started) and bench.drivers[0].closed


async def test_failed_requests_do_not_end_the_study(tmp_path: Path) -> None:
    """An engine that answers nothing countable: the repeat failed, with the reason and the engine's last words."""
    bench = Bench(tmp_path, act=lambda _e: dataclasses.replace(sound(_e), error="HTTP 500", complete=False))
    view = await bench.run(study(THREADS, hold={**study().hold, "quantization": "F16"}, repeats=Repeats(count=1)))
    assert {c.state for c in view.cells} == {"failed"}
    failure = view.cells[0].kept.failure
    assert failure is not None and "HTTP 500" in failure.what and failure.kind == "requests"
    assert failure.last_words == "these were its last words"
    assert "incomplete" in {c.code for c in view.cells[0].cautions}


async def test_a_lost_driver_is_replaced(tmp_path: Path) -> None:
    """Once: the repeat failed, the next has a new driver. Again and again: the study stops and says so."""
    falls = iter([True])
    bench = Bench(tmp_path, act=lambda e: DriverError("the driver has ended") if next(falls, False) else sound(e))
    plan = study(THREADS, hold={**study().hold, "quantization": "F16"}, repeats=Repeats(count=1))
    view = await bench.run(plan)
    assert [c.state for c in view.cells] == ["measured"] * 3 and sum(c.kept.failed for c in view.cells) == 1
    assert len(bench.drivers) == 2 and bench.drivers[0].closed
    worse = Bench(tmp_path / "w", act=lambda _e: DriverError("gone"))
    worse.home.mkdir(exist_ok=True)
    with pytest.raises(DriverError):
        await worse.run(plan)


async def test_a_store_that_cannot_be_written_stops_the_run(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Rather than measure into nothing; the engine is ended all the same."""
    bench = Bench(tmp_path)

    def full(*_a: object, **_k: object) -> None:
        raise StoreError("the disk is full")

    monkeypatch.setattr(bench.store, "add_timeline", full)
    with pytest.raises(StoreError):
        await bench.run(study(THREADS, hold={**study().hold, "quantization": "F16"}))
    assert all(e.stopped for e in bench.engines.started)


async def test_stop_and_resume_measures_only_what_is_missing(tmp_path: Path) -> None:
    """Cancelled after three repeats: kept, stopped; the second run does the other six and no more."""
    plan = study(THREADS, hold={**study().hold, "quantization": "F16"}, repeats=Repeats(count=3))
    bench = Bench(tmp_path)
    task = asyncio.create_task(bench.work(plan).run())
    while sum(isinstance(e, p.RepeatEnded) for e in bench.events) < 3:
        await asyncio.sleep(0.001)
    task.cancel()
    with pytest.raises(asyncio.CancelledError):
        await task
    stopped = open_run(bench.store, bench.run_id)
    first, kept = stopped.run, stopped.done_repeats
    assert first.state == "stopped" and all(e.stopped for e in bench.engines.started)
    bench.events.clear()
    view = await bench.run(plan)
    assert view.run.run_id == first.run_id
    assert sum(isinstance(e, p.RepeatEnded) for e in bench.events) == 9 - kept and kept >= 3
    assert all(c.done == 3 for c in view.cells)


async def test_salts_never_repeat_within_a_run(tmp_path: Path) -> None:
    """Each request of a cell starts differently, also across repeats of one engine launch."""
    seen: list[str] = []

    def act(e: Episode) -> Timeline:
        seen.extend(o.messages[0].content[:11] for o in e.requests[:1])
        return sound(e)

    bench = Bench(tmp_path, act=act)
    hold = {**study().hold, "quantization": "F16", "threads": 1}
    await bench.run(study({"output_tokens": (4, 5)}, hold=hold, repeats=Repeats(count=3, order="by-launch")))
    assert len(seen) == len(set(seen)) == 12


class DisturbedTelemetry(FakeTelemetry):
    """A machine from which time is stolen, or that others use, for the first so many looks."""

    def __init__(self, looks: int, *, stolen: float, others: float) -> None:
        self.left, self.stolen, self.others = looks, stolen, others

    def watch(self, engine: RunningEngine) -> TreeWatch:
        watch = super().watch(engine)
        stolen, others = (self.stolen, self.others) if self.left > 0 else (0.0, 0.0)
        self.left -= 1
        end = watch.end

        def ended(*, driver_cpu_ns: int) -> tuple[Trace, Machine]:
            trace, machine = end(driver_cpu_ns=driver_cpu_ns)
            return trace, dataclasses.replace(machine, stolen_share=stolen, busy_cores=machine.own_cores + others)

        watch.end = ended  # type: ignore[method-assign]
        return watch


@pytest.mark.parametrize(("quiet_s", "warm_ups"), [(0.0, 1), (60.0, 4), (3.0, 3)])
@pytest.mark.parametrize("disturbed", [{"stolen": 0.5, "others": 0.0}, {"stolen": 0.0, "others": 1.0}])
async def test_a_repeat_waits_for_quiet_and_not_for_ever(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, quiet_s: float, warm_ups: int, disturbed: dict[str, float]
) -> None:
    """Warmed up again while time is stolen, or others use the machine, up to the limit, and told so; then measured in
    any case."""

    sleep = asyncio.sleep

    async def no_sleep(_seconds: float) -> None:
        await sleep(0)

    bench = Bench(tmp_path)
    bench.telemetry = DisturbedTelemetry(3, **disturbed)
    monkeypatch.setattr("zinc_kettle.session.episode.asyncio.sleep", no_sleep)
    hold = {**study().hold, "quantization": "F16"}
    view = await bench.run(
        study({"threads": (1,)}, hold=hold, repeats=Repeats(count=1), limits=Limits(quiet_s=quiet_s))
    )
    roles = [t.role for t in view.cells[0].repeats[0].timelines]
    assert roles == ["warmup"] * warm_ups + ["measured"]
    assert (view.cells[0].repeats[0].extras["waited_s"] > 0) is (warm_ups > 1)
    told = [e for e in bench.events if isinstance(e, p.Disturbed)]
    assert len(told) == warm_ups - 1 and all(e.stolen_share == disturbed["stolen"] for e in told)


def decide_after(bench: Bench, count: int, *decisions: Decision) -> None:
    """Take decisions when so many repeats have ended, as another process would: through the store."""

    def watch(event: p.Event) -> None:
        if isinstance(event, p.RepeatEnded) and sum(isinstance(e, p.RepeatEnded) for e in bench.events) == count:
            for decision in decisions:
                bench.store.decide(bench.run_id, decision)

    bench.watch = watch


async def test_decisions_steer_a_run_and_are_kept(tmp_path: Path) -> None:
    """A cell skipped and a level added in the middle: the next steps follow, the log tells, only what is new ran."""
    plan = study(THREADS, hold={**study().hold, "quantization": "F16"}, repeats=Repeats(count=3))
    bench = Bench(tmp_path)
    at = Step(1, plan.cells[0].key)
    skip, add = Skip(1.0, {"threads": 1}, at), AddLevel(2.0, {"threads": 8}, at)
    decide_after(bench, 4, skip, add)
    view = await bench.run(plan)
    done = {c.cell.levels["threads"]: c.done for c in view.cells}
    assert done[2] == done[3] == done[8] == 3 and done[1] in {1, 2} and view.run.state == "measured"
    assert view.run.decisions == (skip, add) and any(isinstance(e, p.Widened) for e in bench.events)
    assert [c.state for c in view.cells] == ["skipped", "measured", "measured", "measured"]
    again = await bench.run(plan)
    assert again.run.number == 2, "what is measured is not resumed"


async def test_a_paused_run_begins_nothing_until_it_goes_on(tmp_path: Path) -> None:
    """Paused after two repeats, it stays there; told to go on, it ends."""
    plan = study(THREADS, hold={**study().hold, "quantization": "F16"}, repeats=Repeats(count=2))
    bench = Bench(tmp_path)
    decide_after(bench, 2, Pause(1.0))
    task = asyncio.create_task(bench.work(plan).run())
    while not any(isinstance(e, p.Paused) for e in bench.events):
        await asyncio.sleep(0.01)
    await asyncio.sleep(0.1)
    assert sum(isinstance(e, p.RepeatEnded) for e in bench.events) == 2
    bench.store.decide(bench.run_id, Resume(2.0))
    assert (await task).state == "measured"


async def test_what_failed_is_tried_once_more_at_the_end_and_at_the_next_start(tmp_path: Path) -> None:
    """After all else; where it fails again the run is not finished, no repeat counts as done that is not measured, and
    a further start measures just that one."""
    plan = study(THREADS, hold={**study().hold, "quantization": "F16"}, repeats=Repeats(count=2))
    bench = Bench(tmp_path)

    def ended() -> list[p.RepeatEnded]:
        return [e for e in bench.events if isinstance(e, p.RepeatEnded)]

    bench.act = lambda episode: DriverError("gone") if len(ended()) in {0, 6} else sound(episode)
    view = await bench.run(plan)
    assert len(ended()) == 7 and ended()[6].cell == ended()[0].cell, "the one that failed comes last"
    assert view.run.state == "stopped" and sorted(c.done for c in view.cells) == [1, 2, 2]
    last = [e for e in bench.events if isinstance(e, p.Progress)][-1]
    assert (last.done, last.repeats) == (5, 6) == (view.done_repeats, view.wanted_repeats)
    view = await bench.run(plan)
    assert len(ended()) == 8 and view.run.state == "measured" and view.run.number == 1
    assert [c.done for c in view.cells] == [2, 2, 2] and sum(c.kept.failed for c in view.cells) == 2


async def test_a_failed_cell_is_tried_again_or_asked_about(tmp_path: Path) -> None:
    """As the person decided: once more at once, and both are kept; or the run pauses and says which cell failed."""
    plan = study(THREADS, hold={**study().hold, "quantization": "F16"}, repeats=Repeats(count=2))
    falls = iter([False, False, True])
    bench = Bench(tmp_path, act=lambda e: DriverError("gone") if next(falls, False) else sound(e))
    decide_after(bench, 1, OnFailure(1.0, policy="again"))
    view = await bench.run(plan)
    assert [c.done for c in view.cells] == [2, 2, 2] and sum(c.kept.failed for c in view.cells) >= 1
    (tmp_path / "ask").mkdir()
    asked = Bench(tmp_path / "ask", broken={2})
    decide_after(asked, 1, OnFailure(1.0, policy="ask"))
    task = asyncio.create_task(asked.work(plan).run())
    while not any(isinstance(e, p.Paused) for e in asked.events):
        await asyncio.sleep(0.01)
    paused = asked.store.decisions(asked.run_id)[-1]
    assert isinstance(paused, Pause) and paused.reason == "2 threads failed"
    asked.store.decide(asked.run_id, OnFailure(2.0, policy="go-on"))
    asked.store.decide(asked.run_id, Resume(2.0))
    assert (await task).state == "measured"


async def test_a_cap_on_time_ends_the_run_and_says_so(tmp_path: Path) -> None:
    """At least one repeat is measured, however short the cap; without it the run goes to its end."""
    plan = study(THREADS, hold={**study().hold, "quantization": "F16"}, limits=Limits(total_s=1e-6))
    view = await Bench(tmp_path).run(plan)
    assert view.run.state == "stopped" and view.done_repeats == 1
    assert [d.kind for d in view.run.decisions] == ["time-up"]


async def test_a_run_that_was_taken_over_stops(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Its heartbeat finds another holder: nothing more is written, and it says why."""
    monkeypatch.setattr("zinc_kettle.session.experiment.HEARTBEAT_S", 0.01)
    plan = study(THREADS, hold={**study().hold, "quantization": "F16"}, repeats=Repeats(count=2))
    bench = Bench(tmp_path)
    decide_after(bench, 1, Pause(1.0))
    task = asyncio.create_task(bench.work(plan).run())
    while not any(isinstance(e, p.Paused) for e in bench.events):
        await asyncio.sleep(0.01)
    other = KettleStore(tmp_path / "s.db", is_gone=lambda _holder: True)
    assert other.begin(plan, source="", facts={}, wall_s=1e12) == bench.run_id
    with pytest.raises(StoreError, match="taken over"):
        await task
    other.close()


async def test_a_run_is_not_taken_up_with_another_engine(tmp_path: Path) -> None:
    """Of another build, or with another file under the same name: it stops before anything is mixed; fresh, it runs."""
    plan = study(THREADS, hold={**study().hold, "quantization": "F16"}, repeats=Repeats(count=2))
    bench = Bench(tmp_path)
    bench.engines.facts = {"version": "1", "file": {"sha256": "a" * 64}}
    decide_after(bench, 2, Pause(1.0))
    task = asyncio.create_task(bench.work(plan).run())
    while not any(isinstance(e, p.Paused) for e in bench.events):
        await asyncio.sleep(0.01)
    task.cancel()
    await asyncio.gather(task, return_exceptions=True)
    bench.store.decide(bench.run_id, Resume(2.0))
    before = bench.store.done(bench.run_id)
    for other in ({"version": "2"}, {"version": "1", "file": {"sha256": "b" * 64}}):
        bench.engines.facts = other  # type: ignore[assignment]
        with pytest.raises(EngineChangedError):
            await bench.work(plan).run()
        assert bench.store.done(bench.run_id) == before
    bench.engines.facts = {"version": "1"}
    assert (await bench.run(plan)).run.run_id == bench.run_id


async def test_what_an_address_serves_is_kept_with_each_repeat_and_may_not_change(tmp_path: Path) -> None:
    """Another model behind the same address ends the run with a sentence, also in the middle of it."""
    served = ["harbour-4b", "harbour-4b", "harbour-14b"]
    asked: list[str] = []

    async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        head = (await reader.readuntil(b"\r\n\r\n")).decode()
        asked.append(head.split()[1])
        if "/models" in head:
            name = served[min(sum("/models" in path for path in asked) - 1, len(served) - 1)]
            body = json.dumps({"data": [{"id": name, "created": len(asked), "meta": {"n_ctx_train": 8192}}]}).encode()
            writer.write(b"HTTP/1.1 200 X\r\nContent-Length: %d\r\nConnection: close\r\n\r\n%b" % (len(body), body))
        else:
            told = b'data: {"choices":[{"delta":{"content":"bada"}}]}\n\n' * 4
            usage = b'data: {"choices":[],"usage":{"prompt_tokens":64,"completion_tokens":4}}\n\ndata: [DONE]\n\n'
            writer.write(b"HTTP/1.1 200 X\r\nContent-Type: text/event-stream\r\nConnection: close\r\n\r\n")
            writer.write(told + usage)
        await writer.drain()
        writer.close()

    async with await asyncio.start_server(serve, "127.0.0.1", 0) as server:
        url = f"http://127.0.0.1:{server.sockets[0].getsockname()[1]}/v1"
        plan = study(
            {"concurrency": (1,)},
            hold={"output_tokens": 4},
            repeats=Repeats(count=4, requests=1),
            endpoint=Endpoint(url),
        )
        store = KettleStore(tmp_path / "s.db")
        with pytest.raises(EngineChangedError):
            await experiment(plan, Places(tmp_path, tmp_path / "s.db"), store, lambda _event: None).run()
    run = shelf(store)[0].runs[0].run_id
    kept = [r for repeats in store.all_repeats(run).values() for r in repeats]
    assert kept and {r.facts["served"] for r in kept} == {"harbour-4b (n_ctx_train 8192)"}
