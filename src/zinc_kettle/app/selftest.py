"""The driver's self-test before a study: a second against our paced server, spread and burst."""

from __future__ import annotations

import asyncio
import contextlib
import itertools
import json
import sys
import time
from collections import defaultdict
from collections.abc import AsyncIterator, Sequence
from pathlib import Path
from typing import Any

import httpx
import numpy as np

from zinc_kettle import __version__
from zinc_kettle.core.drivers import ceiling_tokens_per_s
from zinc_kettle.core.facts import DriverTest, StampErrors
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.errors import DriverError
from zinc_kettle.link.process import DriverProcess
from zinc_kettle.wire.messages import ChatMessage, Episode, RequestOrder, Setup

TOKENS, GAP_MS, FIRST_MS = 25, 20.0, 20.0
ROUNDS = 2
"""Requests of each stream in bursts: how soon the second one follows is told, too."""
MOST_STREAMS = 64
"""The paced server is lean, not fast: beyond about 3,000 tokens/s its own delays would be measured."""
KEPT_S = 3_600.0
"""A result is used again for an hour: the machine is the same, and studies begin often while one is being prepared."""
LIMIT_S = 20.0


async def test_driver(streams: int, kept: Path) -> DriverTest:
    """Stamp errors in ms and processor time per token of the driver at `streams` streams, 64 at most.

    Raises:
        DriverError: The driver or the server did not do their part in time.
    """
    wanted = max(1, min(MOST_STREAMS, streams))
    found = _read(kept, wanted)
    if found is not None:
        return found
    try:
        async with asyncio.timeout(LIMIT_S):
            result = await _measure(wanted)
    except (TimeoutError, OSError, ValueError, httpx.HTTPError) as error:
        raise DriverError("the driver's self-test did not finish", why=str(error)) from error
    with contextlib.suppress(OSError):
        kept.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        others = {name: entry for name, entry in _all(kept).items() if name != str(wanted)}
        kept.write_text(json.dumps({**others, str(wanted): {"at_s": time.time(), "result": result}}))
    return result


def _all(kept: Path) -> dict[str, Any]:
    """What is kept, by number of streams; nothing where it cannot be read."""
    try:
        value = json.loads(kept.read_text())
    except (OSError, ValueError):
        return {}
    return value if isinstance(value, dict) else {}


def _read(kept: Path, streams: int) -> DriverTest | None:
    try:
        entry = _all(kept)[str(streams)]
        fresh = 0 <= time.time() - entry["at_s"] < KEPT_S and entry["result"]["version"] == __version__
        result: DriverTest = entry["result"]
        return result if fresh else None
    except (KeyError, TypeError):
        return None


async def _measure(streams: int) -> DriverTest:
    driver = await DriverProcess.spawn()
    try:
        async with _server() as url:
            await driver.aim(Setup(url, "m"))
            out: DriverTest = {"version": __version__, "streams": streams, "tokens_per_s": streams * 1e3 / GAP_MS}
            costs = []
            for pattern in ("spread", "burst"):
                seen, errors, cost = await _pattern(driver, url, streams, pattern)
                p50, p99 = np.quantile(errors, [0.5, 0.99])
                found: StampErrors = {"p50_ms": _ms(p50), "p99_ms": _ms(p99), "max_ms": _ms(errors.max())}
                if pattern == "spread":
                    out["spread"] = found
                else:
                    out["burst"] = found
                    out["turnaround_ms"] = _turnaround_ms(seen)
                out["stamp"] = seen[0].stamp_source
                costs.append(cost)
            out["cpu_us_per_token"] = round(min(costs), 1)
            out["ceiling_tokens_per_s"] = round(ceiling_tokens_per_s(min(costs)), -2)
            return out
    finally:
        await driver.close()


def _ms(ns: float) -> float:
    return round(float(ns) / 1e6, 4)


async def _pattern(driver: DriverProcess, url: str, streams: int, pattern: str) -> tuple[list[Timeline], Any, float]:
    orders = []
    for i in range(streams * (ROUNDS if pattern == "burst" else 1)):
        phase = 0.0 if pattern == "burst" else GAP_MS * i / streams
        script = {"first_ms": FIRST_MS + phase, "gap_ms": GAP_MS, "aligned": True, "label": f"{pattern}-{i}"}
        orders.append(
            RequestOrder(f"{pattern}-{i}", "measured", [ChatMessage("user", "tide")], TOKENS, extra={"paced": script})
        )
    seen: dict[str, Timeline] = {}
    episode = Episode(pattern, streams, orders, timeout_s=LIMIT_S)
    done = await driver.run(episode, on_tick=lambda _t: None, on_timeline=lambda t: seen.update({t.request_id: t}))
    async with httpx.AsyncClient(trust_env=False, timeout=LIMIT_S) as http:
        sent = {row["label"]: row["sends_ns"] for row in (await http.get(f"{url}/sent")).json()}
    errors = []
    for name, timeline in seen.items():
        if not timeline.usable or len(timeline.stamps) != len(sent[name]):
            raise DriverError("the driver lost tokens in its self-test", why=timeline.error or name)
        errors.append(timeline.stamps - np.array(sent[name], dtype=np.int64))
    return list(seen.values()), np.concatenate(errors), done.cpu_ns / 1e3 / (len(orders) * TOKENS)


def _turnaround_ms(seen: Sequence[Timeline]) -> float:
    """Median time a stream was idle between two requests, all answers ending at once."""
    rows: dict[int, list[Timeline]] = defaultdict(list)
    for timeline in sorted(seen, key=lambda t: t.sent_ns):
        rows[timeline.stream].append(timeline)
    return _ms(np.median([b.sent_ns - a.end_ns for row in rows.values() for a, b in itertools.pairwise(row)]))


@contextlib.asynccontextmanager
async def _server() -> AsyncIterator[str]:
    process = await asyncio.create_subprocess_exec(
        sys.executable, "-m", "zinc_kettle.sim.paced", stdin=asyncio.subprocess.PIPE, stdout=asyncio.subprocess.PIPE
    )
    assert process.stdin is not None and process.stdout is not None
    try:
        yield json.loads(await process.stdout.readline())["address"]
    finally:
        process.stdin.close()
        try:
            await asyncio.wait_for(process.wait(), 2)
        except TimeoutError:
            process.kill()
            await process.wait()
