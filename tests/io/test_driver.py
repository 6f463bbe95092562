"""The driver process against the paced server: counts, stamps, faults."""

from __future__ import annotations

import asyncio
from typing import Any

import httpx
import pytest

from tests.engines import alive
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.errors import DriverError
from zinc_kettle.link.process import DriverProcess
from zinc_kettle.wire.messages import ChatMessage, Episode, EpisodeDone, RequestOrder, Setup, Tick

WORDS = "the night log of the harbour office"


def orders(count: int, tokens: int, script: dict[str, Any]) -> list[RequestOrder]:
    """Requests that carry a script to the paced server."""
    messages = [ChatMessage("user", WORDS)]
    return [RequestOrder(f"r{i}", "measured", messages, tokens, extra={"paced": script}) for i in range(count)]


async def episode(
    url: str,
    count: int = 1,
    concurrency: int = 1,
    tokens: int = 20,
    *,
    script: dict[str, Any] | None = None,
    **limits: Any,
) -> tuple[list[Timeline], EpisodeDone, list[Tick]]:
    """Run one episode in a driver of its own."""
    driver = await DriverProcess.spawn()
    try:
        await driver.aim(Setup(url, "m"))
        seen: list[Timeline] = []
        ticks: list[Tick] = []
        order = Episode("e", concurrency, orders(count, tokens, script or {}), **limits)
        done = await driver.run(order, on_tick=ticks.append, on_timeline=seen.append)
        return seen, done, ticks
    finally:
        await driver.close()


async def truth(url: str, since: int) -> list[dict[str, Any]]:
    """What the server sent, from its request number `since`."""
    async with httpx.AsyncClient(trust_env=False) as http:
        return list((await http.get(f"{url}/sent")).json())[since:]


SHAPES: dict[str, dict[str, Any]] = {
    "plain": {},
    "by chunk": {"timings": True},
    "merged": {"timings": True, "per_chunk": 3},
    "empty chunks": {"timings": True, "empty_every": 2},
    "reasoning": {"reasoning": True},
    "no role": {"role_first": False},
    "comments": {"comments": True},
    "crlf": {"crlf": True},
    "multi-line": {"multi_line": True},
    "split characters": {"split": True},
    "no usage": {"usage": False},
}


@pytest.mark.parametrize("name", SHAPES)
async def test_however_a_stream_is_told(paced: str, name: str) -> None:
    """Tokens are complete and in order, and each stamp comes after the server's own stamp of its send."""
    before = len(await truth(paced, 0))
    (t,), _, _ = await episode(paced, script=SHAPES[name])
    (sent,) = await truth(paced, before)
    assert t.error is None and t.complete and t.usable
    assert t.total_tokens == 20
    assert t.counted_by == (
        "chunk-counts" if "timings" in SHAPES[name] else "chunks" if name == "no usage" else "usage"
    )
    assert len(t.chunk_ns) == len(sent["sends_ns"])
    errors_ms = [(got - there) / 1e6 for got, there in zip(t.chunk_ns.tolist(), sent["sends_ns"], strict=True)]
    assert min(errors_ms) > 0
    assert t.chunk_ns.tolist() == sorted(t.chunk_ns.tolist())
    if t.counted_by == "chunk-counts":
        assert t.chunk_tokens.tolist() == sent["tokens"]
    assert t.text.startswith(" zinć zinć") and "�" not in t.text


async def test_ttft_is_from_send_to_first_output(paced: str) -> None:
    """The role-only chunk and the headers come at once; TTFT waits for the first text."""
    (t,), _, _ = await episode(paced, script={"first_ms": 120, "gap_ms": 1})
    assert t.header_ns is not None and t.ttft_ns is not None
    assert t.header_ns - t.sent_ns < t.ttft_ns
    assert t.ttft_ns > 0.118e9


async def test_usage_and_cache_are_read(paced: str) -> None:
    """Prompt tokens with cached ones, and the engine's own account."""
    (t,), _, _ = await episode(paced, script={"cached": 6, "timings": True})
    assert (t.prompt_tokens, t.cached_tokens, t.uncached_tokens) == (12, 6, 6)
    assert t.engine is not None and t.engine.predicted_n == 20


async def test_ended_early_is_seen(paced: str) -> None:
    """Fewer tokens than asked for, with the end marker: complete, and early."""
    (t,), _, _ = await episode(paced, script={"stop_after": 7})
    assert t.usable and t.ended_early and t.total_tokens == 7 and t.finish == "stop"


FAULTS: dict[str, tuple[str, dict[str, Any]]] = {
    "reset": ("closed before the end", {}),
    "close": ("closed before the end", {}),
    "no-end": ("without its end marker", {}),
    "wrong-type": ("not an event stream", {}),
    "bad-json": ("could not be read", {}),
    "bad-utf8": ("could not be read", {}),
    "huge-line": ("more than", {}),
    "error-event": ("reported an error", {}),
    "endless": ("more than", {}),
    "status": ("HTTP 503", {}),
    "stall": ("stalled", {"stall_s": 2.0}),
}


@pytest.mark.parametrize("fault", FAULTS)
async def test_faults_are_kept_as_what_they_were(paced: str, fault: str) -> None:
    """Each fault becomes a request with its reason; the next request of the stream goes through."""
    words, limits = FAULTS[fault]
    driver = await DriverProcess.spawn()
    seen: list[Timeline] = []
    try:
        await driver.aim(Setup(paced, "m"))
        bad = orders(1, 20, {"fault": fault, "gap_ms": 0.2})
        good = [RequestOrder("good", "measured", [ChatMessage("user", WORDS)], 5)]
        await driver.run(Episode("e", 1, bad + good, **limits), on_tick=lambda _t: None, on_timeline=seen.append)
    finally:
        await driver.close()
    assert [t.request_id for t in seen] == ["r0", "good"]
    assert seen[0].error is not None and words in seen[0].error
    assert not seen[0].usable and seen[1].usable


async def test_refused_connection(unused_port: int) -> None:
    """Nobody there: each request says so, and the episode ends."""
    seen, done, _ = await episode(f"http://127.0.0.1:{unused_port}", count=3, concurrency=2)
    assert len(seen) == 3 and all(t.error and "could not connect" in t.error for t in seen)
    assert not done.aborted


async def test_slow_drip_ends_at_the_limit(paced: str) -> None:
    """Bytes that keep coming do not keep a request alive for ever."""
    (t,), _, _ = await episode(paced, tokens=4000, script={"gap_ms": 20}, timeout_s=0.6)
    assert t.error == "no end after 0.6 s"


async def test_closed_loop_keeps_its_concurrency(paced: str) -> None:
    """Twelve requests on four streams: never more than four at once, and four most of the time."""
    seen, done, _ = await episode(paced, count=12, concurrency=4, script={"gap_ms": 4})
    assert len(seen) == 12 and {t.stream for t in seen} == {0, 1, 2, 3}
    edges = sorted([(t.sent_ns, 1) for t in seen] + [(t.end_ns, -1) for t in seen])
    level, most = 0, 0
    for _, step in edges:
        level += step
        most = max(most, level)
    assert most == 4 and done.cpu_ns > 0


async def test_two_hundred_at_once(paced: str) -> None:
    """A burst: all answered, nothing lost, no token twice."""
    seen, _, _ = await episode(paced, count=200, concurrency=200, tokens=10, script={"gap_ms": 5, "timings": True})
    assert len({t.request_id for t in seen}) == 200
    assert all(t.usable and t.total_tokens == 10 for t in seen)


async def test_ticks_while_it_runs(paced: str) -> None:
    """A few ticks a second tell where each stream is; they carry no figures."""
    _, _, ticks = await episode(paced, tokens=60, script={"gap_ms": 20})
    assert len(ticks) >= 2
    assert any(s.phase == "decode" and s.tokens > 10 and s.tail for tick in ticks for s in tick.streams)


async def test_cancelling_hands_over_what_came(paced: str) -> None:
    """A stop in the middle: the open request comes back as stopped, with its chunks."""
    driver = await DriverProcess.spawn()
    seen: list[Timeline] = []
    started = asyncio.Event()

    def on_tick(tick: Tick) -> None:
        if tick.streams and tick.streams[0].tokens > 3:
            started.set()

    try:
        await driver.aim(Setup(paced, "m"))
        order = Episode("e", 1, orders(1, 2000, {"gap_ms": 10}))
        running = asyncio.create_task(driver.run(order, on_tick=on_tick, on_timeline=seen.append))
        await asyncio.wait_for(started.wait(), 20)
        running.cancel()
        with pytest.raises(asyncio.CancelledError):
            await running
    finally:
        await driver.close()
    assert len(seen) == 1 and seen[0].error == "stopped before its end" and len(seen[0].chunk_ns) > 3


@pytest.mark.parametrize(
    "setup",
    [
        Setup("ftp://127.0.0.1", "m"),
        Setup("http://127.0.0.1:1", "m", key_variable="NO_SUCH_VARIABLE_HERE"),
        Setup("http://127.0.0.1:1", "m", version=99),
    ],
)
async def test_unusable_targets_are_complaints(setup: Setup) -> None:
    """A wrong address, a missing key, another version: an error with its cause, not a hang."""
    driver = await DriverProcess.spawn()
    try:
        await driver.aim(setup)
        with pytest.raises(DriverError, match="could not run"):
            await driver.run(Episode("e", 1, orders(1, 1, {})), on_tick=lambda _t: None, on_timeline=lambda _t: None)
    finally:
        await driver.close()


async def test_the_key_is_sent_and_never_told(monkeypatch: pytest.MonkeyPatch) -> None:
    """The key reaches the server's header from its variable; it is in no message of ours."""
    heads: list[bytes] = []

    async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        heads.append(await reader.readuntil(b"\r\n\r\n"))
        writer.write(b"HTTP/1.1 401 X\r\nContent-Length: 2\r\n\r\nno")
        await writer.drain()
        writer.close()

    monkeypatch.setenv("HARBOUR_KEY", "sesame-4711")
    server = await asyncio.start_server(serve, "127.0.0.1", 0)
    port = server.sockets[0].getsockname()[1]
    async with server:
        (t,), _, _ = await episode_with_key(f"http://127.0.0.1:{port}/v1")
    assert b"Authorization: Bearer sesame-4711" in heads[0]
    assert heads[0].startswith(b"POST /v1/chat/completions ")
    assert t.error == "HTTP 401: no" and "sesame" not in repr(t)


async def episode_with_key(url: str) -> tuple[list[Timeline], EpisodeDone, list[Tick]]:
    """One request with a key."""
    driver = await DriverProcess.spawn()
    seen: list[Timeline] = []
    try:
        await driver.aim(Setup(url, "m", key_variable="HARBOUR_KEY"))
        done = await driver.run(Episode("e", 1, orders(1, 1, {})), on_tick=lambda _t: None, on_timeline=seen.append)
        return seen, done, []
    finally:
        await driver.close()


async def test_the_driver_ends_with_its_tool() -> None:
    """Closing its input ends it, also in the middle of an episode."""
    driver = await DriverProcess.spawn()
    pid = driver.pid
    await driver.close()
    assert not alive(pid)
