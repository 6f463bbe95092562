"""Servers that answer anything, for ever, asked beside the measuring: bounded, nothing followed, no key passed on."""

from __future__ import annotations

import asyncio
import gzip
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager
from typing import Any

import httpx
import psutil
import pytest

from tests.driving import drive_all, scripted
from zinc_kettle.engines.introspection import told_models
from zinc_kettle.web.bounded import NoAnswerError, ask, ask_json, ask_now
from zinc_kettle.wire.messages import Setup

KEY = "sesame-4711-of-the-harbour"
OK = b"HTTP/1.1 200 X\r\nContent-Type: application/json\r\nConnection: close\r\n"


@asynccontextmanager
async def serving(answer: Callable[[asyncio.StreamWriter], Any]) -> AsyncIterator[tuple[str, list[bytes]]]:
    """A server that reads a request's head and then does as it likes."""
    heads: list[bytes] = []

    async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            heads.append(await reader.readuntil(b"\r\n\r\n"))
            await answer(writer)
        except (ConnectionError, asyncio.IncompleteReadError):
            pass
        finally:
            writer.close()

    async with await asyncio.start_server(serve, "127.0.0.1", 0) as server:
        yield f"http://127.0.0.1:{server.sockets[0].getsockname()[1]}", heads


def saying(*pieces: bytes, again: bytes = b"", pause_s: float = 0.0) -> Callable[[asyncio.StreamWriter], Any]:
    """These bytes, then for ever the same."""

    async def answer(writer: asyncio.StreamWriter) -> None:
        for piece in pieces:
            writer.write(piece)
        await writer.drain()
        while again and not writer.is_closing():
            writer.write(again)
            await writer.drain()
            await asyncio.sleep(pause_s)

    return answer


BAD: dict[str, Callable[[asyncio.StreamWriter], Any]] = {
    "a body without end": saying(OK + b"\r\n", again=b"x" * 65_536),
    "a byte at a time, for ever": saying(OK + b"\r\n", again=b" ", pause_s=0.05),
    "headers without end": saying(OK, again=b"X-More: " + b"z" * 4_000 + b"\r\n"),
    "one header without end": saying(OK + b"X-More: ", again=b"z" * 65_536),
    "nothing": saying(),
    "silence": saying(again=b"", pause_s=0.0),
    "a bomb that was not asked for": saying(OK + b"Content-Encoding: gzip\r\n\r\n" + gzip.compress(bytes(50 << 20))),
    "brackets": saying(OK + b"\r\n" + b"[" * 200_000),
    "a number of many digits": saying(OK + b"\r\n" + b"9" * 5_000),
    "no protocol": saying(b"\x00\xff" * 100),
    "a failed status": saying(b"HTTP/1.1 500 X\r\nConnection: close\r\n\r\n"),
}
MORE_ALLOWED = 60 << 20


@pytest.mark.parametrize("case", BAD)
async def test_an_answer_is_bounded_in_bytes_and_in_time(case: str) -> None:
    """Each ends in a clause, soon, and takes no memory."""
    before = psutil.Process().memory_info().rss
    async with serving(BAD[case]) as (url, _):
        with pytest.raises(NoAnswerError) as caught:
            await ask_json(url, limit_s=2.0)
        assert str(caught.value)
        with httpx.Client(timeout=2.0, trust_env=False) as http, pytest.raises(NoAnswerError):
            found = await asyncio.to_thread(ask_now, http, url, limit_s=2.0)
            raise NoAnswerError(f"taken as text, which a list of metrics may be: {found[:20]}")
    assert psutil.Process().memory_info().rss - before < MORE_ALLOWED


async def test_no_redirect_is_followed_and_no_key_goes_to_another_server() -> None:
    """Neither where facts are asked nor where requests are measured."""
    async with serving(saying(OK + b"\r\n{}")) as (other, heads):
        to = f"HTTP/1.1 307 X\r\nLocation: {other}/v1/models\r\nContent-Length: 0\r\nConnection: close\r\n\r\n".encode()
        async with serving(saying(to)) as (url, asked):
            assert await told_models(url, KEY, None) == ("", False)
            with pytest.raises(NoAnswerError, match="307"):
                await ask(url, key=KEY, limit_s=5.0)
            (t,), _ = await drive_all(Setup(url, "m"), scripted(1, 4))
            assert t.fault == "http-307" and not t.usable
        assert len(asked) == 3 and KEY.encode() in asked[0] and not heads


async def test_a_packed_stream_is_a_fault() -> None:
    """Nobody asked for it: what it would grow to is never known."""
    body = gzip.compress(b'data: {"choices":[{"delta":{"content":"bada"}}]}\n\ndata: [DONE]\n\n')
    head = b"HTTP/1.1 200 X\r\nContent-Type: text/event-stream\r\nContent-Encoding: gzip\r\nConnection: close\r\n\r\n"
    async with serving(saying(head + body)) as (url, _):
        (t,), _ = await drive_all(Setup(url, "m"), scripted(1, 4))
    assert t.fault in {"unreadable", "no-end", "broken"} and not t.usable
