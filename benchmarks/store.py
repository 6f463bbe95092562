"""A store of a million requests: opened, and all its measures recomputed.

    python benchmarks/store.py [REQUESTS]

Made-up timelines of 64 tokens each, in repeats of 1,000, packed as the tool packs them. Figures: time until the shelf
lists it, and time until every measure of every repeat is computed again, the best of three
rounds. Writes benchmarks/out/store.json.
"""

from __future__ import annotations

import json
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

import numpy as np

from zinc_kettle.core.measures import repeat_figures
from zinc_kettle.core.plan.recipe import Endpoint
from zinc_kettle.core.plan.study import Repeats, Study
from zinc_kettle.core.record.timeline import EngineReport, Timeline
from zinc_kettle.store import schema as s
from zinc_kettle.store.reading import shelf
from zinc_kettle.store.store import BLOCK_REQUESTS, KettleStore, add_block

TOKENS, PER_REPEAT, ROUNDS = 64, 1_000, 3
OUT = Path(__file__).parent / "out" / "store.json"


def request(rng: np.random.Generator, number: int) -> Timeline:
    """A made-up request of about 50 tokens per second."""
    sent = number * 1_000_000
    stamps = sent + 200_000_000 + np.cumsum(rng.integers(15_000_000, 25_000_000, TOKENS))
    return Timeline(
        request_id=f"r{number}",
        role="measured",
        stream=number % 8,
        cold=False,
        sent_ns=sent,
        end_ns=int(stamps[-1]) + 1_000,
        chunk_ns=stamps,
        chunk_tokens=np.ones(TOKENS, dtype=np.int32),
        asked_tokens=TOKENS,
        complete=True,
        kernel_ns=stamps - 20_000,
        prompt_tokens=128,
        output_tokens=TOKENS,
        engine=EngineReport(0, 128, 190.0, TOKENS, 1_260.0),
        characters=320,
    )


def fill(path: Path, requests: int) -> None:
    """A store with one measured study."""
    store = KettleStore(path)
    repeats = requests // PER_REPEAT
    plan = Study(
        "million",
        "How long does it take?",
        {"concurrency": (8,)},
        endpoint=Endpoint("http://127.0.0.1:9"),
        repeats=Repeats(count=repeats, requests=PER_REPEAT),
    )
    run = store.begin(plan, source="", facts={}, wall_s=1.0)
    cell = plan.cells[0]
    rng = np.random.default_rng(1)
    with store.writing() as db:
        for r in range(repeats):
            db.execute(
                s.repeats.insert().values(
                    id=f"rep{r}",
                    seq=r,
                    run=run,
                    cell=cell.key,
                    levels="{}",
                    block=r,
                    concurrency=8,
                    state="measured",
                    episode="{}",
                )
            )
            rows = [(f"rep{r}", request(rng, r * PER_REPEAT + i)) for i in range(PER_REPEAT)]
            for start in range(0, PER_REPEAT, BLOCK_REQUESTS):
                add_block(db, run, rows[start : start + BLOCK_REQUESTS])
    store.set_state(run, "measured")
    store.keep_answer(run, "made up", by="1.2")
    store.close()


def recompute(store: KettleStore, run: str) -> dict[str, float]:
    """Read a run whole and compute every measure of every repeat."""
    begun, cpu = time.monotonic(), time.process_time()
    repeats = [r for mine in store.all_repeats(run).values() for r in mine]
    read = time.monotonic() - begun
    figures = [repeat_figures(r.repeat) for r in repeats]
    return {
        "read_s": round(read, 2),
        "recompute_s": round(time.monotonic() - begun, 2),
        "recompute_cpu_s": round(time.process_time() - cpu, 2),
        "figures": len(figures) * len(figures[0]),
    }


def main() -> None:
    """Fill, open, recompute."""
    requests = int(sys.argv[1]) if len(sys.argv) > 1 else 1_000_000
    with tempfile.TemporaryDirectory(prefix="zinc-kettle-store-") as folder:
        path = Path(folder) / "kettle.db"
        fill(path, requests)
        size = path.stat().st_size
        begun = time.monotonic()
        store = KettleStore(path)
        (row,) = shelf(store)
        opened = time.monotonic() - begun
        rounds = sorted(
            (recompute(store, row.runs[0].run_id) for _ in range(ROUNDS)), key=lambda r: float(r["recompute_s"])
        )
    result: dict[str, Any] = {
        "requests": requests,
        "tokens_each": TOKENS,
        "size_bytes": size,
        "open_s": round(opened, 3),
        **rounds[0],
        "rounds_s": [r["recompute_s"] for r in rounds],
    }
    OUT.parent.mkdir(parents=True, exist_ok=True)
    OUT.write_text(json.dumps(result, indent=1) + "\n")
    print(json.dumps(result))


if __name__ == "__main__":
    main()
