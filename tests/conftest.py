"""Shared fixtures: a paced server in its own process, and a tiny model made once."""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import hypothesis
import pytest

from zinc_kettle.formats.models import PRESET_SEED
from zinc_kettle.formats.presets import PRESETS
from zinc_kettle.formats.synth import file_name, write_model

# Machines that run tests are busy: how long an example takes says nothing here.
hypothesis.settings.register_profile("house", deadline=None, max_examples=60)
hypothesis.settings.load_profile("house")


@pytest.fixture(scope="session")
def paced() -> Iterator[str]:
    """The address of a paced server."""
    command = [sys.executable, "-m", "zinc_kettle.sim.paced"]
    with subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE) as server:
        assert server.stdout is not None and server.stdin is not None
        yield str(json.loads(server.stdout.readline())["address"])
        server.stdin.close()
        server.wait(10)


@pytest.fixture(scope="session")
def home(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A data folder with the tiny model at two quantizations."""
    folder = tmp_path_factory.mktemp("home")
    for quantization in ("Q8_0", "Q4_0"):
        path = folder / "models" / file_name("brine-15m", quantization)
        write_model(path, name="brine-15m", shape=PRESETS["brine-15m"], quantization=quantization, seed=PRESET_SEED)
    return folder
