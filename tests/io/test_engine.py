"""The real engine through the real launcher, with a tiny model."""

from __future__ import annotations

import asyncio
import importlib
import subprocess
import sys
import time
from pathlib import Path

import psutil
import pytest

from tests.build import RECIPES, spec
from tests.engines import alive, ask
from zinc_kettle.core.plan.factors import Level
from zinc_kettle.core.plan.recipe import Endpoint
from zinc_kettle.engines.endpoint import EndpointStarter
from zinc_kettle.engines.filecache import cached_share
from zinc_kettle.engines.launcher import LaunchedEngine, Launcher
from zinc_kettle.engines.launchers import path_of
from zinc_kettle.engines.line import launch_line, shown_line
from zinc_kettle.engines.listener import process_at
from zinc_kettle.errors import EngineError
from zinc_kettle.formats.models import PRESET_SEED, ModelFolder
from zinc_kettle.formats.presets import PRESETS, UNTAMED
from zinc_kettle.formats.synth import write_model
from zinc_kettle.ports.models import ModelFile
from zinc_kettle.rigs.telemetry import TreeWatch
from zinc_kettle.wire.messages import ChatMessage

BUILT_IN = RECIPES["built-in"]


def model_of(home: Path) -> ModelFile:
    """The tiny model."""
    found = ModelFolder(home / "models").find("brine-15m", "Q8_0")
    assert found is not None
    return found


async def start(home: Path, **changes: Level) -> LaunchedEngine:
    """An engine of the tiny model."""
    return await Launcher(BUILT_IN, load_limit_s=60).start(spec(None, **changes), model_of(home), launch_id="l1")


async def test_load_count_ask_and_stop(home: Path) -> None:
    """Ready, load time, exact counts, exact output length, both clocks alike, gone when it was stopped."""
    engine = await start(home)
    try:
        assert engine.launch.load_ns is not None and engine.launch.load_ns > 0
        assert engine.launch.baseline_bytes > 0 and engine.launch.loaded_bytes is not None
        assert engine.launch.loaded_bytes > 10_000_000
        template = await engine.count_tokens([ChatMessage("user", "")])
        four = await engine.count_tokens([ChatMessage("user", "bada ribo kola nute")])
        assert template is not None and four == template + 4
        (t,) = await ask(engine, "bada ribo kola nute " * 40, tokens=24)
        assert t.usable and t.total_tokens == 24 == len(t.chunk_ns) and t.counted_by == "chunk-counts"
        assert t.prompt_tokens is not None and t.prompt_tokens >= template + 160
        assert t.engine is not None and t.ttft_ns is not None
        # The engine's own prefill time lies inside ours.
        assert t.engine.prompt_ms * 1e6 < t.ttft_ns
        assert "--threads 1" in engine.facts["launch_line"] and str(home) not in engine.facts["launch_line"]
    finally:
        await engine.stop()
    assert not engine.alive()


async def test_prompt_cache_helps_the_same_prompt(home: Path) -> None:
    """The trap itself: with the cache on, the second time almost nothing is processed."""
    engine = await start(home, prompt_cache=True)
    try:
        first, second = await ask(engine, "bada ribo kola nute " * 40, count=2)
    finally:
        await engine.stop()
    assert first.engine is not None and second.engine is not None
    assert first.engine.cache_n < 40 and second.engine.cache_n > 150


async def test_context_is_per_slot(home: Path) -> None:
    """Two slots of 256 tokens: a prompt of 200 fits each of two streams at once."""
    engine = await start(home, slots=2, context=256)
    try:
        seen = await ask(engine, "bada " * 180, count=2, concurrency=2)
        assert all(t.usable and t.total_tokens == 16 for t in seen)
        (too_long,) = await ask(engine, "bada " * 300)
        assert too_long.error is not None and "HTTP 400" in too_long.error
    finally:
        await engine.stop()


async def test_an_untamed_model_merges_chunks(tmp_path: Path) -> None:
    """Byte tokens: fewer chunks than tokens, and the counts still come out."""
    path = tmp_path / "wild.gguf"
    write_model(
        path, name="wild" + UNTAMED, shape=PRESETS["brine-15m"], quantization="Q8_0", seed=PRESET_SEED, tame=False
    )
    engine = await Launcher(BUILT_IN).start(spec(), ModelFile("wild", "Q8_0", path, 1), launch_id="l")
    try:
        seen = await ask(engine, "é ß 漢 " * 10, tokens=200, count=2)
    finally:
        await engine.stop()
    for t in seen:
        assert t.counted_by == "chunk-counts" and t.total_tokens <= 200 and t.output_tokens == 200
        assert len(t.chunk_ns) <= t.total_tokens


async def test_telemetry_sees_the_engine(home: Path) -> None:
    """Memory apart, processor time, and ten samples a second or more; the sampler's own cost is told."""
    engine = await start(home)
    watch = TreeWatch(engine.pid)
    try:
        await ask(engine, "bada ribo " * 100, tokens=200)
        await asyncio.sleep(0.5)
        resident = watch.latest().memory_bytes
    finally:
        trace, machine = watch.end(driver_cpu_ns=0)
        await engine.stop()
    seconds = (trace.at_ns[-1] - trace.at_ns[0]) / 1e9
    # Ten a second are promised; a machine that is robbed of its processor time may give fewer.
    assert len(trace.at_ns) >= 4 * seconds
    assert resident == trace.resident_bytes[-1] or resident > 10_000_000
    assert trace.anonymous_bytes.min() > 0 and trace.file_bytes.min() > 0
    assert trace.highest_bytes >= trace.resident_bytes.max() > 0
    assert trace.cpu_ns[-1] > trace.cpu_ns[0] and trace.sampler_cpu_ns > 0
    assert machine.cores >= 1 and 0 <= machine.stolen_share <= 1 and machine.own_cores > 0


BROKEN = {"bad magic": b"nope" * 100, "cut short": None, "empty header": b"GGUF\3\0\0\0" + b"\0" * 400}


@pytest.mark.parametrize("name", BROKEN)
async def test_a_failed_start_keeps_the_last_words(home: Path, tmp_path: Path, name: str) -> None:
    """The cause comes from the engine itself, without this machine's paths."""
    data = BROKEN[name]
    path = tmp_path / "broken.gguf"
    path.write_bytes(model_of(home).path.read_bytes()[:9_000_000] if data is None else data)
    with pytest.raises(EngineError) as caught:
        await Launcher(BUILT_IN).start(spec(), ModelFile("x", None, path, 1), launch_id="l")
    words = caught.value.last_words
    # The engine writes from a thread of its own; what that has not written yet is lost when it ends.
    assert ("load" in words or "init server" in words) and str(tmp_path) not in words
    assert caught.value.why and caught.value.remedy


async def test_no_model_no_engine(tmp_path: Path) -> None:
    """A missing file and no file at all."""
    for model in (ModelFile("x", None, tmp_path / "none.gguf", 1), None):
        with pytest.raises(EngineError):
            await Launcher(BUILT_IN).start(spec(), model, launch_id="l")


async def test_a_load_that_hangs_is_given_up(home: Path) -> None:
    """The limit holds, and nothing stays behind."""
    with pytest.raises(EngineError, match="was not ready within"):
        await Launcher(BUILT_IN, load_limit_s=0.01).start(spec(), model_of(home), launch_id="l")


async def test_an_open_stream_does_not_hold_the_stop_up(home: Path) -> None:
    """Also in the middle of an answer."""
    engine = await start(home, context=16384)
    writing = asyncio.Event()
    asking = asyncio.create_task(ask(engine, "bada " * 20, tokens=16000, on_token=writing.set))
    await asyncio.wait_for(writing.wait(), 60)
    began = time.monotonic()
    await engine.stop()
    assert time.monotonic() - began < 20  # the answer would take minutes
    (t,) = await asyncio.wait_for(asking, 20)
    assert t.error is not None and not t.usable and len(t.chunk_ns) > 0


async def test_the_engine_dies_with_its_starter(home: Path) -> None:
    """A starter that is killed leaves no engine behind after five seconds."""
    code = (
        "import asyncio, pathlib, time\n"
        "from tests.io.test_engine import start\n"
        "async def main():\n"
        f"    engine = await start(pathlib.Path({str(home)!r}))\n"
        "    print(engine.pid, flush=True)\n"
        "    await asyncio.sleep(60)\n"
        "asyncio.run(main())\n"
    )
    with subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE) as starter:
        assert starter.stdout is not None
        pid = int(starter.stdout.readline())
        assert alive(pid)
        starter.kill()
    limit = time.monotonic() + 5
    while alive(pid) and psutil.Process(pid).status() != "zombie" and time.monotonic() < limit:
        await asyncio.sleep(0.05)
    assert not alive(pid) or psutil.Process(pid).status() == "zombie"


@pytest.mark.parametrize("name", ["built-in", "mistralrs"])
def test_every_setting_reaches_its_launcher(monkeypatch: pytest.MonkeyPatch, name: str) -> None:
    """What a recipe declares, its launcher understands; and a path of this machine is not shown."""
    recipe = RECIPES[name]
    assert recipe.start is not None
    path = path_of(recipe.start.launcher)
    monkeypatch.syspath_prepend(str(path.parent))
    parser = importlib.import_module(path.stem).arguments()
    for setting in recipe.engine.settings:
        some: dict[str, Level] = {
            "text": (setting.choices or ("x",))[-1],
            "number": 16,
            "switch": True,
            "model": "m.gguf",
        }
        for level in (some[setting.type], *([False] if setting.type == "switch" else [])):
            levels: dict[str, Level] = {"context": 64, setting.name: level}
            line = launch_line(
                recipe, levels, model="/models/m.gguf", port=0, python="/v/bin/python3", launcher=str(path)
            )
            given = vars(parser.parse_args(line[2:]))
            assert (
                setting.flag_off
                or level is False
                or setting.word(level) in map(str, given.values())
                or True in given.values()
            )
            assert "/" not in shown_line(line) and shown_line(line).startswith("python serve_")


def test_file_cache_is_seen(tmp_path: Path) -> None:
    """A file just written is in memory; an empty one cannot be told."""
    path = tmp_path / "f"
    path.write_bytes(b"x" * 1_000_000)
    share = cached_share(path)
    assert share is None or 0.5 < share <= 1.0
    path.write_bytes(b"")
    assert cached_share(path) is None


async def test_an_endpoint_is_not_ours(paced: str) -> None:
    """Nothing started, nothing to stop; on this machine its process is watched, whoever started it."""
    engine = await EndpointStarter(Endpoint(paced, "m"), RECIPES["open-protocol"]).start(spec(), None, launch_id="l")
    assert engine.launch.load_ns is None and engine.alive() and engine.last_words() == ""
    assert engine.pid is not None and "zinc_kettle.sim.paced" in psutil.Process(engine.pid).cmdline()
    held = psutil.Process(engine.pid).memory_info().rss
    assert engine.launch.loaded_bytes == pytest.approx(held, rel=0.2)
    for elsewhere in ("http://192.0.2.7:8080", "http://127.0.0.1:1", "http://tern:8080", "nothing"):
        assert process_at(elsewhere) is None
    assert await engine.count_tokens([]) is None
    await engine.stop()
