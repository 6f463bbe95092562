"""Holds two runs of one study against each other: does each ratio's interval contain 1?

    python benchmarks/repeatability.py A.db B.db

A and B are stores with the same study, measured twice. For each cell and measure, the ratio of the two runs is a
Welch's of the logarithms (three repeats or more; else the range that was seen). Also held: at one stream the
engine's own decode and ours within 3%, and prefill within 3% where it lasts over 150 ms.
"""

from __future__ import annotations

import sys
from pathlib import Path

from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.record.value import Value
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.core.stats.ratios import unpaired_ratio
from zinc_kettle.store.reading import open_run, shelf
from zinc_kettle.store.store import KettleStore

SKIPPED = {"spread", "prompt_tokens", "output_tokens", "prefill_slope"}
"""No ratio: a spread is not a quantity of the engine, lengths are set, and the slope is not of one cell."""


def newest(path: str) -> StudyResults:
    """The newest run of a store."""
    store = KettleStore(Path(path))
    return open_run(store, shelf(store)[0].runs[0].run_id)


def pairs(a: StudyResults, b: StudyResults) -> list[tuple[str, str, float, float, float]]:
    """Cell, measure, ratio and its bounds."""
    out = []
    for one, other in zip(a.cells, b.cells, strict=True):
        for name in MEASURES:
            first, second = one.series(name), other.series(name)
            if name in SKIPPED or not first or not second or min(*first, *second) <= 0:
                continue
            r = unpaired_ratio(first, second)
            out.append((one.title, name, r.value, r.low, r.high))
    return out


def clocks(cell: CellResults, ours: str, theirs: str) -> float | None:
    """Our figure over the engine's, less one; None where prefill is too short to say."""
    a, b = cell.value(ours), cell.value(theirs)
    if not isinstance(a, Value) or not isinstance(b, Value):
        return None
    tiny = any(c.code == "tiny-prompt" for c in cell.cautions)
    return None if ours == "prefill_client" and tiny else a.value / b.value - 1


def main() -> None:
    a, b = newest(sys.argv[1]), newest(sys.argv[2])
    rows = pairs(a, b)
    inside = [row for row in rows if row[3] <= 1 <= row[4]]
    print(f"{len(inside)} of {len(rows)} cell × measure ratios contain 1: {len(inside) / len(rows):.0%}")
    for title, name, value, low, high in rows:
        if not low <= 1 <= high:
            print(f"  apart: {title}: {name} {value:.3f} ({low:.3f} to {high:.3f})")
    for run in (a, b):
        for cell in run.cells:
            decode = clocks(cell, "decode", "decode_engine")
            prefill = clocks(cell, "prefill_client", "prefill_engine")
            offset = cell.value("ttft_offset")
            shown = f"{offset.value * 1e3:.2f} ms" if isinstance(offset, Value) else "–"
            codes = ", ".join(c.code for c in cell.cautions)
            told = [f"{name} {x:+.2%}" for name, x in (("decode", decode), ("prefill", prefill)) if x is not None]
            print(f"  {cell.title}: ours against the engine's: {', '.join(told)}; TTFT beyond prefill {shown}; {codes}")


if __name__ == "__main__":
    main()
