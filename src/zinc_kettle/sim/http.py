"""As much HTTP as a simulated engine needs: read a request, write a plain answer, or a stream of events."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Awaitable, Callable
from typing import Any

Handler = Callable[[str, bytes, asyncio.StreamWriter], Awaitable[bool]]
"""Given the request line and the body; False when the connection is not to be used again."""
EVENT_STREAM = b"HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\nTransfer-Encoding: chunked\r\n\r\n"


async def connection(reader: asyncio.StreamReader, writer: asyncio.StreamWriter, answer: Handler) -> None:
    """One connection, one request after another."""
    try:
        while True:
            head = await reader.readuntil(b"\r\n\r\n")
            line, _, rest = head.decode("latin-1").partition("\r\n")
            length = next(
                (int(h.split(":")[1]) for h in rest.split("\r\n") if h.lower().startswith("content-length:")), 0
            )
            body = await reader.readexactly(length)
            if not await answer(line, body, writer):
                return
    except (asyncio.IncompleteReadError, ConnectionError, asyncio.CancelledError):
        return
    finally:
        writer.close()


def plain(
    writer: asyncio.StreamWriter, body: bytes, *, status: int = 200, kind: str = "application/json", more: str = ""
) -> None:
    """Write a whole answer; `more` are further header lines.

    Args:
        writer: The connection.
        body: Content.
        status: HTTP status.
        kind: Content type.
        more: Further header lines, each with its line end.
    """
    head = f"HTTP/1.1 {status} X\r\nContent-Type: {kind}\r\n{more}Content-Length: {len(body)}\r\n\r\n"
    writer.write(head.encode() + body)


def chunk(writer: asyncio.StreamWriter, data: bytes) -> None:
    """Write one piece of a chunked answer."""
    writer.write(f"{len(data):x}\r\n".encode() + data + b"\r\n")


def event(writer: asyncio.StreamWriter, value: dict[str, Any]) -> None:
    """Write one server-sent event."""
    chunk(writer, b"data: " + json.dumps(value, ensure_ascii=False).encode() + b"\n\n")
