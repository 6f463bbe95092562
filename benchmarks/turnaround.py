"""How long a stream is idle between the end of one answer and the start of the next request, by an independent server.

    PYTHONPATH=. python benchmarks/turnaround.py [STREAMS …]

All streams run in lockstep, which is the worst case: all answers end at the same instant. The C server stamps its last
token of an answer and the receipt of the request that comes next on the same stream.
"""

from __future__ import annotations

import asyncio
import itertools
import sys
from collections import defaultdict
from pathlib import Path

import numpy as np

from benchmarks.ground import Load, build, server, stolen, truth
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.link.process import DriverProcess
from zinc_kettle.wire.messages import ChatMessage, Episode, RequestOrder, Setup

TOKENS, GAP_MS, ROUNDS, WINDOWS = 64, 20, 4, 5
BOUNDS_MS = {16: 0.3, 256: 2.0}


async def window(folder: Path, streams: int) -> tuple[float, float]:
    """One window: the median turnaround in milliseconds, and the share of processor time that was stolen meanwhile."""
    load = Load(streams, streams * 1_000 // GAP_MS, "burst", TOKENS * GAP_MS / 1e3)
    total = streams * ROUNDS
    before = stolen()
    with server(folder, load, total=total, spins=True) as port:
        driver = await DriverProcess.spawn()
        seen: list[Timeline] = []
        orders = [
            RequestOrder(str(i), "measured", [ChatMessage("user", "tide")], load.tokens, extra={"stream_no": i})
            for i in range(total)
        ]
        try:
            await driver.aim(Setup(f"http://127.0.0.1:{port}", "m"))
            await driver.run(Episode("e", streams, orders), on_tick=lambda _t: None, on_timeline=seen.append)
        finally:
            await driver.close()
        got, sent = truth(port)
    after = stolen()
    if any(t.error for t in seen):
        raise SystemExit(f"a request failed: {next(t.error for t in seen if t.error)}")
    by_stream: dict[int, list[int]] = defaultdict(list)
    for t in sorted(seen, key=lambda t: t.sent_ns):
        by_stream[t.stream].append(int(t.request_id))
    waits = [got[b] - int(sent[a][-1]) for row in by_stream.values() for a, b in itertools.pairwise(row)]
    return float(np.median(waits)) / 1e6, (after[0] - before[0]) / max(1, after[1] - before[1])


def turnarounds(folder: Path, streams: int) -> list[tuple[float, float]]:
    """Several windows, the quietest first."""
    return sorted((asyncio.run(window(folder, streams)) for _ in range(WINDOWS)), key=lambda pair: pair[1])


def main() -> None:
    """Print a line for each number of streams."""
    folder = build()
    for streams in map(int, sys.argv[1:] or ("16", "256")):
        rows = turnarounds(folder, streams)
        told = ", ".join(f"{ms:.2f} ({share:.0%} stolen)" for ms, share in rows)
        print(f"{streams:4} streams: median turnaround in ms by window: {told}")


if __name__ == "__main__":
    main()
