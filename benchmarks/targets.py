"""`make bench`: every target of the design in one table, from what the benches of this run wrote.

    python benchmarks/targets.py

Runs the store's and the screen's bench, takes the driver's and the headers' results as they are, prints the table, and
writes docs/targets.md. A miss is a line of the table, not an error: docs/driver.md explains those there are.
"""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path
from typing import Any

from benchmarks.driver_targets import target

OUT = Path(__file__).parent / "out"
DOCS = Path(__file__).parent.parent / "docs"
BENCHES = ("store.py", "screen.py", "headers.py", "large.py", "planning.py")


def read(name: str) -> Any:
    """What a bench wrote."""
    return json.loads((OUT / f"{name}.json").read_text())


def lines() -> list[dict[str, Any]]:
    """All targets with their figures."""
    store, screen, headers, large = read("store"), read("screen"), read("headers"), read("large")
    planning = read("planning")
    scale = 1_000_000 / store["requests"]
    cores, ends = sorted(screen["observer_cores"]), large["repeat_end_ms"]
    size = f"{large['cells']:,} cells, {large['repeats']:,} repeats"
    return [
        *read("driver")["targets"],
        target("first paint over an empty application's", screen["paint_ratio"], "times", 1.4),
        target("idle screen", screen["idle_cores"], "cores", 0.01),
        target("a key answered while a study runs, median", screen["key_p50_ms"], "ms", 50),
        target("plan of 10,000 cells beyond the start", screen["plan_10000_s"] - screen["start_s"], "s", 1.0),
        target("a key in a plan of 10,000 cells, beyond one of four", planning["key_beyond_small_ms"], "ms", 50),
        target("a change of that plan, on the event loop", planning["change_blocks_ms"], "ms", 50),
        target(f"store of {store['requests']:,} requests listed", store["open_s"], "s", 1.0),
        target(f"a study of {size}, opened", large["open_s"], "s", 1.0),
        target("a repeat of it that ends, on the event loop, median", ends[len(ends) // 2], "ms", 20),
        target("its map, drawn while scrolling", large["draws_per_s"], "times/s", 10, at_least=True),
        target("all measures of 1,000,000 requests computed again", store["recompute_s"] * scale, "s", 30.0),
        target("header of a 60 GB model file", sorted(r[0] for r in headers["ours"])[2], "s", 0.3),
        target("driver and sampler at 8 streams, local engine", cores[len(cores) // 2], "cores", 0.08),
    ]


def main() -> None:
    """Run what is missing, then tell."""
    if "--table" not in sys.argv:
        for bench in BENCHES:
            subprocess.run([sys.executable, str(Path(__file__).with_name(bench))], check=True)
    out = ["| target | measured | needed | |", "|---|---|---|---|"]
    for t in lines():
        sign, word = "≥" if t["at_least"] else "≤", "met" if t["met"] else "missed"
        out.append(f"| {t['target']} | {t['value']:,g} {t['unit']} | {sign} {t['bound']:,g} | {word} |")
    text = "\n".join(out)
    (DOCS / "targets.md").write_text(HEAD + text + "\n")
    print(text)


HEAD = """# Targets, and the last result of `make bench`

On a shared virtual machine of two cores whose processor time is stolen at times. What was missed is explained, with a
profile, in [driver.md](driver.md).

"""

if __name__ == "__main__":
    main()
