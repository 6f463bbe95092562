"""Faults: each is survived, recorded as what it was, and what comes after it goes through."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import AsyncIterator, Callable
from pathlib import Path
from typing import Any

import pytest

from tests.driving import WORDS, drive, drive_all, scripted
from zinc_kettle.core.faults import FAULTS, is_fault, meaning
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.link.process import DriverProcess
from zinc_kettle.wire.messages import ChatMessage, Episode, RequestOrder, Retry, Setup

CASES: dict[str, tuple[dict[str, Any], str, dict[str, Any]]] = {
    "reset before headers": ({"fault": "reset-early"}, "reset", {}),
    "reset mid-stream": ({"fault": "reset"}, "broken", {}),
    "clean close": ({"fault": "close"}, "broken", {}),
    "no end marker": ({"fault": "no-end"}, "no-end", {}),
    "stall": ({"fault": "stall"}, "stall", {"stall_s": 0.5}),
    "slow drip": ({"fault": "drip"}, "timeout", {"timeout_s": 0.5}),
    "wrong type": ({"fault": "wrong-type"}, "wrong-type", {}),
    "huge line": ({"fault": "huge-line"}, "too-large", {}),
    "huge header": ({"fault": "huge-header"}, "too-large", {}),
    "bad json": ({"fault": "bad-json"}, "unreadable", {}),
    "bad utf-8": ({"fault": "bad-utf8"}, "unreadable", {}),
    "error event": ({"fault": "error-event"}, "engine-error", {}),
    "endless": ({"fault": "endless", "gap_ms": 0.05}, "endless", {}),
    "zero tokens": ({"fault": "empty", "fault_after": 10**6}, "empty", {}),
    **{str(n): ({"fault": "status", "status": n}, f"http-{n}", {}) for n in (400, 401, 404, 429, 500, 503)},
}


@pytest.mark.parametrize("name", CASES)
async def test_a_fault_is_recorded_and_the_next_request_goes_through(paced: str, name: str) -> None:
    """Code, words, never counted; the stream goes on with the next request."""
    script, code, limits = CASES[name]
    bad = scripted(1, 20, {"gap_ms": 0.5, **script})
    good = RequestOrder("good", "measured", [ChatMessage("user", WORDS)], 5)
    first, second = await drive(paced, [*bad, good], **limits)
    assert first.fault == code and first.error and not first.usable and not first.complete
    assert second.request_id == "good" and second.usable and second.fault == ""


@pytest.mark.parametrize("kind", ["negative", "absurd"])
async def test_absurd_usage_is_not_believed(paced: str, kind: str) -> None:
    """Chunks are counted instead, the request counts, and what was said is kept as odd."""
    (t,) = await drive(paced, scripted(1, 12, {"bad_usage": kind}))
    assert t.usable and t.output_tokens is None and t.total_tokens == 12 and t.counted_by == "chunks"
    assert "completion_tokens" in t.odd


async def test_every_code_has_a_meaning() -> None:
    """The table is whole, and unknown codes are none."""
    assert {code for _, code, _ in CASES.values() if not code.startswith("http-")} <= set(FAULTS)
    assert is_fault("http-503") and is_fault("stall")
    assert not is_fault("http-200") and not is_fault("http-x") and not is_fault("tired")
    assert "429" in meaning("http-429") and all(meaning(code) for code in FAULTS)


async def test_retries_as_the_study_states(paced: str) -> None:
    """Two failures, then an answer: three timelines of one request, the last of them counted."""
    script = {"fault": "status", "status": 503, "fails": 2, "label": "again"}
    order = RequestOrder("r", "measured", [ChatMessage("user", "retried words")], 5, extra={"paced": script})
    seen = await drive(paced, [order], retry=Retry(3, ["http-503"], wait_s=0.01, backoff=1.0))
    assert [(t.attempt, t.fault, t.usable) for t in seen] == [
        (0, "http-503", False),
        (1, "http-503", False),
        (2, "", True),
    ]


async def test_what_the_policy_does_not_name_is_not_sent_again(paced: str) -> None:
    """A 400 stays a 400, and after so many times it is enough."""
    bad = await drive(paced, scripted(1, 5, {"fault": "status", "status": 400}), retry=Retry(3, ["http-503"], 0.01))
    assert [t.fault for t in bad] == ["http-400"]
    worn = await drive(paced, scripted(1, 5, {"fault": "status"}), retry=Retry(2, ["http-503"], 0.01))
    assert [t.attempt for t in worn] == [0, 1, 2] and not any(t.usable for t in worn)


async def test_retry_after_is_waited_for(paced: str) -> None:
    """The server's wish is waited for where it is longer than ours, and not beyond the policy's limit."""
    script = {"fault": "status", "status": 429, "fails": 1, "retry_after_s": 1}
    waits = {}
    for limit in (30.0, 0.05):
        order = RequestOrder("r", "measured", [ChatMessage("user", f"later {limit}")], 5, extra={"paced": script})
        first, second = await drive(paced, [order], retry=Retry(1, ["http-429"], 0.01, most_s=limit))
        waits[limit] = (second.sent_ns - first.end_ns) / 1e9
        assert second.usable
    assert waits[30.0] >= 0.999 > waits[0.05]  # a timer may be early by a tick of its clock


@contextlib.asynccontextmanager
async def hostile(answer: Callable[[asyncio.StreamWriter], Any]) -> AsyncIterator[str]:
    """A server that reads a request and then does as it likes."""

    async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            await reader.readuntil(b"\r\n\r\n")
            await answer(writer)
        except (ConnectionError, asyncio.IncompleteReadError):
            pass
        finally:
            writer.close()

    server = await asyncio.start_server(serve, "127.0.0.1", 0)
    async with server:
        yield f"http://127.0.0.1:{server.sockets[0].getsockname()[1]}"


def flood(piece: bytes, head: bytes = b"HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\n\r\n") -> Any:
    """For ever the same."""

    async def answer(writer: asyncio.StreamWriter) -> None:
        writer.write(head)
        while not writer.is_closing():
            writer.write(piece)
            await writer.drain()

    return answer


FLOODS = {
    "one endless line": flood(b"x" * 65_536),
    "endless data fields": flood(b"data: " + b"y" * 60_000 + b"\n"),
    "endless comments": flood(b": still here\n" * 4_000),
    "endless headers": flood(b"X-More: " + b"z" * 4_000 + b"\r\n", head=b"HTTP/1.1 200 OK\r\n"),
    "one endless header": flood(b"z" * 65_536, head=b"HTTP/1.1 200 OK\r\nX-More: "),
    "endless interim answers": flood(b"HTTP/1.1 100 Continue\r\n\r\n" * 500, head=b""),
    "huge texts": flood(b'data: {"choices":[{"delta":{"content":"' + b"w" * 500_000 + b'"}}]}\n\n'),
    "deep nesting": flood(b'data: {"choices":' + b"[" * 100_000 + b"\n\n"),
    "an error page without end": flood(b"<p>no</p>" * 4_000, head=b"HTTP/1.1 500 X\r\n\r\n"),
}
MORE_ALLOWED = 40 << 20


def once(*texts: bytes) -> Any:
    """Said once, each in a read of its own; then the connection stays open for a while."""

    async def answer(writer: asyncio.StreamWriter) -> None:
        for text in texts:
            writer.write(text)
            await writer.drain()
            await asyncio.sleep(0.05)
        await asyncio.sleep(3)

    return answer


STREAM = b"HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\n\r\n"
CHUNKED = b"HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\nTransfer-Encoding: chunked\r\n\r\n"


def chunk(text: bytes) -> bytes:
    """A chunk of the chunked coding."""
    return f"{len(text):x}\r\n".encode() + text + b"\r\n"


NESTED = b'data: {"error":' + b"[" * 1_500 + b"]" * 1_500 + b"}\n\n"
UNREADABLE = {
    "deep but whole": once(STREAM + NESTED),
    "deep in a chunk of its own": once(CHUNKED, chunk(b'data: {"choices":[]}\n\n'), chunk(NESTED)),
    "another protocol": once(b"HTTP/1.1 101 Switching Protocols\r\nUpgrade: tide\r\nConnection: Upgrade\r\n\r\n"),
}


@pytest.mark.parametrize("name", UNREADABLE)
async def test_what_breaks_our_reading_is_a_fault_at_once(name: str) -> None:
    """Not at the time limit, which is long: the request failed, and the next one of the stream is sent."""
    async with hostile(UNREADABLE[name]) as url:
        async with asyncio.timeout(15):
            first, second = await drive(url, scripted(2, 8), timeout_s=60.0, stall_s=60.0)
    assert {first.fault, second.fault} == {"unreadable"} and second.sent_ns > first.sent_ns


@pytest.mark.parametrize("name", FLOODS)
async def test_a_hostile_stream_does_not_fill_our_memory(paced: str, name: str) -> None:
    """It is ended, by its kind or by the time limit, and the driver has not grown by what was poured into it."""
    driver = await DriverProcess.spawn()
    seen: list[Timeline] = []
    try:
        await driver.aim(Setup(paced, "m"))
        await driver.run(Episode("w", 1, scripted(1, 4)), on_tick=lambda _t: None, on_timeline=seen.append)
        before = high_water(driver.pid)
        async with hostile(FLOODS[name]) as url:
            await driver.aim(Setup(url, "m"))
            episode = Episode("e", 1, scripted(1, 64), timeout_s=1.5, stall_s=1.5)
            await driver.run(episode, on_tick=lambda _t: None, on_timeline=seen.append)
        assert high_water(driver.pid) - before < MORE_ALLOWED
    finally:
        await driver.close()
    assert seen[0].usable and seen[1].fault in {"too-large", "timeout", "unreadable", "endless", "http-500"}
    assert len(seen[1].text) <= 2_000 and len(seen[1].error or "") < 1_000


def high_water(pid: int) -> int:
    """The most memory a process has had, in bytes."""
    return int(Path(f"/proc/{pid}/status").read_text().split("VmHWM:")[1].split()[0]) << 10


async def test_refused_and_unknown(unused_port: int) -> None:
    """Nobody there, and no such name: a fault of each request, no hang."""
    for url in (f"http://127.0.0.1:{unused_port}", "http://no-such-name.invalid"):
        seen, _ = await drive_all(Setup(url, "m"), scripted(2, 4), streams=2)
        assert [t.fault for t in seen] == ["refused", "refused"]
