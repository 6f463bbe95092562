"""Rigs and Fit on the real screen, and a study over machines of two kinds run from it."""

from __future__ import annotations

import shutil
import sys
from pathlib import Path

from tests.hosts import ssh_hosts
from tests.screens import open_app, own_home
from zinc_kettle.store.reading import open_run, shelf
from zinc_kettle.store.store import KettleStore

REHEARSAL = 'format = 1\n[gannet]\nreach = "rehearsal"\n[cormorant]\nreach = "rehearsal"\n'


def test_rigs_are_asked_and_told(home: Path, tmp_path: Path) -> None:
    """Facts with their origin, simulated rigs labelled, a probe with its bars, a fact typed in, the explanation."""
    mine = own_home(home, tmp_path)
    (mine / "rigs.toml").write_text(REHEARSAL)
    with open_app(mine) as t:
        t.wait("ready to run")
        t.keys("1")
        t.wait_re(r"processor .*gathered")
        t.wait("hardware threads", "this machine", "1 machine, 2 simulated")
        t.keys("p")
        t.wait_re(r"arithmetic, 1 thread +━+.* GFLOP/s", limit_s=150)
        t.wait("reading, 1 thread", "memory bandwidth, probed")
        t.keys("w").wait("data sheet")
        for key in ("p", "r", "i", "c", "e", "Space", "=", "Space", "4", "2", "0", ",", "Space", "m", "e", "Enter"):
            t.keys(key)
        t.wait_re(r"price +420 +typed in: me")
        t.keys("Down")
        assert "typed in" not in t.wait("SIMULATED: made-up hardware", "made-up 8-core")
        t.keys("?").wait("Each fact says where it comes from")
        t.keys("Escape").wait("made-up hardware")
        t.keys("q").wait_exit()
    assert "price" in (mine / "rigs.toml").read_text()


def test_an_address_is_typed_in_tested_and_planned(home: Path, tmp_path: Path, paced: str) -> None:
    """A running engine by its address: in the rig file, asked at once, and a plan of it that can be measured."""
    mine = own_home(home, tmp_path)
    with open_app(mine) as t:
        t.wait("ready to run")
        t.keys("1").wait("this machine")
        t.keys("n").wait("desk = http")
        for key in f"desk = {paced}".replace(" ", "~"):
            t.keys("Space" if key == "~" else key)
        t.keys("Enter").wait_re(r"desk\b")
        t.wait("2 machines")
        t.keys("m").wait("What exactly will be measured?")
        plan = t.wait_re(r"rig +desk")
        assert "context" not in plan
        t.wait("concurrency")
        t.wait("cells,")
        t.keys("C-s").wait("saved")
        t.keys("q")
        assert t.wait_exit() == 0
    assert f'url = "{paced}"' in (mine / "rigs.toml").read_text()


def test_what_if_controls_answer(home: Path, tmp_path: Path) -> None:
    """Fit of this machine's files; a larger context takes more; another rig has its own verdicts; small screens too."""
    mine = own_home(home, tmp_path)
    (mine / "rigs.toml").write_text(REHEARSAL)
    with open_app(mine) as t:
        t.wait("ready to run")
        t.keys("2")
        t.wait("usable", "brine-15m.Q8_0", "2,048", "fits, ")
        t.keys("Right").wait_re(r"6\.0.tok/s")
        t.keys("Tab", "Right").wait("4,096")
        t.keys("Tab", "Right").wait_re("◂.2.▸")
        t.keys("x")
        t.wait("What fits on gannet?", "SIMULATED")
        t.wait_re(r"fathom-14b F16.*spills")
        t.wait_re(r"shoal-30b F16.*will not fit, .* short")
        t.keys("n").wait("a model on paper")
        t.keys("70b at 4 bits", "Enter").wait("70b Q4_K")
        t.resize(100, 30)
        t.until(lambda s: all(w in s for w in ("brine-1b F16", "verdict", "usable", "next rig")), "the small screen")
        t.resize(160, 45)
        t.keys("1").wait("measure here")
        t.keys("n").wait("on paper: heron")
        t.keys("heron = 128 GB, 2 cards 24 GB 936 GB/s, price 4200", "Enter").wait("1 on paper", "from its data sheet")
        t.keys("m").wait("Nothing can be measured on heron")
        t.keys("2").wait("What fits on heron?", "70b Q4_K", "on paper")
        t.keys("b").wait("70b Q4_K on every rig", "heron (on paper)", "gannet (SIMULATED)", "2 × 24.0 GB + 128 GB")
        t.keys("Escape").wait("What fits on heron?")
        t.keys("q").wait_exit()


def test_a_broken_rig_file_is_told_where_it_matters(home: Path, tmp_path: Path) -> None:
    """The shelf goes on, Rigs and Fit say what is wrong with the file, and the tool leaves cleanly."""
    mine = own_home(home, tmp_path)
    (mine / "rigs.toml").write_text("format = 1\n[gannet]\nreach = 'boat'\n")
    with open_app(mine) as t:
        t.wait("1 ready to run")
        t.keys("1").wait("rigs.toml: gannet.reach")
        t.keys("2").wait("docs/rigs.md")
        t.keys("0").wait("1 ready to run")
        t.keys("q")
        assert t.wait_exit() == 0


def test_a_study_of_two_ssh_rigs_and_two_simulated_ones(home: Path, tmp_path: Path) -> None:
    """Opened on the shelf, run with r, one rig at a time; every repeat is measured, the simulated ones say so."""
    mine = own_home(home, tmp_path)
    models = tmp_path / "there"
    models.mkdir()
    # Over there lies a small file under the name of the model that the simulated rigs have, too.
    shutil.copyfile(home / "models" / "brine-15m.Q8_0.gguf", models / "brine-1b.Q8_0.gguf")
    with ssh_hosts(tmp_path / "ssh", ["skerry-mini", "skerry-shed"]) as hosts:
        lines = [
            f'[{h.name}]\nreach = "ssh"\nhost = "{h.name}"\nssh_config = "{h.config}"\n'
            f'engine_python = "{sys.executable}"\nmodels = "{models}"\n'
            for h in hosts
        ]
        (mine / "rigs.toml").write_text(REHEARSAL + "".join(lines))
        (mine / "studies" / "quick.study.toml").write_text(
            'format = 1\nname = "which-rig"\nquestion = "Which rig for the night log?"\n'
            '[vary]\nrig = ["skerry-mini", "skerry-shed", "gannet", "cormorant"]\n'
            '[hold]\nmodel = "brine-1b"\nquantization = "Q8_0"\nthreads = 1\ncontext = 256\nprompt_tokens = 64\n'
            "output_tokens = 16\n[repeats]\ncount = 1\nrequests = 1\n"
        )
        with open_app(mine) as t:
            t.wait("1 ready to run")
            t.keys("Enter").wait("0 of 4 repeats")
            t.keys("r")
            t.wait("4 of 4 repeats", limit_s=240)
            t.wait("Measured.", "skerry-mini", "gannet (sim.)", "SIMULATED")
            t.keys("q").wait_exit()
    store = KettleStore(mine / "kettle.db")
    (row,) = shelf(store)
    view = open_run(store, row.runs[0].run_id)
    by_rig = {str(c.cell.settings["rig"]): c for c in view.cells}
    assert all(c.state == "measured" for c in view.cells) and view.run.simulated
    assert [n for n, c in by_rig.items() if view.simulated(c)] == ["gannet", "cormorant"]
    for cell in view.cells:
        repeat = cell.repeats[0]
        assert repeat.extras["round_trip_s"] > 0 and repeat.extras["step_weight_bytes"] > 0
        assert repeat.trace is not None and repeat.trace.resident_bytes.max() > 0
    gannet = by_rig["gannet"].repeats[0]
    assert gannet.trace is not None and gannet.trace.energy_uj is not None and "idle_w" in gannet.extras
    mini = by_rig["skerry-mini"].repeats[0]
    assert mini.trace is not None and mini.trace.anonymous_bytes.max() > 0 and mini.machine is not None
