"""Memory bandwidth and arithmetic rate of the machine this runs on, as one JSON line. Sent to other machines as text.

Reading is timed with the C library's memchr over a buffer much larger than the caches: it reads every byte, uses the
processor's widest loads, and lets go of the interpreter, so that plain threads read in parallel. The arithmetic rate is
a matrix product (GEMM) of single precision through numpy where it is installed, and said to be missing elsewhere.
"""

from __future__ import annotations

import ctypes
import json
import os
import sys
import threading
import time
from typing import Any

READ_BYTES = 192 << 20
"""One thread's buffer is never smaller than this over the number of threads, so that caches cannot hold it."""
MIN_BUFFER = 48 << 20
ROUNDS = 5
"""Windows of each thread count; the best is the capability, their range the spread."""
WINDOW_S = 0.25
LIMIT_S = 14.0
QUICK_WINDOW_S, QUICK_ROUNDS = 0.15, 2
"""Of a probe that nobody asked for: under three seconds in all."""
SIZE = 768
"""Matrices of the arithmetic probe: 0.9 G operations a product, 10 to 50 ms a core."""


def thread_counts(cores: int) -> list[int]:
    """1, 2, 4 and so on, and all; each takes about a second."""
    out = []
    count = 1
    while count < cores:
        out.append(count)
        count *= 2
    return out + [cores]


def _library() -> Any:
    name = "msvcrt" if sys.platform == "win32" else None
    library = ctypes.CDLL(name)
    library.memchr.restype = ctypes.c_void_p
    library.memchr.argtypes = [ctypes.c_void_p, ctypes.c_int, ctypes.c_size_t]
    return library


class Reader:
    """Reads its own buffer until told to stop."""

    def __init__(self, library: Any, size: int) -> None:
        self._memchr = library.memchr
        self._buffer = ctypes.create_string_buffer(size)
        ctypes.memset(self._buffer, 1, size)
        self._size = size
        self.passes = 0

    def run(self, until: float) -> None:
        """Whole passes until a moment on the monotonic clock."""
        address = ctypes.addressof(self._buffer)
        self.passes = 0
        while True:
            self._memchr(address, 2, self._size)
            self.passes += 1
            if time.monotonic() >= until:
                return

    @property
    def size(self) -> int:
        """Bytes of one pass."""
        return self._size


def bandwidth(
    threads: int, window_s: float = WINDOW_S, rounds: int = ROUNDS, deadline: float | None = None
) -> list[float]:
    """Bytes per second read by `threads` threads, one value a window.

    Args:
        threads: Threads that read at once.
        window_s: Length of a window.
        rounds: Windows.
        deadline: Monotonic seconds at which to give up; None for never.
    """
    library = _library()
    readers = [Reader(library, max(MIN_BUFFER, READ_BYTES // threads)) for _ in range(threads)]
    out: list[float] = []
    for _ in range(rounds):
        start = time.monotonic()
        if deadline is not None and start + window_s > deadline and out:
            break
        running = [threading.Thread(target=r.run, args=(start + window_s,)) for r in readers]
        for thread in running:
            thread.start()
        for thread in running:
            thread.join()
        took = time.monotonic() - start
        out.append(sum(r.passes * r.size for r in readers) / took)
    return out


def gemm(threads: int, window_s: float = WINDOW_S, rounds: int = ROUNDS) -> list[float] | str:
    """Operations per second of a matrix product at single precision; a sentence where it cannot be had."""
    # The library reads these when it is loaded, so each thread count has a process of its own.
    for name in ("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS", "MKL_NUM_THREADS", "VECLIB_MAXIMUM_THREADS"):
        os.environ[name] = str(threads)
    try:
        import numpy
    except ImportError:
        return "numpy is not installed there"
    a = numpy.random.default_rng(1).random((SIZE, SIZE), dtype=numpy.float32)
    a @ a
    out = []
    for _ in range(rounds):
        start, products = time.monotonic(), 0
        while time.monotonic() - start < window_s:
            a @ a
            products += 1
        out.append(products * 2 * SIZE**3 / (time.monotonic() - start))
    return out


def main() -> None:
    """`reading` for all thread counts, `gemm N`, or `quick N`: both, of one thread and of all, as fast as may be."""
    arguments = sys.argv[1:]
    if arguments[:1] == ["gemm"]:
        sys.stdout.write(json.dumps({"gemm": gemm(int(arguments[1]))}) + "\n")
        return
    if arguments[:1] == ["quick"]:
        count = int(arguments[1])
        both = {n: bandwidth(n, QUICK_WINDOW_S, QUICK_ROUNDS) for n in sorted({1, count})}
        told = {"reading": both, "gemm": gemm(count, QUICK_WINDOW_S, QUICK_ROUNDS)}
        sys.stdout.write(json.dumps(told) + "\n")
        return
    cores = int(arguments[0]) if arguments else os.cpu_count() or 1
    start = time.monotonic()
    deadline = start + LIMIT_S / 2
    reading = {n: bandwidth(n, deadline=deadline) for n in thread_counts(cores)}
    sys.stdout.write(json.dumps({"reading": reading, "took_s": time.monotonic() - start}) + "\n")


if __name__ == "__main__":
    main()
