"""`make bench-kills`: the tool killed at random moments of a run; no request it had received may be missing.

    python benchmarks/kills.py [N]        50 by default

A study of eight streams against the paced server is started, ended with SIGKILL at a random moment, gone on with, ended
again, ten times. After each kill: every request that reached the tool before (it says each on its private log) is in
the store, and no process of ours is left; in the end the study goes on to its end. Writes benchmarks/out/kills.json.
"""

from __future__ import annotations

import json
import os
import random
import subprocess
import sys
import tempfile
import time
from dataclasses import asdict, dataclass, replace
from pathlib import Path

import psutil

from zinc_kettle.store.reading import shelf
from zinc_kettle.store.store import KettleStore

OUT = Path(__file__).parent / "out" / "kills.json"
STUDY = """format = 1
name = "kills"
question = "Is anything lost?"
seed = {seed}
[vary]
concurrency = [8]
[hold]
output_tokens = 12
[prompts]
files = ["ask.txt"]
[repeats]
count = {repeats}
requests = 16
[endpoint]
url = "{url}"
"""
RUNNER = """
import asyncio, os, sys
from pathlib import Path
from zinc_kettle.config import Places
from zinc_kettle.session import progress as p
from zinc_kettle.app.build import experiment, open_store, read_study
home, log = Path(sys.argv[1]), os.open(sys.argv[2], os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o600)
where = Places(home, home / "kettle.db")
study, source = read_study(home / "kills.study.toml", where)
def emit(event):
    if isinstance(event, p.Received):
        os.write(log, (event.timeline.request_id + "\\n").encode())
asyncio.run(experiment(study, where, open_store(where), emit, source=source).run())
os.write(log, b"end\\n")
"""
GONE_S, RESUME_S = 6.0, 120.0
MOST_WAIT_S = 1.5
REPEATS_A_KILL = 8
KILLS_A_STUDY = 10


@dataclass
class Round:
    """What one kill found."""

    after_s: float
    received: int
    kept: int
    missing: int
    left_processes: int
    resumed: bool


def chain(kills: int, url: str, home: Path, *, seed: int = 1) -> list[Round]:
    """One study, killed and gone on with `kills` times, then left to end; the store is looked through after each."""
    rng = random.Random(seed)
    (home / "ask.txt").write_text("When is high water tonight, and who is due?")
    (home / "kills.study.toml").write_text(STUDY.format(seed=seed, url=url, repeats=REPEATS_A_KILL * (kills + 1)))
    log = home / "received"
    log.touch()
    rounds = [_kill(log, home, rng.uniform(0.0, MOST_WAIT_S)) for _ in range(kills)]
    last = _start(home, log)
    finished = last.wait(RESUME_S) == 0 and log.read_text().endswith("end\n")
    lost = len(_received(log) - _kept(home))
    return [replace(r, resumed=finished, missing=r.missing + lost) for r in rounds]


def _kill(log: Path, home: Path, wait: float) -> Round:
    """Start, or go on; kill at a random moment after the first request of this start; look."""
    before = len(log.read_text())
    tool = _start(home, log)
    begun = time.monotonic()
    while len(log.read_text()) == before and tool.poll() is None and time.monotonic() - begun < RESUME_S:
        time.sleep(0.01)
    time.sleep(wait)
    family = psutil.Process(tool.pid).children(recursive=True) if tool.poll() is None else []
    tool.kill()
    tool.wait(GONE_S)
    _, left = psutil.wait_procs(family, timeout=GONE_S)
    alive = [q for q in left if q.is_running() and q.status() != psutil.STATUS_ZOMBIE]
    received, kept = _received(log), _kept(home)
    return Round(round(wait, 3), len(received), len(kept), len(received - kept), len(alive), False)


def _received(log: Path) -> set[str]:
    """Requests the tool said it had; a line that the kill cut short says nothing."""
    return {line for line in log.read_text().split("\n")[:-1] if line != "end"}


def _start(home: Path, log: Path) -> subprocess.Popen[bytes]:
    command = [sys.executable, "-c", RUNNER, str(home), str(log)]
    return subprocess.Popen(command, stderr=subprocess.DEVNULL, env=dict(os.environ))


def _kept(home: Path) -> set[str]:
    store = KettleStore(home / "kettle.db")
    try:
        runs = [run.run_id for study in shelf(store) for run in study.runs]
        repeats = [r for run in runs for mine in store.all_repeats(run).values() for r in mine]
        return {t.request_id for r in repeats for t in r.repeat.timelines}
    finally:
        store.close()


def run(rounds: int) -> list[Round]:
    """So many kills, ten to a study."""
    command = [sys.executable, "-m", "zinc_kettle.sim.paced"]
    with subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE) as server:
        assert server.stdin is not None and server.stdout is not None
        url = json.loads(server.stdout.readline())["address"]
        out: list[Round] = []
        for seed in range(-(-rounds // KILLS_A_STUDY)):
            with tempfile.TemporaryDirectory(prefix="zinc-kettle-kills-") as folder:
                out += chain(min(KILLS_A_STUDY, rounds - len(out)), url, Path(folder), seed=seed)
        server.stdin.close()
    return out


def main() -> None:
    """Run, write, say, and fail where anything was lost."""
    rounds = run(int(sys.argv[1]) if len(sys.argv) > 1 else 50)
    missing, left = sum(r.missing for r in rounds), sum(r.left_processes for r in rounds)
    result = {
        "kills": len(rounds),
        "received": sum(r.received for r in rounds),
        "missing": missing,
        "left_processes": left,
        "resumed": sum(r.resumed for r in rounds),
        "rounds": [asdict(r) for r in rounds],
    }
    OUT.parent.mkdir(parents=True, exist_ok=True)
    OUT.write_text(json.dumps(result, indent=1) + "\n")
    print(
        f"{len(rounds)} kills, {result['received']} requests received before them, {missing} missing, "
        f"{left} processes left, {result['resumed']} of them in studies that went on to their end"
    )
    if missing or left or result["resumed"] != len(rounds):
        raise SystemExit(1)


if __name__ == "__main__":
    main()
