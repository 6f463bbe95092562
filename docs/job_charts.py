"""Draws the picture of each job of docs/jobs.md from what was recorded: `make jobs`."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from zinc_kettle.config import DEMO_FILES, HOME_VARIABLE, SAMPLE_STORE

FOLDER = Path(__file__).parent / "jobs"
RECORDED = Path(__file__).parents[1] / "tests" / "data" / "jobs.db"
DEMO = ("two-engines", "last-weeks-settings")
DRAWN: dict[str, tuple[str, ...]] = {
    "two-cards": ("chart", "two-cards"),
    "streams": ("chart", "streams", "--kind", "load"),
    "two-engines": ("duel", "two-engines@engine=mistralrs", "two-engines@engine=built-in"),
    "worth-the-price": ("lineup", "worth-the-price", "--per", "price"),
    "which-sizes": ("chart", "which-sizes", "--kind", "size"),
    "experts": ("chart", "experts"),
    "fewer-bits": ("chart", "fewer-bits", "--kind", "energy"),
    "threads": ("chart", "threads", "--kind", "scaling"),
    "the-older-one": ("chart", "the-older-one"),
    "from-fastest-to-slowest": ("lineup", "from-fastest-to-slowest"),
    "one-or-four": (
        "duel",
        "one-or-four@concurrency=1",
        "one-or-four@concurrency=4",
        "--measure",
        "throughput_all",
    ),
    "one-score": ("score", "one-score"),
    "small-card": ("chart", "small-card", "--kind", "size"),
    "all-at-once": ("chart", "all-at-once", "--kind", "latency"),
    "last-weeks-settings": ("ladder", "last-weeks-settings"),
    "three-questions": ("duel", "three-questions@model=brine-1b", "three-questions@model=kelp-4b", "--prompts"),
}
"""The command that draws each."""
RIGS = """format = 1
[petrel]
reach = "rehearsal"
[petrel.facts.price]
value = 900
[gannet]
reach = "rehearsal"
[gannet.facts.price]
value = 1400
[cormorant]
reach = "rehearsal"
[cormorant.facts.price]
value = 4200
"""
"""With the prices that the job about them typed in."""


def main() -> None:
    """All of them, as SVG."""
    FOLDER.mkdir(exist_ok=True)
    with tempfile.TemporaryDirectory() as home:
        (Path(home) / "rigs.toml").write_text(RIGS)
        stores = {}
        for name, source in (("demo", DEMO_FILES / SAMPLE_STORE), ("jobs", RECORDED)):
            stores[name] = Path(home) / f"{name}.db"
            shutil.copyfile(source, stores[name])
        for job, words in DRAWN.items():
            store = stores["demo" if job in DEMO else "jobs"]
            out = FOLDER / f"{job}.svg"
            subprocess.run(
                [sys.executable, "-m", "zinc_kettle", *words, "--out", str(out), "--store", str(store)],
                env={**os.environ, HOME_VARIABLE: home},
                check=True,
                stdout=subprocess.DEVNULL,
            )
            print(out.name, out.stat().st_size)


if __name__ == "__main__":
    main()
