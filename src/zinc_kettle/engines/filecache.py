"""How much of a file the system holds in memory, by mincore(2); a model so held loads many times faster."""

from __future__ import annotations

import ctypes
import mmap
import sys
from pathlib import Path

import numpy as np


def cached_share(path: Path) -> float | None:
    """Share of the file's pages in memory, in [0, 1]; None where the system does not tell."""
    if sys.platform != "linux" or path.stat().st_size == 0:
        return None
    libc = ctypes.CDLL(None, use_errno=True)
    # Private and writable only so that ctypes may take its address; nothing is read or written.
    access = {"flags": mmap.MAP_PRIVATE, "prot": mmap.PROT_READ | mmap.PROT_WRITE}
    with path.open("rb") as file, mmap.mmap(file.fileno(), 0, **access) as mapped:
        pages = (len(mapped) + mmap.PAGESIZE - 1) // mmap.PAGESIZE
        seen = (ctypes.c_ubyte * pages)()
        view = ctypes.c_char.from_buffer(mapped)
        try:
            address = ctypes.c_void_p(ctypes.addressof(view))
            failed = libc.mincore(address, ctypes.c_size_t(len(mapped)), ctypes.byref(seen))
        finally:
            del view
        return None if failed else float((np.frombuffer(memoryview(seen).cast("B"), dtype=np.uint8) & 1).mean())
