"""`make bench-driver`: our driver's stamps and cost against the truth, beside a C client and two common ones.

    python benchmarks/driver.py [--quick] [--targets]

Every client reads the same scheduled streams of the C server in benchmarks/native, one after another within each
window, so that the ratios of one run can be believed on a shared machine and the absolutes beside them cannot. Of five
windows (two off the targets) the one with the least p99 counts. Writes benchmarks/out/driver.json and a chart. With
--targets the table of the last run is kept, and only what stands beside it is measured again.
"""

from __future__ import annotations

import asyncio
import json
import subprocess
import sys
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from benchmarks.ground import Load, Window, build, server, stolen, truth, window
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.link.process import DriverProcess
from zinc_kettle.wire.messages import ChatMessage, Episode, EpisodeDone, RequestOrder, Setup

STREAMS, RATES, PATTERNS = (1, 16, 64, 256, 1_024), (1_000, 5_000, 20_000), ("spread", "burst")
COMMON = ("httpx", "aiohttp")
LIMIT_S = 8.0
OUT = Path(__file__).parent / "out" / "driver.json"
TARGET_LOADS = {(256, 20_000), (256, 5_000)}


@dataclass
class Bench:
    """One run."""

    folder: Path
    quick: bool
    rows: list[dict[str, Any]] = field(default_factory=list)
    memory: dict[str, float] = field(default_factory=dict)

    def load(self, streams: int, rate: int, pattern: str) -> Load:
        """A window of a second; longer where each stream would have too few tokens to speak of."""
        least = min(4.0, 8 * streams / rate)
        return Load(streams, rate, pattern, max(0.5 if self.quick else 1.0, least))

    async def all(self) -> None:
        """Every cell of the table."""
        for streams in STREAMS:
            for rate in RATES:
                for pattern in PATTERNS:
                    await self.cell(self.load(streams, rate, pattern))
                    print(_line(self.rows[-5:]), flush=True)

    async def cell(self, load: Load) -> None:
        """All clients in turn, several windows."""
        target = (load.streams, load.rate) in TARGET_LOADS
        windows = 1 if self.quick else (5 if target else 2)
        seen: dict[tuple[str, str], list[Window]] = {}
        with server(self.folder, load) as port:
            for i in range(windows):
                for (client, stamp), got in (await self.round(port, load, common=i == 0 or target)).items():
                    seen.setdefault((client, stamp), []).append(got)
        self.rows += [_row(client, stamp, load, got) for (client, stamp), got in seen.items()]

    async def round(self, port: int, load: Load, *, common: bool) -> dict[tuple[str, str], Window]:
        """One window of each client."""
        out = await drive(port, load, kernel=True)
        out.update(await drive(port, load, kernel=False))
        out["floor", "user"] = self.floor(port, load)
        for name in COMMON if common else ():
            out[name, "user"] = by_hand(name, port, load)
        return out

    def floor(self, port: int, load: Load) -> Window:
        """The C client."""
        before = stolen()
        command = [str(self.folder / "floor"), str(port), str(load.streams), str(load.tokens), str(int(LIMIT_S * 1e3))]
        said = subprocess.run(command, check=True, capture_output=True, text=True, timeout=LIMIT_S + 30).stdout
        cpu, *rows = said.splitlines()
        return window(truth(port)[1], [np.array(r.split(), dtype=np.int64) for r in rows], int(cpu), before)


async def drive(port: int, load: Load, *, kernel: bool = True) -> dict[tuple[str, str], Window]:
    """Our driver, with the stamps of the kernel or with its own."""
    before = stolen()
    timelines, done = await timelines_of(port, load, kernel=kernel)
    bad = [t.error for t in timelines if not t.usable]
    if bad:
        raise SystemExit(f"{len(bad)} of {load.streams} requests failed: {bad[0]}")
    sent = truth(port)[1]
    stamp = "kernel" if all(t.kernel_ns is not None for t in timelines) else "user"
    return {("driver", stamp): window(sent, [t.stamps for t in timelines], done.cpu_ns, before)}


async def timelines_of(port: int, load: Load, *, kernel: bool = True) -> tuple[list[Timeline], EpisodeDone]:
    """One window in a driver of its own: timelines by stream, and the driver's account."""
    driver = await DriverProcess.spawn()
    seen: dict[str, Timeline] = {}
    try:
        await driver.aim(Setup(f"http://127.0.0.1:{port}", "m", kernel_stamps=kernel))
        message = [ChatMessage("user", "night log")]
        orders = [
            RequestOrder(str(i), "measured", message, load.tokens, extra={"stream_no": i}) for i in range(load.streams)
        ]
        episode = Episode("e", load.streams, orders, timeout_s=60.0)
        done = await driver.run(episode, on_tick=lambda _t: None, on_timeline=lambda t: seen.update({t.request_id: t}))
    finally:
        await driver.close()
    return [seen[str(i)] for i in range(load.streams)], done


def by_hand(name: str, port: int, load: Load) -> Window:
    """A common client, in a process of its own."""
    before = stolen()
    command = [
        sys.executable,
        str(Path(__file__).with_name("clients.py")),
        name,
        str(port),
        str(load.streams),
        str(LIMIT_S),
    ]
    said = subprocess.run(command, check=True, capture_output=True, text=True, timeout=LIMIT_S + 60).stdout
    cpu, rows = json.loads(said)
    return window(truth(port)[1], [np.array(r, dtype=np.int64) for r in rows], cpu, before)


def _row(client: str, stamp: str, load: Load, windows: list[Window]) -> dict[str, Any]:
    best = min(windows, key=lambda w: w.quantiles_ms()[1])
    p50, p99, worst = best.quantiles_ms()
    cost = min(w.cpu_ns / max(1, w.tokens) for w in windows) / 1e3
    return {
        "client": client,
        "streams": load.streams,
        "rate": load.rate,
        "pattern": load.pattern,
        "stamp": stamp,
        "p50_ms": round(p50, 4),
        "p99_ms": round(p99, 4),
        "max_ms": round(worst, 4),
        "cpu_us_per_token": round(cost, 2),
        "lost_share": round(min(w.lost_share for w in windows), 4),
        "received": best.tokens,
        "sent": best.expected,
        "stolen_share": round(best.stolen_share, 3),
        "windows": len(windows),
    }


def _line(rows: list[dict[str, Any]]) -> str:
    head = f"{rows[0]['streams']:5} streams {rows[0]['rate']:6} tok/s {rows[0]['pattern']:6}"
    each = [
        f"{r['client']}/{r['stamp']} {r['p50_ms']:.3f}/{r['p99_ms']:.3f} ms {r['cpu_us_per_token']:.1f} us"
        for r in rows
    ]
    return head + " | " + " | ".join(each)


def main() -> None:
    """Measure everything, write it, print it."""
    from benchmarks.driver_report import write
    from benchmarks.driver_targets import measure

    bench = Bench(build(), "--quick" in sys.argv)
    if "--targets" in sys.argv:
        bench.rows = json.loads(OUT.read_text())["rows"]
    else:
        asyncio.run(bench.all())
    targets = asyncio.run(measure(bench))
    OUT.parent.mkdir(parents=True, exist_ok=True)
    OUT.write_text(json.dumps({"rows": bench.rows, "targets": targets}, indent=1) + "\n")
    write(OUT)


if __name__ == "__main__":
    main()
