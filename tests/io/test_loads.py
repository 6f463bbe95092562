"""Load shapes against the paced server: schedules, bursts, conversations, pauses, several drivers."""

from __future__ import annotations

import asyncio
import dataclasses
import itertools
import time

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.build import repeat
from tests.driving import drive, scripted, sent
from zinc_kettle.core.measures import repeat_figures
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.driver.closed import ClosedLoop
from zinc_kettle.driver.opened import OpenLoop
from zinc_kettle.driver.pacing import Opened
from zinc_kettle.driver.recording import Recording
from zinc_kettle.driver.target import Target
from zinc_kettle.link.pool import DriverPool, merged_tick, split
from zinc_kettle.wire.messages import ChatMessage, Episode, Finished, RequestOrder, Setup, Tick

MS = 1_000_000


async def test_an_open_loop_keeps_its_schedule_whatever_the_server_does(paced: str) -> None:
    """Requests go out when due although all the earlier ones are still open, and never before."""
    script = {"first_ms": 400.0, "gap_ms": 1.0}
    due = [i * 10 * MS for i in range(30)]
    orders = [
        RequestOrder(f"r{i}", "measured", [ChatMessage("user", "tide")], 4, due_ns=at, extra={"paced": script})
        for i, at in enumerate(due)
    ]
    seen = sorted(await drive(paced, orders, streams=1, shape="open"), key=lambda t: int(t.request_id[1:]))
    assert all(t.usable for t in seen)
    starts = [t.due_ns for t in seen if t.due_ns is not None]
    assert np.diff(starts).tolist() == [10 * MS] * 29
    assert all(t.due_ns is not None and t.sent_ns >= t.due_ns for t in seen)
    # The last went out long before the first was answered: no closed loop would do that.
    assert max(t.sent_ns for t in seen) < min(int(t.stamps[0]) for t in seen) or len({t.stream for t in seen}) == 30


async def test_a_request_stopped_before_its_turn_is_recorded(paced: str) -> None:
    """Its bytes are out in the turn of the timer; a stop before the loop's next turn leaves it in the record."""
    said: list[object] = []
    orders = scripted(1, 4, due_ns=0)
    loop = OpenLoop(Target.of(Setup(paced, "m")), Episode("e", 1, orders, shape="open"), lambda *m: said.extend(m))
    await loop.prepare()
    task = asyncio.create_task(loop._send(loop._begin(0, orders[0], time.monotonic_ns())))
    task.cancel()
    await asyncio.gather(task, return_exceptions=True)
    loop._account()
    loop.send = _nothing  # type: ignore[method-assign]
    loop.prepare = _nothing  # type: ignore[method-assign]
    await loop.run()
    (record,) = [m for m in said if isinstance(m, Finished)]
    assert record.fault == "stopped" and 0 < record.sent_ns <= record.end_ns


async def _nothing() -> None:
    pass


async def test_no_connection_lingers_while_requests_wait(paced: str) -> None:
    """A server may hold a worker for each open connection: the next request never waits for the last one's."""

    class Watched(ClosedLoop):
        async def one(self, record: Recording, request: bytes, opened: Opened) -> None:
            held.append(len(self._open))
            await super().one(record, request, opened)

    held: list[int] = []
    await Watched(
        Target.of(Setup(paced, "m", connect_ahead=False)), Episode("e", 1, scripted(5, 4)), lambda *_: None
    ).run()
    assert held == [1] * 5


async def test_latency_counts_from_when_it_was_due(paced: str) -> None:
    """A request that could not be sent in time has waited since it was due."""
    orders = scripted(1, 4, {"first_ms": 20.0}, due_ns=0)
    (t,) = await drive(paced, orders, shape="open")
    late = dataclasses.replace(t, due_ns=t.sent_ns - 500 * MS)
    figures = repeat_figures(repeat(late, extras={"open_loop": 1.0}))
    assert isinstance(figures["latency"], float) and isinstance(figures["duration"], float)
    assert figures["latency"] == pytest.approx(figures["duration"] + 0.5)
    assert figures["send_delay"] == pytest.approx(0.5)


async def test_a_thousand_at_once_lose_nothing(paced: str) -> None:
    """A burst of 1,000: every request answered in full, every token counted once."""
    slow = {"first_ms": 5_000.0, "gap_ms": 20.0, "timings": True}  # a busy machine takes its time to send them all
    seen = await drive(paced, scripted(1_000, 8, slow), streams=1_000)
    assert len({t.request_id for t in seen}) == 1_000 and len({t.stream for t in seen}) == 1_000
    assert all(t.usable and t.total_tokens == 8 for t in seen), next(t.error for t in seen if not t.usable)
    # They were all open at the same time.
    assert max(t.sent_ns for t in seen) < min(t.end_ns for t in seen)


async def test_a_conversation_carries_what_came_before(paced: str) -> None:
    """Each turn holds the former turns and the engine's own answers, and follows its predecessor."""
    orders = [
        RequestOrder(
            f"c{c}t{t}",
            "measured",
            [ChatMessage("user", f"turn {t} of {c}")],
            4,
            conversation=c,
            turn=t,
            carry=True,
            extra={"paced": {"label": f"c{c}t{t}"}},
        )
        for c in range(2)
        for t in range(3)
    ]
    seen = {t.request_id: t for t in await drive(paced, orders, streams=2)}
    rows = await sent(paced)
    for c in range(2):
        assert [rows[f"c{c}t{t}"]["messages"] for t in range(3)] == [1, 3, 5]
        turns = [seen[f"c{c}t{t}"] for t in range(3)]
        assert all(b.sent_ns >= a.end_ns for a, b in itertools.pairwise(turns))
        depths = [t.prompt_tokens or 0 for t in turns]
        assert depths[0] < depths[1] < depths[2]
        # Four words of question, four of the answer: nothing of an answer is lost on the way back.
        assert depths[1] - depths[0] == 8
        assert [(t.conversation, t.turn) for t in turns] == [(c, 0), (c, 1), (c, 2)]


async def test_a_broken_turn_ends_its_conversation(paced: str) -> None:
    """What would follow is told as not sent, with the same fault; other conversations go on."""
    orders = [
        RequestOrder(
            f"c{c}t{t}",
            "measured",
            [ChatMessage("user", "x")],
            4,
            conversation=c,
            turn=t,
            carry=True,
            extra={"paced": {"fault": "status"}} if (c, t) == (0, 1) else {},
        )
        for c in range(2)
        for t in range(3)
    ]
    seen = {t.request_id: t for t in await drive(paced, orders, streams=1)}
    assert len(seen) == 6 and sum(t.usable for t in seen.values()) == 4
    assert seen["c0t2"].fault == "http-503" and "not sent" in (seen["c0t2"].error or "")


async def test_a_stream_thinks_before_it_asks_again(paced: str) -> None:
    """The pause lies between the end of one request and the next."""
    orders = scripted(3, 2, {"gap_ms": 1.0}, think_ns=150 * MS)
    seen = await drive(paced, orders)
    pauses = [b.sent_ns - a.end_ns for a, b in itertools.pairwise(seen)]
    assert all(pause >= 150 * MS for pause in pauses)


async def test_several_drivers_are_one_load(paced: str) -> None:
    """Three drivers: every request once, streams numbered through, one start, one account."""
    pool = await DriverPool.spawn()
    seen: list[Timeline] = []
    ticks: list[Tick] = []
    try:
        await pool.aim(Setup(paced, "m"))
        episode = Episode("e", 9, scripted(36, 20, {"gap_ms": 5.0, "timings": True}), drivers=3, tick_s=0.05)
        done = await pool.run(episode, on_tick=ticks.append, on_timeline=seen.append)
        assert len(pool.pids) == 3
    finally:
        await pool.close()
    assert sorted(t.request_id for t in seen) == sorted(f"r{i}" for i in range(36))
    assert {t.stream for t in seen} == set(range(9)) and all(t.usable for t in seen)
    firsts = sorted(t.sent_ns for t in seen)[:9]
    assert done.cpu_ns > 0 and done.start_ns <= firsts[0] and done.end_ns >= max(t.end_ns for t in seen)
    # A common start: the first of every stream go out before the first answer of any has ended.
    assert firsts[-1] < min(t.end_ns for t in seen)
    assert ticks and all(tick.total == 36 for tick in ticks)


@given(st.integers(1, 40), st.integers(1, 12), st.integers(1, 6), st.integers(0, 3))
def test_dealing_out_loses_and_doubles_nothing(requests: int, streams: int, drivers: int, turns: int) -> None:
    """Every order once, conversations whole and in order, streams numbered without a gap."""
    orders = [
        RequestOrder(
            str(i), "measured", [], 1, conversation=i // turns if turns else None, turn=i % turns if turns else 0
        )
        for i in range(requests)
    ]
    parts = split(Episode("e", streams, orders), min(drivers, streams), 0)
    assert sorted(int(o.id) for p in parts for o in p.requests) == list(range(requests))
    for part in parts:
        ids = [int(o.id) for o in part.requests]
        assert ids == sorted(ids)
    owner = {o.conversation: i for i, p in enumerate(parts) for o in p.requests}
    if turns:
        assert all(owner[o.conversation] == i for i, p in enumerate(parts) for o in p.requests)
    numbers = [n for p in parts for n in range(p.first_stream, p.first_stream + p.concurrency)]
    assert len(set(numbers)) == len(numbers) and max(numbers) < streams
    assert len({p.start_ns for p in parts}) == 1


async def test_one_stream_stays_one_stream(paced: str) -> None:
    """However many drivers are asked for: never more streams than the study says."""
    pool = await DriverPool.spawn()
    seen: list[Timeline] = []
    try:
        await pool.aim(Setup(paced, "m"))
        episode = Episode("e", 1, scripted(4, 4, {"gap_ms": 1.0}), drivers=3)
        await pool.run(episode, on_tick=lambda _t: None, on_timeline=seen.append)
        assert len(pool.pids) == 1
    finally:
        await pool.close()
    assert all(b.sent_ns >= a.end_ns for a, b in itertools.pairwise(sorted(seen, key=lambda t: t.sent_ns)))


def test_ticks_of_several_drivers_add_up() -> None:
    """Counts and rates are sums; the last fault is kept."""
    a = Tick("e", [], 3, 10, failed=1, prefill=2, decode=3, rate=10.0, last_fault="refused")
    b = Tick("e", [], 4, 10, prefill=1, decode=1, rate=5.0)
    both = merged_tick("e", [a, b], 20)
    assert (both.finished, both.total, both.failed, both.prefill, both.decode, both.rate) == (7, 20, 1, 3, 4, 15.0)
    assert both.last_fault == "refused"
