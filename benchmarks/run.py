"""`make bench`: the cost of a token to our driver, against a common HTTP client, interleaved in one run.

Both read the same streams of the paced server: 16 at once, 200 tokens each at 100 tokens/s. Ratios of processor time
per token within one run can be believed on a shared machine; the absolute numbers beside them cannot.
Writes benchmarks/out/cost.json.
"""

from __future__ import annotations

import asyncio
import json
import statistics
import subprocess
import sys
import time
from pathlib import Path

import httpx

from zinc_kettle.link.process import DriverProcess
from zinc_kettle.wire.messages import ChatMessage, Episode, RequestOrder, Setup

STREAMS, TOKENS, ROUNDS = 16, 200, 5
SCRIPT = {"first_ms": 20.0, "gap_ms": 10.0}
OUT = Path(__file__).parent / "out" / "cost.json"


async def ours(url: str) -> float:
    """Microseconds of processor time per token of the driver."""
    driver = await DriverProcess.spawn()
    try:
        await driver.aim(Setup(url, "m"))
        message = [ChatMessage("user", "night log")]
        orders = [RequestOrder(f"r{i}", "measured", message, TOKENS, extra={"paced": SCRIPT}) for i in range(STREAMS)]
        done = await driver.run(Episode("e", STREAMS, orders), on_tick=lambda _t: None, on_timeline=lambda _t: None)
    finally:
        await driver.close()
    return done.cpu_ns / 1e3 / (STREAMS * TOKENS)


async def common(url: str) -> float:
    """The same with a common client as a person would write it: read lines, parse JSON, note the time."""
    stamps: list[int] = []

    async def one(http: httpx.AsyncClient) -> None:
        body = {
            "messages": [{"role": "user", "content": "night log"}],
            "max_tokens": TOKENS,
            "stream": True,
            "paced": SCRIPT,
        }
        async with http.stream("POST", f"{url}/v1/chat/completions", json=body) as answer:
            async for line in answer.aiter_lines():
                if line.startswith("data: {"):
                    stamps.append(time.monotonic_ns())
                    json.loads(line[6:])

    limits = httpx.Limits(max_connections=None)
    async with httpx.AsyncClient(timeout=60, limits=limits, trust_env=False) as http:
        start = time.process_time_ns()
        await asyncio.gather(*(one(http) for _ in range(STREAMS)))
        return (time.process_time_ns() - start) / 1e3 / (STREAMS * TOKENS)


async def main() -> None:
    command = [sys.executable, "-m", "zinc_kettle.sim.paced"]
    rows = []
    with subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE) as server:
        assert server.stdin is not None and server.stdout is not None
        url = json.loads(server.stdout.readline())["address"]
        for _ in range(ROUNDS):
            rows.append((await ours(url), await common(url)))
        server.stdin.close()
    ratios = [b / a for a, b in rows]
    result = {
        "streams": STREAMS,
        "tokens_per_second": STREAMS * 1000 / SCRIPT["gap_ms"],
        "driver_us_per_token": [round(a, 1) for a, _ in rows],
        "common_us_per_token": [round(b, 1) for _, b in rows],
        "ratio_median": round(statistics.median(ratios), 2),
        "ratio_range": [round(min(ratios), 2), round(max(ratios), 2)],
    }
    OUT.parent.mkdir(parents=True, exist_ok=True)
    OUT.write_text(json.dumps(result, indent=2) + "\n")
    print(json.dumps(result, indent=2))
    print(f"the common client costs {result['ratio_median']} times the processor time per token of our driver")


if __name__ == "__main__":
    asyncio.run(main())
