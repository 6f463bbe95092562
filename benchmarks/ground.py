"""The ground truth for the driver: the C server and the C client, built on the spot, and what a window is."""

from __future__ import annotations

import contextlib
import subprocess
import tempfile
import urllib.request
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import numpy.typing as npt

NATIVE = Path(__file__).parent / "native"
Stamps = list[npt.NDArray[np.int64]]
BUILD_LIMIT_S, START_LIMIT_S = 120, 30


@dataclass(frozen=True)
class Load:
    """One window: how many streams, how fast, in which pattern."""

    streams: int
    rate: int
    """Tokens per second of all streams together."""
    pattern: str
    window_s: float

    @property
    def tokens(self) -> int:
        """Tokens of each stream."""
        return max(2, round(self.window_s * self.rate / self.streams))

    @property
    def period_ns(self) -> int:
        """Between two tokens of one stream."""
        return self.streams * 1_000_000_000 // self.rate


@dataclass(frozen=True)
class Window:
    """What one client saw of one window, against the truth."""

    errors_ns: npt.NDArray[np.int64]
    tokens: int
    expected: int
    lost_share: float
    cpu_ns: int
    stolen_share: float

    def quantiles_ms(self) -> tuple[float, float, float]:
        """Stamp error p50, p99, max."""
        if not len(self.errors_ns):
            return float("nan"), float("nan"), float("nan")
        p50, p99 = np.quantile(self.errors_ns, [0.5, 0.99])
        return float(p50) / 1e6, float(p99) / 1e6, float(self.errors_ns.max()) / 1e6


def build() -> Path:
    """Compile both C programs into a folder of their own; needs a C compiler."""
    folder = Path(tempfile.mkdtemp(prefix="zinc-kettle-native-"))
    for name in ("paced", "floor"):
        command = ["cc", "-O2", "-o", str(folder / name), str(NATIVE / f"{name}.c")]
        subprocess.run(command, check=True, timeout=BUILD_LIMIT_S)
    return folder


@contextlib.contextmanager
def server(
    folder: Path, load: Load, *, open_loop_requests: int = 0, total: int = 0, spins: bool = False
) -> Iterator[int]:
    """A running truth server for one kind of window; gives its port.

    Args:
        folder: Of the compiled programs.
        load: The window.
        open_loop_requests: So many requests, each of which starts at once; 0 for rounds that wait for all streams.
        total: Requests of all rounds together; 0 for one round.
        spins: It does not sleep, and so loses no time in waking.
    """
    streams = 0 if open_loop_requests else load.streams
    total = total or open_loop_requests or load.streams
    command = [
        str(folder / "paced"),
        str(streams),
        str(load.tokens),
        str(load.period_ns),
        load.pattern,
        str(total),
        str(int(spins)),
    ]
    with subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True) as process:
        assert process.stdout is not None and process.stdin is not None
        yield int(process.stdout.readline())
        process.stdin.close()
        process.wait(START_LIMIT_S)


def truth(port: int) -> tuple[list[int], Stamps]:
    """When each request was received, and the stamps of its sends."""
    opener = urllib.request.build_opener(urllib.request.ProxyHandler({}))
    with opener.open(f"http://127.0.0.1:{port}/sent", timeout=START_LIMIT_S) as answer:
        rows = [np.array(line.split(), dtype=np.int64) for line in answer.read().decode().splitlines()]
    return [int(row[0]) for row in rows], [row[1:] for row in rows]


def stolen() -> tuple[int, int]:
    """Ticks stolen by the hypervisor, and all ticks, of the machine so far."""
    fields = [int(v) for v in Path("/proc/stat").read_text().splitlines()[0].split()[1:9]]
    return fields[7], sum(fields)


def window(sent: Stamps, seen: Stamps, cpu_ns: int, before: tuple[int, int]) -> Window:
    """Hold what a client saw against the truth."""
    after = stolen()
    errors = [got[: len(there)] - there[: len(got)] for got, there in zip(seen, sent, strict=True)]
    everything = np.concatenate(errors) if errors else np.array([], dtype=np.int64)
    count = int(sum(len(got) for got in seen))
    expected = int(sum(len(there) for there in sent))
    return Window(
        everything,
        count,
        expected,
        _lost(sent, seen),
        cpu_ns,
        (after[0] - before[0]) / max(1, after[1] - before[1]),
    )


def _lost(sent: Stamps, seen: Stamps) -> float:
    """1 − received rate ÷ sent rate, each its tokens over its span."""
    rates = []
    for rows in (sent, seen):
        flat = np.concatenate(rows)
        if len(flat) < 2:
            return 1.0
        rates.append((len(flat) - 1) / max(1, int(flat.max() - flat.min())))
    return max(0.0, 1.0 - rates[1] / rates[0])
