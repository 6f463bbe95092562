"""`fit`, `probe`, `rehearse` and studies over rigs, as a person types them."""

from __future__ import annotations

import contextlib
import json
import os
import re
import signal
import subprocess
import sys
from pathlib import Path

import httpx
import pytest

from tests import gguf_bytes
from tests.cli import kettle as run_command
from zinc_kettle.config import DEMO_FILES

SHAPE = "layers=40,heads=40,kv-heads=40,head-dim=128,ffn=13824,vocab=32000"
RIGS = 'format = 1\n[gannet]\nreach = "rehearsal"\n[storm-tern]\nreach = "rehearsal"\n'


def kettle(*line: str, home: Path) -> subprocess.CompletedProcess[str]:
    """Run a command to its end."""
    return run_command(home, *line, timeout=240)


def one(home: Path, *line: str) -> dict[str, object]:
    """The one object a command prints."""
    done = kettle(*line, "--json", home=home)
    assert done.returncode == 0, done.stderr
    (text,) = done.stdout.splitlines()
    value: dict[str, object] = json.loads(text)
    return value


def test_fit_of_a_shape(tmp_path: Path) -> None:
    """A cache of 1.68 GB, weights and buffers beside it; options change what they say."""
    plain = one(tmp_path, "fit", "--shape", SHAPE, "--context", "2048", "--slots", "1")
    assert plain["kv_bytes"] == 1_677_721_600 and plain["weights_bytes"] == 26_032_558_080
    assert isinstance(plain["buffers_bytes"], int) and plain["buffers_bytes"] > 0
    half = one(
        tmp_path,
        "fit",
        "--shape",
        SHAPE,
        "--context",
        "2048",
        "--cache-precision",
        "q8_0",
        "--weights",
        "Q4_0",
        "--slots",
        "2",
        "--unified",
        "--tied",
        "--plain-ffn",
    )
    assert half["kv_bytes"] == 1_677_721_600 * 2 * 34 // 64
    assert isinstance(half["weights_bytes"], int) and half["weights_bytes"] < 26_032_558_080 * 4.6 / 16


@pytest.mark.parametrize(
    ("line", "said"),
    [
        (["--shape", "layers=40"], "does not give heads"),
        (["--shape", "layers=40,wings=2"], "is not a size"),
        (["--shape", SHAPE, "--weights", "Q9"], "unknown storage type"),
        (["--shape", SHAPE, "--cache-precision", "f8"], "unknown cache precision"),
        (["--rig", "gull"], "no rig 'gull'"),
        (["nothing.gguf"], "no file nothing.gguf"),
    ],
)
def test_wrong_questions(tmp_path: Path, line: list[str], said: str) -> None:
    """Exit code 2, and what to try."""
    done = kettle("fit", *line, home=tmp_path)
    assert done.returncode == 2 and said in done.stderr and "Try:" in done.stderr and not done.stdout


def test_fit_of_files(home: Path, tmp_path: Path) -> None:
    """A table with a verdict a model; a broken file is a line that says why; a single one says what would fit."""
    folder = tmp_path / "models"
    folder.mkdir()
    (folder / "brine-15m.Q8_0.gguf").symlink_to(home / "models" / "brine-15m.Q8_0.gguf")
    (folder / "broken.gguf").write_bytes(gguf_bytes.model()[:90])
    table = kettle("fit", home=tmp_path).stdout
    # Whether it is called best depends on a figure, which a busy machine does not get unasked.
    assert re.search(r"● (best, )?fits", table) and "broken.gguf: the file ends" in table
    single = kettle(
        "fit", str(folder / "brine-15m.Q8_0.gguf"), "--context", "2000000", "--slots", "16", home=tmp_path
    ).stdout
    assert "⊘ will not fit" in single and "would fit: context" in single
    record = one(tmp_path, "fit", str(folder / "brine-15m.Q8_0.gguf"))
    assert record["state"] == "fits" and record["weight_type"] == "Q8_0" and record["label"] == "Q8_0"


def test_fit_and_plan_on_simulated_rigs(tmp_path: Path) -> None:
    """Their own models, labelled; a plan tells verdict and predicted speed before anything runs."""
    (tmp_path / "rigs.toml").write_text(RIGS)
    told = kettle("fit", "--rig", "gannet", home=tmp_path).stdout
    assert (
        "SIMULATED" in told and re.search(r"fathom-14b F16.*spills: 1\d of 40 layers", told) and "will not fit" in told
    )
    study = tmp_path / "s.study.toml"
    study.write_text(
        'format = 1\nname = "r"\nquestion = "?"\n[vary]\nrig = ["gannet", "storm-tern"]\n'
        '[hold]\nmodel = "fathom-14b"\nquantization = "F16"\nprompt_tokens = 64\n'
    )
    plan = kettle("plan", str(study), home=tmp_path).stdout
    assert re.search(r"gannet .*spills, 1\d of 40 on device", plan)
    assert re.search(r"storm-tern .*will not fit, 1\d", plan)
    demo = kettle("plan", str(DEMO_FILES / "which-rig.study.toml"), home=tmp_path / "new").stdout
    assert "cormorant" in demo
    study.write_text(study.read_text().replace("fathom-14b", "gull-9b"))
    done = kettle("plan", str(study), home=tmp_path)
    assert done.returncode == 2 and "no simulated model 'gull-9b'" in done.stderr
    study.write_text(study.read_text().replace("storm-tern", "nobody"))
    done = kettle("run", str(study), home=tmp_path)
    assert done.returncode == 2 and "no rig 'nobody'" in done.stderr


def test_a_simulated_rig_needs_no_rig_file(tmp_path: Path) -> None:
    """Named on the command line, by a command or by a study."""
    told = kettle("fit", "--rig", "gannet", home=tmp_path)
    assert told.returncode == 0 and "SIMULATED" in told.stdout
    assert kettle("probe", "gannet", "--facts-only", home=tmp_path).returncode == 0


def test_a_rehearsed_study_is_labelled_in_every_output(tmp_path: Path) -> None:
    """In each JSON record and in the table; a model that does not fit is a failed cell with its last words."""
    (tmp_path / "rigs.toml").write_text(RIGS)
    study = tmp_path / "s.study.toml"
    study.write_text(
        'format = 1\nname = "r"\nquestion = "?"\n[vary]\nmodel = ["brine-1b", "fathom-14b"]\n'
        '[hold]\nrig = "storm-tern"\nquantization = "F16"\ncontext = 256\nprompt_tokens = 32\noutput_tokens = 64\n'
        "[repeats]\ncount = 1\nrequests = 1\n"
    )
    done = kettle("run", str(study), "--json", home=tmp_path)
    records = {json.loads(line)["cell"]["model"]: json.loads(line) for line in done.stdout.splitlines()}
    small, large = records["brine-1b"], records["fathom-14b"]
    assert small["simulated"] is True and small["state"] == "measured" and small["measures"]["power"]["value"] > 5
    assert 0.5 < small["measures"]["limit_share"]["value"] <= 1.1
    assert large["simulated"] is True and large["state"] == "failed" and "insufficient memory" in large["failure"]
    chart = tmp_path / "c.svg"
    assert kettle("chart", "r", "--out", str(chart), home=tmp_path).returncode == 0 and chart.stat().st_size > 1000


def test_a_spill_is_said_loudly(tmp_path: Path) -> None:
    """The card is too small, the engine says nothing, decoding is slow: the caution has prediction and measurement."""
    (tmp_path / "rigs.toml").write_text(RIGS)
    study = tmp_path / "s.study.toml"
    study.write_text(
        'format = 1\nname = "r"\nquestion = "?"\n[vary]\nquantization = ["Q8_0"]\n'
        '[hold]\nrig = "gannet"\nmodel = "fathom-14b"\ncontext = 256\nprompt_tokens = 32\noutput_tokens = 4\n'
        "[repeats]\ncount = 1\nrequests = 1\n"
    )
    (record,) = [json.loads(x) for x in kettle("run", str(study), "--json", home=tmp_path).stdout.splitlines()]
    evidence = {c["code"]: c["evidence"] for c in record["cautions"]}
    assert "predicted, and Fit says it spills here" in evidence["spilled"]


def test_probe_tells_facts_with_their_origin(tmp_path: Path) -> None:
    """Of this machine; of a simulated one, which cannot be probed; of one that is not there."""
    (tmp_path / "rigs.toml").write_text(RIGS + '[quay]\nreach = "url"\nurl = "http://127.0.0.1:9"\n')
    here = kettle("probe", "--facts-only", home=tmp_path)
    assert here.returncode == 0 and "gathered" in here.stdout and "of memory free" in here.stdout
    record = one(tmp_path, "probe", "gannet")
    assert record["simulated"] is True and record["probe"] is None
    lost = kettle("probe", "quay", home=tmp_path)
    assert lost.returncode == 1 and "quay does not answer" in lost.stdout


def test_rehearse_serves_until_it_is_interrupted(tmp_path: Path) -> None:
    """Real servers on this machine; gone when it ends."""
    assert "cormorant" in kettle("rehearse", "--list", home=tmp_path).stdout
    wrong = kettle("rehearse", "gull", home=tmp_path)
    assert wrong.returncode == 2 and "no simulated rig gull" in wrong.stderr
    line = [sys.executable, "-m", "zinc_kettle", "rehearse", "cormorant"]
    env = {**os.environ, "ZINC_KETTLE_HOME": str(tmp_path)}
    with (
        subprocess.Popen(line, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, env=env) as running,
        contextlib.ExitStack() as ending,
    ):
        ending.callback(running.kill)  # also where something below is not as it should be
        assert running.stdout is not None
        told = running.stdout.readline()
        assert told.startswith("SIMULATED cormorant: http://127.0.0.1:") and "brine-1b Q8_0 split" in told
        address = told.split(": ")[1].split("/v1")[0]
        assert httpx.get(f"{address}/health", trust_env=False).status_code == 200
        running.send_signal(signal.SIGINT)
        assert running.wait(20) == 0
    with pytest.raises(httpx.HTTPError):
        httpx.get(f"{address}/health", trust_env=False)


def test_one_model_on_several_machines(tmp_path: Path) -> None:
    """A machine on paper beside this one and a simulated one, the fastest first; no sheet is refused."""
    (tmp_path / "rigs.toml").write_text('format = 1\n[gannet]\nreach = "rehearsal"\n')
    line = ["fit", "32b Q4_K_M", "--rig", "all", "--on", "heron = 64 GB, card 48 GB 936 GB/s", "--on", "9 GB, 10 GB/s"]
    told = [json.loads(row) for row in kettle(*line, "--json", home=tmp_path).stdout.splitlines()]
    assert [(row["rig"], row["on_paper"], row["simulated"]) for row in told if row["rig"] != "here"] == [
        ("heron", True, False),
        ("gannet", False, True),
        ("paper-2", True, False),
    ]
    assert told[0]["decode"]["predicted"] and told[-1]["state"] == "will not fit" and "here" in {r["rig"] for r in told}
    assert "heron (on paper)" in kettle(*line, home=tmp_path).stdout
    assert kettle("fit", "8b Q4_K_M", "--on", "a lot", home=tmp_path).returncode == 2
