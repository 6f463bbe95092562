"""Shared fixtures: a paced server in its own process, and a tiny model made once."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

import hypothesis
import pytest

from zinc_kettle.formats.models import PRESET_SEED
from zinc_kettle.formats.presets import PRESETS
from zinc_kettle.formats.synth import file_name, write_model

# The driver's self-test is of the machine: once for all homes of these tests, and not in the person's own cache.
os.environ["XDG_CACHE_HOME"] = tempfile.mkdtemp(prefix="zinc-kettle-tests-")

# Machines that run tests are busy: how long an example takes says nothing here.
hypothesis.settings.register_profile("house", deadline=None, max_examples=60)
hypothesis.settings.load_profile("house")


# What is started in the background has these ignored, and hands that on: tests send them to the tool.
signal.signal(signal.SIGINT, signal.default_int_handler)
signal.signal(signal.SIGHUP, signal.SIG_DFL)

ALONE = frozenset({"test_ahead", "test_driver", "test_faults", "test_selftest", "test_ssh", "test_truth"})
"""What needs the machine to itself: it holds stamps or ends of connections against a clock."""
LONGEST_FIRST = ("screen", "flows", "io")
"""Folders whose tests wait a long time; the many short ones fill what room is left at the end."""


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Mark the tests that need the machine to themselves, and begin with those that take long."""
    for item in items:
        if item.path.stem in ALONE:
            item.add_marker(pytest.mark.alone)
    order = {folder: at for at, folder in enumerate(LONGEST_FIRST)}
    items.sort(key=lambda item: order.get(item.path.parent.name, len(order)))


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


@pytest.fixture(scope="session")
def demo_home(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A data folder for the demo, in which files of the names of its models save the time to make them."""
    from zinc_kettle.app.build import model_folder, read_study
    from zinc_kettle.config import demo_places, demo_studies
    from zinc_kettle.core.plan.recipe import further_models

    home = tmp_path_factory.mktemp("demo")
    tiny = home / "tiny.gguf"
    write_model(tiny, name="brine-15m", shape=PRESETS["brine-15m"], quantization="Q4_0", seed=PRESET_SEED)
    before = os.environ.get("ZINC_KETTLE_HOME")
    os.environ["ZINC_KETTLE_HOME"] = str(home)
    try:
        places = demo_places()
        for path in demo_studies():
            for cell in read_study(path, places)[0].cells:
                spec = cell.launch
                named = [(spec.model, spec.quantization), *further_models(cell.engine, spec.levels).values()]
                for model, quantization in named if spec.rig is None else ():
                    there = places.models / file_name(model, str(quantization))
                    there.parent.mkdir(parents=True, exist_ok=True)
                    if not there.exists():
                        os.link(tiny, there)
        assert all(model_folder(places).find(*key) for key in [("brine-60m", "Q8_0")])
    finally:
        if before is None:
            del os.environ["ZINC_KETTLE_HOME"]
        else:
            os.environ["ZINC_KETTLE_HOME"] = before
    return home


@pytest.fixture
def unused_port() -> int:
    """A port nobody listens on."""
    import socket

    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        return int(s.getsockname()[1])
