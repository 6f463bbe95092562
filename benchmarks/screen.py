"""The screen's cost: first paint against an empty Textual application, idle, keys while a study runs, a large plan.

    python benchmarks/screen.py

In a real terminal, both applications in turn; the best of each. Writes benchmarks/out/screen.json.
"""

from __future__ import annotations

import contextlib
import json
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

import pexpect
import psutil
from tests.screen.term import Term

from zinc_kettle.app.build import read_study
from zinc_kettle.config import Places
from zinc_kettle.core.measures import MAP_MEASURES, MEASURES
from zinc_kettle.present.answer import main_measure
from zinc_kettle.store.reading import shelf
from zinc_kettle.store.store import KettleStore

OUT = Path(__file__).parent / "out" / "screen.json"
ROUNDS, IDLE_S, KEYS = 5, 8.0, 20
EMPTY = """
from textual.app import App
from textual.widgets import Static
class Empty(App):
    def compose(self):
        yield Static("painted")
Empty().run()
"""
STUDY = """format = 1
name = "eight"
question = "What does watching cost?"
[vary]
concurrency = [8]
[hold]
model = "brine-60m"
quantization = "Q8_0"
threads = 1
prompt_tokens = 64
output_tokens = 48
context = 128
[repeats]
count = 3
"""
MANY = """format = 1
name = "many"
question = "How long does a plan take?"
[vary]
threads = [{threads}]
prompt_tokens = [{prompts}]
[hold]
model = "brine-60m"
quantization = "Q8_0"
context = 4096
"""
BIN = Path(sys.executable).parent


def terminal(command: list[str], home: Path) -> pexpect.spawn[str]:
    """A program in a pseudo-terminal, read here as it writes: tmux would be asked by a process a look."""
    environment = {**os.environ, "TERM": "xterm-256color", "COLORTERM": "truecolor", "ZINC_KETTLE_HOME": str(home)}
    child = pexpect.spawn(
        command[0],
        command[1:],
        env=environment,
        dimensions=(40, 140),
        encoding="utf-8",
        codec_errors="replace",
        timeout=120,
    )
    child.delaybeforesend = None
    return child


def first_paint(command: list[str], words: str, home: Path) -> float:
    """Seconds from the start of a process until its words are in the terminal."""
    begun = time.monotonic()
    child = terminal(command, home)
    child.expect_exact(words)
    took = time.monotonic() - begun
    child.terminate(force=True)
    return took


def idle(home: Path) -> float:
    """Cores the demo's shelf uses when nobody touches it."""
    with Term([str(BIN / "zinc-kettle"), "demo"], env={"ZINC_KETTLE_HOME": str(home)}) as term:
        term.wait("ready to run")
        time.sleep(2.0)
        process = psutil.Process(term.pid)
        family = [process, *process.children(recursive=True)]
        before = sum(sum(p.cpu_times()[:2]) for p in family)
        time.sleep(IDLE_S)
        return (sum(sum(p.cpu_times()[:2]) for p in family) - before) / IDLE_S


def running(home: Path) -> dict[str, Any]:
    """Keys answered while a study of eight streams runs, and what driver and sampler took."""
    (home / "studies").mkdir(exist_ok=True)
    (home / "studies" / "eight.study.toml").write_text(STUDY)
    waits = []
    child = terminal([str(BIN / "zinc-kettle")], home)
    child.expect_exact("What does watching cost")
    child.expect_exact("ready to run")
    child.send("\r")
    child.expect_exact("0 of 3 repeats")
    child.send("r")
    child.expect_exact("requests")
    study, _ = read_study(home / "studies" / "eight.study.toml", Places(home, home / "kettle.db"))
    shown = MAP_MEASURES.index(main_measure(study))
    for i in range(KEYS):
        shown = (shown + 1) % len(MAP_MEASURES)
        with contextlib.suppress(pexpect.TIMEOUT):  # what was written before the key is no answer to it
            while True:
                child.read_nonblocking(1 << 16, timeout=0)
        begun = time.monotonic()
        child.send("m")
        child.expect_exact(f"{MEASURES[MAP_MEASURES[shown]].title},")
        waits.append(time.monotonic() - begun)
        time.sleep(0.1 + 0.05 * (i % 5))
    child.expect_exact("Measured.", timeout=300)
    child.send("q")
    child.expect(pexpect.EOF)
    store = KettleStore(home / "kettle.db")
    repeats = [r for mine in store.all_repeats(shelf(store)[0].runs[0].run_id).values() for r in mine]
    cores = [
        (r.repeat.driver_cpu_ns + (r.repeat.trace.sampler_cpu_ns if r.repeat.trace else 0)) / r.repeat.wall_ns
        for r in repeats
        if r.state == "measured"
    ]
    return {"key_s": sorted(waits), "observer_cores": [round(c, 4) for c in cores]}


def plan_s(folder: Path, home: Path) -> float:
    """Seconds `plan` takes for 10,000 cells, the start of Python included."""
    path = folder / "many.study.toml"
    threads, prompts = (", ".join(str(n) for n in range(first, first + 100)) for first in (1, 100))
    path.write_text(MANY.format(threads=threads, prompts=prompts))
    begun = time.monotonic()
    environment = {**os.environ, "ZINC_KETTLE_HOME": str(home)}
    subprocess.run([str(BIN / "zinc-kettle"), "plan", str(path)], check=True, capture_output=True, env=environment)
    return time.monotonic() - begun


def start_s(home: Path) -> float:
    """Seconds the command line needs to say its version of nothing: what a plan's time holds besides the plan."""
    begun = time.monotonic()
    environment = {**os.environ, "ZINC_KETTLE_HOME": str(home)}
    subprocess.run([str(BIN / "zinc-kettle"), "--help"], check=True, capture_output=True, env=environment)
    return time.monotonic() - begun


def main() -> None:
    """Measure all, write, print."""
    with tempfile.TemporaryDirectory(prefix="zk-", dir="/tmp") as folder:
        home = Path(folder) / "home"
        home.mkdir()
        paints = [
            (
                first_paint([str(BIN / "zinc-kettle")], "0 Shelf", home),
                first_paint([sys.executable, "-c", EMPTY], "painted", home),
            )
            for _ in range(ROUNDS)
        ]
        result: dict[str, Any] = {
            "first_paint_s": [round(a, 3) for a, _ in paints],
            "empty_paint_s": [round(b, 3) for _, b in paints],
            "paint_ratio": round(min(a for a, _ in paints) / min(b for _, b in paints), 3),
            "idle_cores": round(idle(home), 4),
            "plan_10000_s": round(min(plan_s(Path(folder), home) for _ in range(3)), 3),
            "start_s": round(min(start_s(home) for _ in range(3)), 3),
        }
        seen = running(home)
        keys = seen["key_s"]
        result |= {
            "key_p50_ms": round(1e3 * keys[len(keys) // 2], 1),
            "key_max_ms": round(1e3 * keys[-1], 1),
            "observer_cores": seen["observer_cores"],
        }
    OUT.parent.mkdir(parents=True, exist_ok=True)
    OUT.write_text(json.dumps(result, indent=1) + "\n")
    print(json.dumps(result))


if __name__ == "__main__":
    main()
