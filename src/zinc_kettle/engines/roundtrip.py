"""How long a tiny request takes to an engine and back: what of TTFT belongs to the network and to HTTP."""

from __future__ import annotations

import asyncio
import contextlib
import time
from urllib.parse import urlsplit

TRIES = 5
LIMIT_S = 5.0


async def round_trip_s(base_url: str) -> float | None:
    """The shortest of a few requests for the engine's health, each timed on an open connection.

    Returns:
        Seconds from writing the request to the first byte of any answer; None over TLS, whose cost is another, and
        where nothing answers.
    """
    parts = urlsplit(base_url)
    if parts.scheme != "http" or parts.hostname is None:
        return None
    times = []
    for _ in range(TRIES):
        with contextlib.suppress(OSError, TimeoutError):
            async with asyncio.timeout(LIMIT_S):
                times.append(await _once(parts.hostname, parts.port or 80, parts.netloc.rpartition("@")[2]))
    known = [t for t in times if t is not None]
    return min(known) if known else None


async def _once(host: str, port: int, named: str) -> float | None:
    reader, writer = await asyncio.open_connection(host, port)
    try:
        start = time.monotonic()
        writer.write(f"GET /health HTTP/1.1\r\nHost: {named}\r\nConnection: close\r\n\r\n".encode())
        first = await reader.read(1)
        return time.monotonic() - start if first else None
    finally:
        writer.close()
