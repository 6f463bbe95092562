"""The largest load that keeps a promise, found through the whole tool: servers, driver, store, log."""

from __future__ import annotations

import json
import signal
import subprocess
import sys
import time
from pathlib import Path

from tests.cli import environment, kettle
from zinc_kettle.core.plan.traffic import Promise
from zinc_kettle.core.search.capacity import UNSETTLED
from zinc_kettle.core.search.trial import trial_of
from zinc_kettle.sim.virtual import VirtualEngine
from zinc_kettle.store.reading import find, open_run
from zinc_kettle.store.store import KettleStore

STUDY = """format = 1
name = "desks"
question = "How many desks?"
[vary]
concurrency = [8]
[hold]
rig = "gannet"
model = "brine-1b"
quantization = "Q8_0"
slots = 64
context = 256
prompt_tokens = 64
output_tokens = 24
[promise]
tpot_s = 0.0115
[capacity]
factor = "concurrency"
most = 64
[repeats]
count = 2
"""
PROMISE = Promise(tpot_s=0.0115)


def truth() -> int:
    """The most streams the made-up rig serves, from its physics."""
    for streams in range(4, 64):
        engine = VirtualEngine(
            "gannet", {"model": "brine-1b", "quantization": "Q8_0", "threads": 8, "slots": 64, "context": 256}, seed=5
        )
        trial = trial_of(streams, [[engine.closed(streams, 16 * streams, prompt=64, output=24)]], PROMISE)
        assert trial is not None
        if trial.broken(PROMISE):
            return streams - 1
    raise AssertionError("it never breaks")


def test_a_search_is_killed_taken_up_and_finds_the_limit(tmp_path: Path) -> None:
    """Killed in the middle and run again: the loads are in the log, none is measured twice, and the limit is true."""
    (tmp_path / "rigs.toml").write_text('format = 1\n[gannet]\nreach = "rehearsal"\n')
    file = tmp_path / "desks.study.toml"
    file.write_text(STUDY)
    running = subprocess.Popen(
        [sys.executable, "-m", "zinc_kettle", "run", str(file)],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
        env=environment(tmp_path),
        start_new_session=True,
    )
    assert running.stderr is not None
    for line in running.stderr:
        if b"3 of 4 repeats" in line:
            break
    running.send_signal(signal.SIGKILL)
    running.wait(20)
    time.sleep(0.2)
    ran = kettle(tmp_path, "run", str(file))
    assert ran.returncode == 0, ran.stderr
    store = KettleStore(tmp_path / "kettle.db")
    results = open_run(store, find(store, "desks"))
    # Of a noisy step the search asks for two repeats more.
    assert all(c.done == c.wanted and c.done % 2 == 0 for c in results.cells) and len(results.cells) <= 12
    loads = [int(level) for level in results.study.vary["concurrency"]]
    assert loads == sorted(loads)
    said = kettle(tmp_path, "capacity", "desks", "--json")
    found = json.loads(said.stdout)
    assert found["end"] and said.returncode == (3 if found["end"] in UNSETTLED else 0)
    # On a busy machine the made-up rig itself is late at times, and the limit lower; how often it is exact tells
    # `make bench-answers`.
    assert found["end"] == "least" or (found["first"] == "tpot" and 1 <= found["load"] <= truth() + 1)
    assert found["sentence"] in ran.stdout or found["sentence"].capitalize() in ran.stdout
