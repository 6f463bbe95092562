"""A study of 10,000 cells, each repeated five times: opened, watched while a repeat ends, scrolled.

    python benchmarks/large.py [CELLS]

Made-up repeats of one request of 32 tokens, kept as a run keeps them. Figures: time until the study is open, processor
time of the event loop that a repeat costs when it ends while the map is shown, and how often a second the map can be
drawn while one scrolls. In a real Textual application without a terminal. Writes benchmarks/out/large.json.
"""

from __future__ import annotations

import asyncio
import json
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

import numpy as np

from zinc_kettle.app.services import Services
from zinc_kettle.config import Places
from zinc_kettle.core.plan.recipe import Endpoint
from zinc_kettle.core.plan.study import Prompts, Repeats, Study
from zinc_kettle.core.record.repeat import Repeat
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.core.results import KeptRepeat, StudyResults, cell_kept
from zinc_kettle.core.summary import CellSummary
from zinc_kettle.session import progress as p
from zinc_kettle.store import schema as s
from zinc_kettle.store.reading import open_run
from zinc_kettle.store.store import BLOCK_REQUESTS, KettleStore, add_block
from zinc_kettle.store.summaries import encode_summary
from zinc_kettle.tui.app import KettleApp
from zinc_kettle.tui.run_state import RunState

REPEATS, TOKENS = 5, 32
OUT = Path(__file__).parent / "out" / "large.json"
SIDE_ROUNDS, SCROLLS, ENDS = 3, 40, 12


def plan(cells: int) -> Study:
    """A study of so many cells over two factors."""
    side = round(cells**0.5)
    levels = tuple(range(1, side + 1))
    return Study(
        "large",
        "How long does it take?",
        {"concurrency": levels, "output_tokens": levels},
        endpoint=Endpoint("http://127.0.0.1:9"),
        prompts=Prompts(("a.txt",), ("high water",)),
        repeats=Repeats(count=REPEATS, requests=1),
    )


def timeline(rng: np.random.Generator, name: str) -> Timeline:
    """A made-up request of about 50 tokens per second."""
    stamps = 200_000_000 + np.cumsum(rng.integers(15_000_000, 25_000_000, TOKENS))
    return Timeline(
        request_id=name,
        role="measured",
        stream=0,
        cold=False,
        sent_ns=0,
        end_ns=int(stamps[-1]) + 1_000,
        chunk_ns=stamps,
        chunk_tokens=np.ones(TOKENS, dtype=np.int32),
        asked_tokens=TOKENS,
        complete=True,
        prompt_tokens=128,
        output_tokens=TOKENS,
        characters=160,
    )


def fill(store: KettleStore, study: Study) -> str:
    """A run with every repeat measured but one of the last cell."""
    run = store.begin(study, source="", facts={"processor": "made up"}, wall_s=1.0)
    rng = np.random.default_rng(1)
    rows: list[tuple[str, Timeline]] = []
    with store.writing() as db:
        seq = 0
        for cell in study.cells:
            count = REPEATS - (cell.index == len(study.cells) - 1)
            kept = []
            for block in range(count):
                name = f"{cell.key}-{block}"
                repeat = Repeat(name, block, 1, (timeline(rng, f"{name}-0"),), wall_ns=10**9)
                kept.append(KeptRepeat("measured", repeat))
                rows += [(name, t) for t in repeat.timelines]
                db.execute(
                    s.repeats.insert().values(
                        id=name,
                        seq=seq,
                        run=run,
                        cell=cell.key,
                        levels=json.dumps(cell.levels),
                        block=block,
                        concurrency=1,
                        state="measured",
                        episode="{}",
                        facts='{"engine": "made up"}',
                    )
                )
                seq += 1
            summary = cell_kept(study, cell, {}, kept).summary
            assert isinstance(summary, CellSummary)
            db.execute(
                s.summaries.insert().values(
                    run=run, cell=cell.key, definitions=1, done=count, failed=0, body=encode_summary(summary)
                )
            )
        for start in range(0, len(rows), BLOCK_REQUESTS):
            add_block(db, run, rows[start : start + BLOCK_REQUESTS])
    store.set_state(run, "stopped")
    return run


async def watched(services: Services, results: StudyResults) -> dict[str, Any]:
    """The map of a running study: what a repeat that ends costs, and how often the map can be drawn."""
    app = KettleApp(services)
    app.runner.results, app.runner.state = results, RunState()
    async with app.run_test(size=(142, 42)) as pilot:
        app.go("map")
        await pilot.pause()
        await settle(app)
        last = results.cells[-1]
        rng = np.random.default_rng(2)
        records = list(last.kept_repeats)
        held = []
        for i in range(ENDS):
            records.append(KeptRepeat("measured", Repeat(f"n{i}", 9 + i, 1, (timeline(rng, f"n{i}"),), wall_ns=10**9)))
            kept = await asyncio.to_thread(cell_kept, results.study, last.cell, {}, records)
            event = p.RepeatEnded(last.cell.key, 9 + i, kept, None, REPEATS)
            held.append(await held_up(lambda e=event: app.runner._take(e)))
        await settle(app)
        begun = time.monotonic()
        for i in range(SCROLLS):
            await pilot.press("down" if i % 2 else "right")
        per_s = SCROLLS / (time.monotonic() - begun)
    return {"repeat_end_ms": sorted(round(1e3 * h, 1) for h in held), "draws_per_s": round(per_s, 1)}


async def settle(app: KettleApp) -> None:
    """Until the findings have been found."""
    while any(worker.is_running for worker in app.workers):
        await asyncio.sleep(0.02)


async def held_up(act: Any, window_s: float = 0.6) -> float:
    """Processor time the event loop's thread spends on something and on what follows from it, in seconds.

    Of this thread alone: what is found in another thread meanwhile takes turns with it and is not what is asked.
    """
    before = time.thread_time()
    act()
    await asyncio.sleep(window_s)
    spent = time.thread_time() - before
    idle = time.thread_time()
    await asyncio.sleep(window_s)
    return max(0.0, spent - (time.thread_time() - idle))


def main() -> None:
    """Fill, open, watch."""
    study = plan(int(sys.argv[1]) if len(sys.argv) > 1 else 10_000)
    with tempfile.TemporaryDirectory(prefix="zinc-kettle-large-") as folder:
        places = Places(Path(folder), Path(folder) / "kettle.db")
        store = KettleStore(places.store)
        run = fill(store, study)
        size = places.store.stat().st_size
        store.close()
        opened = []
        for _ in range(SIDE_ROUNDS):
            fresh = KettleStore(places.store)
            begun = time.monotonic()
            results = open_run(fresh, run)
            opened.append(round(time.monotonic() - begun, 3))
            fresh.close()
        services = Services(places)
        seen = asyncio.run(watched(services, services.studies.open_run(run)))
    result = {
        "cells": len(study.cells),
        "repeats": results.done_repeats,
        "size_bytes": size,
        "open_s": min(opened),
        **seen,
    }
    OUT.parent.mkdir(parents=True, exist_ok=True)
    OUT.write_text(json.dumps(result, indent=1) + "\n")
    print(json.dumps(result))


if __name__ == "__main__":
    main()
