"""Clients as a person would write them with a common HTTP library: read lines, parse JSON, note the time.

    python benchmarks/clients.py httpx|aiohttp PORT STREAMS LIMIT_S

Prints one JSON line: processor time of the streaming part in ns, and the stamps of each stream.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import resource
import sys
import time

import aiohttp
import httpx


async def with_httpx(url: str, stamps: list[list[int]]) -> None:
    """One client, one task a stream."""

    async def one(http: httpx.AsyncClient, i: int) -> None:
        body = {"messages": [], "stream": True, "stream_no": i}
        async with http.stream("POST", url, json=body) as answer:
            async for line in answer.aiter_lines():
                _take(line, stamps[i])

    limits = httpx.Limits(max_connections=None, max_keepalive_connections=None)
    async with httpx.AsyncClient(timeout=60, limits=limits, trust_env=False) as http:
        await asyncio.gather(*(one(http, i) for i in range(len(stamps))))


async def with_aiohttp(url: str, stamps: list[list[int]]) -> None:
    """One session, one task a stream."""

    async def one(http: aiohttp.ClientSession, i: int) -> None:
        async with http.post(url, json={"messages": [], "stream": True, "stream_no": i}) as answer:
            async for line in answer.content:
                _take(line.decode(), stamps[i])

    async with aiohttp.ClientSession(connector=aiohttp.TCPConnector(limit=0)) as http:
        await asyncio.gather(*(one(http, i) for i in range(len(stamps))))


def _take(line: str, stamps: list[int]) -> None:
    if line.startswith("data: {"):
        now = time.monotonic_ns()
        chunk = json.loads(line[6:])
        if chunk["choices"] and chunk["choices"][0]["delta"].get("content"):
            stamps.append(now)


async def main() -> None:
    """Stream until all have ended, or until the limit."""
    which, port, streams, limit_s = sys.argv[1], sys.argv[2], int(sys.argv[3]), float(sys.argv[4])
    hard = resource.getrlimit(resource.RLIMIT_NOFILE)[1]
    resource.setrlimit(resource.RLIMIT_NOFILE, (min(65_536, hard) if hard > 0 else 65_536, hard))
    stamps: list[list[int]] = [[] for _ in range(streams)]
    client = {"httpx": with_httpx, "aiohttp": with_aiohttp}[which]
    cpu = time.process_time_ns()
    with contextlib.suppress(TimeoutError):
        await asyncio.wait_for(client(f"http://127.0.0.1:{port}/v1/chat/completions", stamps), limit_s)
    print(json.dumps([time.process_time_ns() - cpu, stamps]))


if __name__ == "__main__":
    asyncio.run(main())
