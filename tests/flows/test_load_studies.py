"""Studies of every load shape, with the real engine and a tiny model, and with faults and retries."""

from __future__ import annotations

import dataclasses
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from tests.build import decode_timeline, study
from tests.flows.fakes import Bench
from tests.flows.studies import measure, places
from zinc_kettle.core.plan.recipe import Endpoint
from zinc_kettle.core.plan.study import Limits, Prompts, Repeats, Study
from zinc_kettle.core.plan.traffic import Lengths, Load, Recorded, RetryPolicy, Shape
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.core.record.value import Value
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.formats.suite import task_texts
from zinc_kettle.present.answer import answer
from zinc_kettle.session import progress as p
from zinc_kettle.session.calibrate import Prepared, Workload
from zinc_kettle.session.orders import Orders
from zinc_kettle.wire.messages import Episode

HOLD = {"model": "brine-15m", "quantization": "Q8_0", "threads": 1, "context": 512, "output_tokens": 8}


def tiny(vary: dict[str, tuple[Any, ...]], **changes: Any) -> Study:
    """A study of the tiny model, one repeat."""
    hold = {**HOLD, "prompt_tokens": 48, **changes.pop("hold", {})}
    for name in changes.pop("without", ()):
        hold.pop(name)
    return study(vary, hold=hold, repeats=changes.pop("repeats", Repeats(count=1)), **changes)


def value(cell: CellResults, name: str) -> float:
    """A figure that must be there."""
    figure = cell.value(name)
    assert isinstance(figure, Value), figure
    return figure.value


async def view_of(plan: Study, home: Path, tmp_path: Path) -> StudyResults:
    """Measure, and look at what was kept."""
    view = await measure(plan, places(home, tmp_path))
    assert view.run.state == "measured"
    return view


async def test_a_burst_and_a_batch(home: Path, tmp_path: Path) -> None:
    """Six at once, as six requests and as one: every answer whole, one batch time, no throughput."""
    shapes: tuple[Shape, ...] = ("burst", "batch")
    for shape in shapes:
        plan = tiny({"concurrency": (1, 6)}, load=Load(shape))
        view = await view_of(plan, home, tmp_path)
        six = view.cells[1]
        requests = six.repeats[0].measured
        assert len(requests) == 6 and all(t.total_tokens == 8 for t in requests), shape
        assert len({t.stream for t in requests}) == 6
        assert value(six, "batch_wall") > 0 and not isinstance(six.value("throughput"), Value)
        starts = {t.sent_ns for t in requests}
        assert len(starts) == (1 if shape == "batch" else 6)


async def test_an_open_loop(home: Path, tmp_path: Path) -> None:
    """Twelve requests by schedule; figures of waiting are there, and the rate's level is the cell's."""
    plan = tiny(
        {"rate": (1_200,)}, hold={"slots": 2}, load=Load("open", "constant"), repeats=Repeats(count=1, requests=12)
    )
    (cell,) = (await view_of(plan, home, tmp_path)).cells
    requests = cell.repeats[0].measured
    assert len(requests) == 12 and all(t.due_ns is not None for t in requests)
    assert value(cell, "latency") >= value(cell, "duration") and value(cell, "send_delay") >= 0
    assert cell.title == "1,200 per minute"


async def test_conversations_grow(home: Path, tmp_path: Path) -> None:
    """Depth rises with every turn; with the prompt cache only what is new is processed."""
    plan = tiny({"prompt_cache": (False, True)}, load=Load("conversation", turns=3))
    off, on = (await view_of(plan, home, tmp_path)).cells
    for cell in (off, on):
        told = cell.summary.turns
        assert [t.turn for t in told] == [0, 1, 2] and all(t.requests == 1 for t in told)
        depths = [t.depth for t in told if t.depth is not None]
        assert depths == sorted(depths) and depths[-1] > 2 * depths[0]
    last_off, last_on = off.repeats[0].measured[-1], on.repeats[0].measured[-1]
    assert (last_on.uncached_tokens or 0) < (last_off.uncached_tokens or 0) / 2
    assert "cache-helped" not in {c.code for c in on.cautions}


async def test_recorded_conversations_go_out_as_they_are(home: Path, tmp_path: Path) -> None:
    """Each turn with what was recorded before it, and the answer's length where it was recorded."""
    talk = Recorded((("user", "bada ribo"), ("assistant", "kola nilo"), ("user", "tomi rake")), 5)
    plan = tiny(
        {"threads": (1,)},
        without=("threads", "prompt_tokens"),
        load=Load("conversation"),
        prompts=Prompts(recorded=(talk, dataclasses.replace(talk, output_tokens=6))),
        repeats=Repeats(count=1, requests=4),
    )
    (cell,) = (await view_of(plan, home, tmp_path)).cells
    assert [t.total_tokens for t in cell.repeats[0].measured] == [8, 5, 8, 6]
    assert [t.turn for t in cell.repeats[0].measured] == [0, 1, 0, 1]


async def test_lengths_of_a_distribution(home: Path, tmp_path: Path) -> None:
    """Every prompt exactly as long as drawn, every answer too; the same in each repeat."""
    prompts = Prompts(
        lengths=Lengths("uniform", low=40, high=120), outputs=Lengths("table", table=((4, 1.0), (9, 1.0)))
    )
    plan = tiny(
        {"concurrency": (2,)},
        without=("prompt_tokens", "output_tokens"),
        prompts=prompts,
        repeats=Repeats(count=2, requests=8),
    )
    (cell,) = (await view_of(plan, home, tmp_path)).cells
    for repeat in cell.repeats:
        lengths = sorted(t.prompt_tokens or 0 for t in repeat.measured)
        assert len(set(lengths)) > 4 and lengths[0] >= 40 and lengths[-1] <= 120
        assert sorted(t.total_tokens for t in repeat.measured) == [4] * 4 + [9] * 4
    first, second = (
        [t.prompt_tokens for t in sorted(r.measured, key=lambda t: int(t.request_id.rpartition("-")[2]))]
        for r in cell.repeats
    )
    assert first == second


async def test_tasks_of_the_suite(home: Path, tmp_path: Path) -> None:
    """A task brings its texts, stretched to its length; here shortened in the answer only."""
    plan = tiny(
        {"task": ("short-ask", "extraction")},
        hold={"context": 1_024},
        without=("prompt_tokens",),
        prompts=Prompts(tasks={n: task_texts(n) for n in ("short-ask", "extraction")}),
    )
    view = await view_of(plan, home, tmp_path)
    assert [value(c, "prompt_tokens") for c in view.cells] == [128, 640]


def test_each_block_has_a_schedule_of_its_own() -> None:
    """The same for all cells of a block, at their rates; another in the next block, or its luck would be measured."""
    plan = study({"rate": (60, 120)}, load=Load("open"), hold={"output_tokens": 4, "prompt_tokens": 16})
    workload = Workload((Prepared("tide", 16, "tokenizer"),), 4)

    def due(cell: int, block: int) -> list[int]:
        orders = Orders(plan, plan.cells[cell], "r", lambda _i: None, {}, block)
        return [order.due_ns or 0 for order in orders.measured(workload, cold=False)]

    assert due(0, 0) == due(0, 0) != due(0, 1)
    assert due(0, 3) == pytest.approx([2 * at for at in due(1, 3)], abs=2)


async def test_faults_and_retries_of_a_study(paced: str, tmp_path: Path) -> None:
    """A server that fails half of the time: the study goes on, each attempt is kept, the map says errors."""
    plan = study(
        {"concurrency": (1, 3)},
        hold={"output_tokens": 4, "salt": True, "engine": "scripted"},
        endpoint=Endpoint(paced),
        prompts=Prompts(("a.txt",), ("ribo kola",)),
        repeats=Repeats(count=1, requests=3, warm_up=0),
        retry=RetryPolicy(2, ("http-503",), 0.01),
        limits=Limits(request_s=20.0),
    )
    # A person's own recipe says what their server wants with every request.
    own = tmp_path / "recipes" / "scripted.toml"
    own.parent.mkdir()
    own.write_text(
        "format = 1\nbased_on = 'open-protocol'\n[requests.always]\n"
        "paced = { fault = 'status', status = 503, fails = 1, first_ms = 2.0 }\n"
    )
    view = await measure(plan, places(tmp_path, tmp_path))
    for cell in view.cells:
        repeat = cell.repeats[0]
        assert len(repeat.failed) == 3 and all(t.fault == "http-503" for t in repeat.failed)
        healed = [t for t in repeat.timelines if t.usable]
        assert len(healed) == 3 and all(t.attempt == 1 for t in healed)
        assert "errors" in {c.code for c in cell.cautions}


@pytest.mark.parametrize(("rates", "wanted"), [((25.0, 25.01, 24.99), 7), ((20.0, 25.0, 31.0), 9)])
async def test_repeats_until_narrow_enough(tmp_path: Path, rates: tuple[float, ...], wanted: int) -> None:
    """A steady cell stops at the first look, a noisy one goes on to the ceiling; resuming measures nothing more."""
    count = iter(range(10**6))

    def act(episode: Episode) -> Timeline:
        return decode_timeline(rates[next(count) % len(rates)], asked_tokens=11)

    bench = Bench(tmp_path, act)
    plan = study(
        {"threads": (1,)},
        hold={"model": "brine-15m", "quantization": "Q8_0", "output_tokens": 11},
        prompts=Prompts(("a.txt",), ("ribo",)),
        repeats=Repeats(count=6, until_percent=2.0, ceiling=9),
    )
    view = await bench.run(plan)
    assert view.cells[0].done == wanted and view.cells[0].state == "measured"
    assert [e.left_s for e in bench.events if isinstance(e, p.Progress)][-1] == 0.0


async def test_repeats_until_it_is_known_which_is_best(tmp_path: Path) -> None:
    """A cell far behind gets few repeats, two that are alike end together, and the log and the answer say so."""
    rates = {1: 20.0, 2: 29.9, 4: 30.0}
    # Of its own for each cell: the order is drawn anew with each run.
    noise = {threads: iter(np.random.default_rng(threads).normal(0, 0.012, 200)) for threads in rates}

    def act(episode: Episode) -> Timeline:
        threads = bench.engines.tries[-1] or 0
        return decode_timeline(rates[threads] * float(np.exp(next(noise[threads]))), asked_tokens=11)

    bench = Bench(tmp_path, act)
    plan = study(
        {"threads": (1, 2, 4)},
        hold={"model": "brine-15m", "quantization": "Q8_0", "output_tokens": 11},
        prompts=Prompts(("a.txt",), ("ribo",)),
        repeats=Repeats(count=3, until_answered="best", smallest_percent=3.0, ceiling=40),
    )
    view = await bench.run(plan)
    slow, *alike = view.cells
    assert slow.done < alike[0].done == alike[1].done < 40
    assert {c.state for c in view.cells} == {"measured"} and view.run.state == "measured"
    assert {d.kind for d in view.run.decisions} == {"settle"} and len(view.run.decisions) == 3
    assert answer(view).endswith("not more than 3% behind")


async def test_more_drivers_where_one_is_full(tmp_path: Path) -> None:
    """A repeat whose driver used more than its share is followed by one with more drivers, if there are cores."""
    from zinc_kettle.core.drivers import FULL_SHARE, drivers_wanted

    share = 1.6
    ceiling = 30_000.0
    assert drivers_wanted(tokens_per_s=share / FULL_SHARE * ceiling, streams=64, ceiling=ceiling, cores=8) == 3
    bench = Bench(tmp_path)
    plan = study(
        {"concurrency": (4,)},
        hold={"model": "brine-15m", "quantization": "Q8_0", "prompt_tokens": 64},
        load=Load(drivers=2),
        repeats=Repeats(count=1),
    )
    seen: list[int] = []
    original = bench.act

    def act(episode: Episode) -> Any:
        seen.append(episode.drivers)
        return original(episode)

    bench.act = act
    await bench.run(plan)
    assert set(seen[-1:]) == {2}
