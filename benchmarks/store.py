"""A store of a million requests: opened, and all its measures recomputed.

    python benchmarks/store.py [REQUESTS]

Made-up timelines of 64 tokens each, in repeats of 1,000, packed as the tool packs them. Figures: time until the shelf
lists it, and time until every measure of every repeat is computed anew, the best of three
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
import sqlalchemy as sa

from zinc_kettle.core.measures import repeat_figures
from zinc_kettle.core.plan import Endpoint, Repeats, Study
from zinc_kettle.store import schema as s
from zinc_kettle.store.blocks import encode_block
from zinc_kettle.store.reading import load, shelf
from zinc_kettle.store.sqlite import BLOCK_REQUESTS, SqliteStore
from zinc_kettle.wire.messages import Finished, Timings

TOKENS, PER_REPEAT, ROUNDS = 64, 1_000, 3
OUT = Path(__file__).parent / "out" / "store.json"


def request(rng: np.random.Generator, number: int) -> Finished:
    """A made-up request of about 50 tokens a second."""
    sent = number * 1_000_000
    stamps = sent + 200_000_000 + np.cumsum(rng.integers(15_000_000, 25_000_000, TOKENS))
    return Finished(
        episode="e", id=f"r{number}", role="measured", stream=number % 8, cold=False, sent_ns=sent,
        end_ns=int(stamps[-1]) + 1_000, user_stamps=stamps.astype("<i8").tobytes(),
        chunk_tokens=np.ones(TOKENS, dtype="<i4").tobytes(), asked_tokens=TOKENS, complete=True,
        kernel_stamps=(stamps - 20_000).astype("<i8").tobytes(), prompt_tokens=128, output_tokens=TOKENS,
        timings=Timings(0, 128, 190.0, TOKENS, 1_260.0), characters=320,
    )  # fmt: skip


def fill(path: Path, requests: int) -> None:
    """A store with one measured study."""
    store = SqliteStore(path)
    repeats = requests // PER_REPEAT
    plan = Study("million", "How long does it take?", {"concurrency": (8,)}, endpoint=Endpoint("http://127.0.0.1:9"),
                 repeats=Repeats(count=repeats, requests=PER_REPEAT))  # fmt: skip
    study = store.begin(plan, source="", facts={}, wall_s=1.0)
    rng = np.random.default_rng(1)
    with store.reading() as db:
        for r in range(repeats):
            db.execute(s.repeats.insert().values(id=f"rep{r}", seq=r, study=study, cell=0, block=r, concurrency=8,
                                                 state="measured", episode="{}"))  # fmt: skip
            rows = [(f"rep{r}", request(rng, r * PER_REPEAT + i)) for i in range(PER_REPEAT)]
            for start in range(0, PER_REPEAT, BLOCK_REQUESTS):
                part = rows[start : start + BLOCK_REQUESTS]
                db.execute(s.blocks.insert().values(study=study, requests=len(part), body=encode_block(part)))
        db.execute(s.studies.update().values(state="measured", runner=None))
        db.execute(sa.insert(s.summaries).values(study=study, definitions=1, answer="made up"))
    store.close()


def recompute(store: SqliteStore, study_id: str) -> dict[str, float]:
    """Read a study whole and compute every measure of every repeat."""
    begun, cpu = time.monotonic(), time.process_time()
    record = load(store, study_id)
    read = time.monotonic() - begun
    figures = [repeat_figures(r.repeat) for r in record.repeats]
    return {
        "read_s": round(read, 2), "recompute_s": round(time.monotonic() - begun, 2),
        "recompute_cpu_s": round(time.process_time() - cpu, 2), "figures": len(figures) * len(figures[0]),
    }  # fmt: skip


def main() -> None:
    """Fill, open, recompute."""
    requests = int(sys.argv[1]) if len(sys.argv) > 1 else 1_000_000
    with tempfile.TemporaryDirectory(prefix="zinc-kettle-store-") as folder:
        path = Path(folder) / "kettle.db"
        fill(path, requests)
        size = path.stat().st_size
        begun = time.monotonic()
        store = SqliteStore(path)
        (row,) = shelf(store)
        opened = time.monotonic() - begun
        rounds = sorted((recompute(store, row.study_id) for _ in range(ROUNDS)), key=lambda r: float(r["recompute_s"]))
    result: dict[str, Any] = {
        "requests": requests, "tokens_each": TOKENS, "size_bytes": size, "open_s": round(opened, 3),
        **rounds[0], "rounds_s": [r["recompute_s"] for r in rounds],
    }  # fmt: skip
    OUT.parent.mkdir(parents=True, exist_ok=True)
    OUT.write_text(json.dumps(result, indent=1) + "\n")
    print(json.dumps(result))


if __name__ == "__main__":
    main()
