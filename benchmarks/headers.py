"""The header of a large model file: our reader against the standard package's, in one run.

    python benchmarks/headers.py

Both read a sparse file of 60 GB whose vocabulary and merges have 128,000 entries each; processor time and memory of a
fresh process each, five times in turn. Writes benchmarks/out/headers.json.
"""

from __future__ import annotations

import json
import statistics
import subprocess
import sys
import tempfile
from pathlib import Path

from tests.gguf_bytes import write_huge

ROUNDS = 5
OUT = Path(__file__).parent / "out" / "headers.json"
START = """
import json, sys, time
from pathlib import Path
{imports}
start, cpu = time.monotonic(), time.process_time()
{read}
took, spent = time.monotonic() - start, time.process_time() - cpu
peak = int(Path("/proc/self/status").read_text().split("VmHWM:")[1].split()[0]) * 1024
print(json.dumps([took, spent, peak]))
"""
READERS = {
    "ours": ("from zinc_kettle.formats.gguf_model import read_gguf", "read_gguf(Path(sys.argv[1]))"),
    "package": ("import gguf", "gguf.GGUFReader(sys.argv[1])"),
}


def main() -> None:
    """Measure and print."""
    seen: dict[str, list[list[float]]] = {name: [] for name in READERS}
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "huge.gguf"
        head = write_huge(path, size=60_000_000_000, tokens=128_000, merges=128_000)
        for _ in range(ROUNDS):
            for name, (imports, read) in READERS.items():
                code = START.format(imports=imports, read=read)
                done = subprocess.run(
                    [sys.executable, "-c", code, str(path)], capture_output=True, check=True, timeout=300
                )
                seen[name].append(json.loads(done.stdout))
    OUT.parent.mkdir(exist_ok=True)
    OUT.write_text(json.dumps(seen))
    print(f"header of {head / 1e6:.1f} MB in a file of 60 GB, {ROUNDS} rounds in turn")
    for name, rounds in seen.items():
        took, spent, peak = (statistics.median(column) for column in zip(*rounds, strict=True))
        print(f"{name}: {took:.3f} s, {spent:.3f} s of processor time, {peak / 1e6:.0f} MB at most in the process")
    ratios = [b[1] / a[1] for a, b in zip(seen["ours"], seen["package"], strict=True)]
    print(
        f"processor time, package over ours: {statistics.median(ratios):.1f} ({min(ratios):.1f} to {max(ratios):.1f})"
    )


if __name__ == "__main__":
    sys.path.insert(0, str(Path(__file__).parent.parent))
    main()
