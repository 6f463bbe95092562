"""`doctor`: what it looks at, what it says to do, and what a report of a bug holds and does not."""

from __future__ import annotations

import json
import socket
import zipfile
from pathlib import Path

from tests.cli import kettle


def test_a_healthy_machine_is_told_what_it_has(tmp_path: Path) -> None:
    """Every topic has a line; nothing is broken; what is missing says what to do."""
    ran = kettle(tmp_path, "doctor", "--json")
    checks = {c["name"]: c for c in map(json.loads, ran.stdout.splitlines())}
    assert ran.returncode == 0, ran.stderr
    assert {
        "Python",
        "data folder",
        "store",
        "terminal",
        "kernel stamps",
        "processor",
        "energy",
        "devices",
        "engine built-in",
        "models",
        "other machines",
    } <= set(checks)
    assert {c["state"] for c in checks.values()} <= {"good", "limited", "missing"}
    assert checks["models"]["state"] == "missing" and "synth" in checks["models"]["remedy"]
    assert checks["engine built-in"]["found"].startswith("xllamacpp ")
    said = kettle(tmp_path, "doctor")
    assert "What could be done:" in said.stdout and "nothing the tool needs is broken" in said.stderr


def test_what_is_broken_ends_with_one(tmp_path: Path) -> None:
    """A store that is none, a recipe and a rig file that cannot be read: each named, with what to do."""
    (tmp_path / "kettle.db").write_text("no database at all, and long enough to be looked at as one" * 20)
    (tmp_path / "rigs.toml").write_text("format = ")
    (tmp_path / "recipes").mkdir()
    (tmp_path / "recipes" / "x.toml").write_text("format = ")
    ran = kettle(tmp_path, "doctor", "--json")
    checks = {c["name"]: c for c in map(json.loads, ran.stdout.splitlines())}
    broken = {name for name, check in checks.items() if check["state"] == "broken"}
    assert ran.returncode == 1 and {"store", "engine recipes"} <= broken
    assert all(checks[name]["remedy"] for name in broken)


def test_a_report_of_a_bug_names_nobody(tmp_path: Path) -> None:
    """Versions, checks and the log's end; no host, no folder."""
    (tmp_path / "zinc-kettle.log").write_text(f"at {tmp_path}/models/x.gguf on {socket.gethostname()}\nTraceback\n")
    out = tmp_path / "report.zip"
    assert kettle(tmp_path, "doctor", "--bundle", str(out)).returncode == 0
    with zipfile.ZipFile(out) as archive:
        parts = {name: archive.read(name).decode() for name in archive.namelist()}
    told = json.loads(parts["doctor.json"])
    assert told["packages"]["textual"] and [c for c in told["checks"] if c["name"] == "kernel stamps"]
    assert "Traceback" in parts["log.txt"] and "…/x.gguf" in parts["log.txt"]
    whole = "".join(parts.values())
    assert str(tmp_path) not in whole and (len(socket.gethostname()) < 3 or socket.gethostname() not in whole)
