"""Where the driver's processor time goes, by token: reading, the kernel's stamp, parsing, and the loop around them.

    python benchmarks/profile.py [RATE] [spread|burst]
    python benchmarks/profile.py split [RATE] [spread|burst]
    python benchmarks/profile.py late [RATE]

One window of 256 streams against the C server, the driver in this process with a clock around each part. Clocks cost
time themselves (about 0.3 µs a part), so this tells shares, and `make bench-driver` the cost.
"""

from __future__ import annotations

import asyncio
import json
import sys
import time
from typing import Any

import numpy as np
import uvloop

from benchmarks.driver import Bench, drive, timelines_of
from benchmarks.ground import Load, build, server, stolen, truth
from zinc_kettle.driver import connection
from zinc_kettle.driver.closed import ClosedLoop
from zinc_kettle.driver.reply import Reply
from zinc_kettle.driver.target import Target
from zinc_kettle.wire.messages import ChatMessage, Episode, EpisodeDone, FromDriver, RequestOrder, Setup, encode

SPENT = {"read": 0, "stamp": 0, "parse": 0}
STREAMS = 256
WINDOWS_S, ROUNDS = (0.5, 1.0, 2.0, 3.0), 3
LATE_WINDOW_S = 2.0


def clocked(name: str, function: Any) -> Any:
    """The same with its time added up."""

    def run(*given: Any) -> Any:
        begun = time.monotonic_ns()
        try:
            return function(*given)
        finally:
            SPENT[name] += time.monotonic_ns() - begun

    return run


def instrument() -> None:
    """Clocks around the three parts."""
    connection.__dict__["_kernel_stamp"] = clocked("stamp", connection._kernel_stamp)
    Reply.quick = clocked("parse", Reply.quick)  # type: ignore[method-assign]
    Reply.feed = clocked("parse", Reply.feed)  # type: ignore[method-assign]
    begin = connection.SocketConnection.__init__

    def with_clock(self: connection.SocketConnection, *given: Any) -> None:
        begin(self, *given)
        self._receive = clocked("read", self._receive)

    connection.SocketConnection.__init__ = with_clock  # type: ignore[method-assign,assignment]


async def one(port: int, load: Load) -> EpisodeDone:
    """A window."""
    done: list[EpisodeDone] = []

    def say(*messages: FromDriver) -> None:
        for message in messages:
            encode(message)
            if isinstance(message, EpisodeDone):
                done.append(message)

    message = [ChatMessage("user", "tide")]
    orders = [
        RequestOrder(str(i), "measured", message, load.tokens, extra={"stream_no": i}) for i in range(load.streams)
    ]
    target = Target.of(Setup(f"http://127.0.0.1:{port}", "m"))
    await ClosedLoop(target, Episode("e", load.streams, orders), say).run()
    return done[0]


def split(rate: int, pattern: str) -> None:
    """What a request costs once and what each of its tokens costs, ours and the C client's: a line through windows."""
    bench = Bench(build(), quick=True)
    rows: dict[str, list[tuple[int, float]]] = {"driver": [], "floor": []}
    for _ in range(ROUNDS):
        for seconds in WINDOWS_S:
            load = Load(STREAMS, rate, pattern, seconds)
            with server(bench.folder, load) as port:
                ours = asyncio.run(drive(port, load))["driver", "kernel"]
                for name, seen in (("driver", ours), ("floor", bench.floor(port, load))):
                    rows[name].append((load.tokens, seen.cpu_ns / 1e3 / STREAMS))
    for name, points in rows.items():
        # The least of each length: what others took of the machine only ever adds.
        least = {n: min(cost for m, cost in points if m == n) for n, _ in points}
        slope, once = np.polyfit(list(least), list(least.values()), 1)
        print(json.dumps({"client": name, "us_a_request": round(float(once), 1), "us_a_token": round(float(slope), 2)}))


async def late(rate: int) -> None:
    """Own stamps: where in a window the late tokens are. A stream's last tokens come with its end, and others' ends."""
    load = Load(STREAMS, rate, "spread", LATE_WINDOW_S)
    with server(build(), load) as port:
        for _ in range(ROUNDS):
            before = stolen()
            seen, _ = await timelines_of(port, load, kernel=False)
            after, sent = stolen(), truth(port)[1]
            errors = [(t.stamps - s[: len(t.stamps)]) / 1e6 for t, s in zip(seen, sent, strict=True)]
            lasts = np.array([e[-1] for e in errors])
            others = np.concatenate([e[:-1] for e in errors])
            everything = np.concatenate(errors)
            print(
                json.dumps(
                    {
                        "p99_ms": round(float(np.quantile(everything, 0.99)), 3),
                        "p99_ms_but_last_tokens": round(float(np.quantile(others, 0.99)), 3),
                        "p50_ms_last_tokens": round(float(np.median(lasts)), 3),
                        "stolen_share": round((after[0] - before[0]) / max(1, after[1] - before[1]), 3),
                    }
                )
            )


def main() -> None:
    """Measure and print microseconds a token."""
    if sys.argv[1:2] == ["late"]:
        asyncio.run(late(int(sys.argv[2]) if len(sys.argv) > 2 else 5_000))
        return
    if sys.argv[1:2] == ["split"]:
        split(int(sys.argv[2]) if len(sys.argv) > 2 else 5_000, sys.argv[3] if len(sys.argv) > 3 else "spread")
        return
    rate = int(sys.argv[1]) if len(sys.argv) > 1 else 20_000
    load = Load(STREAMS, rate, sys.argv[2] if len(sys.argv) > 2 else "spread", 3.0)
    instrument()
    with server(build(), load) as port:
        done = uvloop.run(one(port, load))
    tokens = load.streams * load.tokens
    parts = {name: round(ns / 1e3 / tokens, 2) for name, ns in SPENT.items()}
    whole = done.cpu_ns / 1e3 / tokens
    parts["rest: loop, requests, clocks"] = round(whole - sum(parts.values()), 2)
    print(json.dumps({"us_per_token": round(whole, 2), **parts}))


if __name__ == "__main__":
    main()
