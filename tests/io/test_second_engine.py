"""A second real engine behind its recipe, two versions of the first one, and what the first one's settings do."""

from __future__ import annotations

import asyncio
import subprocess
import sys
import time
from pathlib import Path

import psutil
import pytest

from tests.build import RECIPES, spec
from tests.engines import OLDER, ask
from zinc_kettle.core.plan.factors import Level
from zinc_kettle.core.plan.recipe import Recipe
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.engines.launcher import LaunchedEngine, Launcher
from zinc_kettle.errors import EngineError
from zinc_kettle.formats.models import ModelFolder
from zinc_kettle.formats.recipe import read_recipes
from zinc_kettle.ports.models import ModelFile

WORDS = "bada ribo kola nute " * 20


@pytest.fixture(scope="module")
def models(tmp_path_factory: pytest.TempPathFactory) -> ModelFolder:
    """A folder in which presets are made when they are wanted."""
    return ModelFolder(tmp_path_factory.mktemp("models"))


def model(folder: ModelFolder, name: str, quantization: str = "Q8_0") -> ModelFile:
    """A preset's file."""
    return folder.find(name, quantization) or folder.make(name, quantization, lambda _done, _total: None)


async def start(
    recipe: Recipe, file: ModelFile, levels: dict[str, Level] | None = None, *, draft: ModelFile | None = None
) -> LaunchedEngine:
    """An engine of a recipe; with a model that drafts."""
    assert recipe.start is not None
    files = None if draft is None else {"draft_model": draft.path}
    launcher = Launcher(recipe, load_limit_s=60, files=files, python=recipe.start.python)
    return await launcher.start(spec(recipe, **(levels or {})), file, launch_id="l")


async def seen_of(
    recipe: Recipe,
    file: ModelFile,
    levels: dict[str, Level] | None = None,
    *,
    tokens: int = 32,
    count: int = 2,
    draft: ModelFile | None = None,
) -> list[Timeline]:
    """Requests to an engine that is started and stopped for them."""
    engine = await start(recipe, file, levels, draft=draft)
    try:
        return await ask(engine, WORDS, tokens=tokens, count=count)
    finally:
        await engine.stop()


async def test_both_engines_see_the_same_prompt_and_write_as_much(models: ModelFolder) -> None:
    """Token counts agree within the first special token; both clocks of each engine tell the same."""
    file = model(models, "brine-15m-bpe")
    prompts = {}
    for name in ("built-in", "mistralrs"):
        seen = await seen_of(RECIPES[name], file, count=3)
        for t in seen:
            assert t.usable and t.total_tokens == 32 and t.engine is not None and t.ttft_ns is not None, name
            assert t.engine.predicted_n == 32 and 0 < t.engine.prompt_ms * 1e6 < t.ttft_ns + 2e6
        whole = sum(t.decode_ns for t in seen[1:]) / 1e6
        own = sum(t.engine.predicted_ms for t in seen[1:] if t.engine is not None)
        assert own == pytest.approx(whole, rel=0.5, abs=10)
        prompts[name] = seen[0].prompt_tokens
    assert prompts["built-in"] is not None and prompts["mistralrs"] is not None
    assert abs(prompts["built-in"] - prompts["mistralrs"]) <= 1 and prompts["mistralrs"] > 80


async def test_the_second_engine_keeps_within_its_context(models: ModelFolder) -> None:
    """Of which it keeps no count itself: too long a prompt is refused, and an answer ends where the context does."""
    engine = await start(RECIPES["mistralrs"], model(models, "brine-15m-bpe"), {"context": 128})
    try:
        (too_long,) = await ask(engine, "bada " * 200, tokens=8)
        assert too_long.error is not None and "exceed the context of 128" in too_long.error
        (cut,) = await ask(engine, "bada " * 100, tokens=64)
        assert cut.usable and 0 < cut.total_tokens < 64 and cut.finish == "length"
        several = await ask(engine, "bada " * 30, tokens=16, count=4, concurrency=4)
        assert [(t.error, t.total_tokens) for t in several] == [(None, 16)] * 4
    finally:
        await engine.stop()
    assert not engine.alive() and engine.facts["version"] and engine.facts["recipe"] == "mistralrs"


async def test_the_second_engine_says_why_it_did_not_start(tmp_path: Path) -> None:
    """In one line, and soon."""
    path = tmp_path / "broken.gguf"
    path.write_bytes(b"nope" * 1000)
    with pytest.raises(EngineError) as caught:
        await start(RECIPES["mistralrs"], ModelFile("x", None, path, 1))
    assert (
        "invalid GGUF magic" in str(caught.value) and caught.value.last_words and str(tmp_path) not in str(caught.value)
    )


async def test_two_versions_live_in_pythons_of_their_own(models: ModelFolder, tmp_path: Path) -> None:
    """One recipe is based on the other; both versions say who they are, and write the same."""
    (tmp_path / "older.toml").write_text(f'format = 1\nbased_on = "built-in"\n[start]\npython = "{OLDER}"\n')
    recipes = read_recipes(tmp_path)
    file, texts, versions = model(models, "brine-15m"), [], []
    for name in ("built-in", "older"):
        engine = await start(recipes[name], file)
        try:
            (t,) = await ask(engine, WORDS, tokens=24)
        finally:
            await engine.stop()
        assert t.usable and t.total_tokens == 24 and t.counted_by == "chunk-counts"
        texts.append(t.text)
        versions.append(engine.facts["version"])
        assert engine.facts["build"] and str(tmp_path) not in engine.facts["launch_line"]
    assert versions[0] != versions[1] and texts[0] == texts[1]


async def test_a_python_without_the_engine_is_told(models: ModelFolder, tmp_path: Path) -> None:
    """Which package is missing; and a Python that is not there."""
    (tmp_path / "other.toml").write_text(f'format = 1\nbased_on = "mistralrs"\n[start]\npython = "{OLDER}"\n')
    (tmp_path / "none.toml").write_text('format = 1\nbased_on = "built-in"\n[start]\npython = "/none/python"\n')
    recipes, file = read_recipes(tmp_path), model(models, "brine-15m")
    with pytest.raises(EngineError, match="mistralrs is not installed"):
        await start(recipes["other"], file)
    with pytest.raises(EngineError, match="cannot be started"):
        await start(recipes["none"], file)


SETTINGS: dict[str, dict[str, Level]] = {
    "flash attention on": {"flash_attention": True},
    "flash attention off": {"flash_attention": False},
    "one cache": {"one_cache": True, "slots": 2},
    "no repacking": {"weight_repacking": False},
    "device layers": {"device_layers": 0},
    "experts in main memory": {"experts_in_main": True},
    "experts of two layers": {"expert_layers_in_main": 2},
}


@pytest.mark.parametrize("name", SETTINGS)
async def test_settings_of_the_built_in_engine(models: ModelFolder, name: str) -> None:
    """Each is taken by the real engine, which then answers; with a mixture of experts, which all of them concern."""
    seen = await seen_of(RECIPES["built-in"], model(models, "shoal-140m", "Q4_0"), SETTINGS[name])
    assert all(t.usable and t.total_tokens == 32 for t in seen)


async def test_repacking_costs_memory(models: ModelFolder) -> None:
    """Weights copied into another layout are resident twice; without, they are not."""
    file, loaded = model(models, "brine-60m", "Q4_0"), []
    for on in (True, False):
        engine = await start(RECIPES["built-in"], file, {"weight_repacking": on})
        loaded.append(engine.launch.loaded_bytes or 0)
        await engine.stop()
    assert loaded[0] - loaded[1] > 0.5 * file.size_bytes > 0


async def test_a_small_model_drafts(models: ModelFolder) -> None:
    """How much is accepted follows what was asked for, and the draft's counts are in the record."""
    shares = {}
    for percent in (90, 10):
        levels: dict[str, Level] = {"draft_model": "brine-15m.Q8_0", "draft_length": 4, "draft_accepted": percent}
        large, small = model(models, "brine-60m", "Q4_0"), model(models, "brine-15m")
        seen = await seen_of(RECIPES["built-in"], large, levels, tokens=96, draft=small)
        told = [t.engine for t in seen if t.engine is not None]
        drafted, kept = sum(e.draft_n or 0 for e in told), sum(e.draft_accepted_n or 0 for e in told)
        assert all(t.usable and t.total_tokens == 96 for t in seen) and drafted > 30
        shares[percent] = kept / drafted
    assert shares[90] > 0.6 > 0.35 > shares[10]


async def test_a_client_that_goes_away_frees_the_slot(models: ModelFolder) -> None:
    """Of the one slot: the next request is answered although the last one had hundreds of tokens to go."""
    engine = await start(RECIPES["mistralrs"], model(models, "brine-15m-bpe"), {"context": 4096})
    try:
        asking = asyncio.create_task(ask(engine, "bada " * 20, tokens=4000))
        await asyncio.sleep(1.0)
        asking.cancel()
        await asyncio.gather(asking, return_exceptions=True)
        (t,) = await asyncio.wait_for(ask(engine, "bada " * 20, tokens=8), 20)
        assert t.usable and t.total_tokens == 8
    finally:
        await engine.stop()


PROGRAM = """
import http.server, json, os, sys
given = dict(zip(sys.argv[1::2], sys.argv[2::2]))
class Handler(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        self.answer("text/json", json.dumps({"about": {"version": "7", "build": f"{given} {os.environ['LOG']}"}}))
    def do_POST(self):
        body = json.loads(self.rfile.read(int(self.headers["content-length"])))
        text = "".join('data: {"choices":[{"delta":{"content":" x"}}]}\\n\\n' for _ in range(body["max_tokens"]))
        self.answer("text/event-stream", text + "data: [DONE]\\n\\n")
    def answer(self, kind, text):
        self.send_response(200)
        self.send_header("content-type", kind)
        self.send_header("content-length", str(len(text)))
        self.end_headers()
        self.wfile.write(text.encode())
    def log_message(self, *_):
        pass
if given.get("--oil") == "0":
    sys.exit("panic: no oil")
http.server.ThreadingHTTPServer(("127.0.0.1", int(given["--port"])), Handler).serve_forever()
"""
OWN = """format = 1
[start]
argv = ["{python}", "PROGRAM", "--model", "{model}", "--port", "{port}"]
environment = { LOG = "warn" }
ready = "/about"
failed = ["panic"]
[facts]
version = { path = "/about", at = "about.version" }
build = { path = "/about", at = "about.build" }
[settings.oil]
type = "number"
meaning = "oil"
low = 0
argument = "--oil"
"""


def own_program(folder: Path) -> Recipe:
    """A recipe for a program that knows nothing of us."""
    (folder / "program.py").write_text(PROGRAM)
    recipe = OWN.replace("PROGRAM", str(folder / "program.py")).replace('"{python}"', f'"{sys.executable}"')
    (folder / "lantern.toml").write_text(recipe)
    return read_recipes(folder)["lantern"]


async def test_a_program_of_ones_own_is_started_by_its_recipe(tmp_path: Path) -> None:
    """Given a port, its settings and its environment; asked what it is; and gone after its stop."""
    recipe = own_program(tmp_path)
    model_file = ModelFile("m", None, tmp_path / "program.py", 1)
    engine = await Launcher(recipe, load_limit_s=20).start(spec(recipe, oil=3), model_file, launch_id="l")
    try:
        (t,) = await ask(engine, "tide", tokens=5)
        assert t.complete and t.total_tokens == 5 and engine.pid is not None
        assert engine.launch.load_ns is not None and engine.launch.load_ns > 0
        assert engine.facts["version"] == "7" and "'--oil': '3'" in engine.facts["build"]
        assert engine.facts["build"].endswith("warn") and str(tmp_path) not in engine.facts["launch_line"]
    finally:
        await engine.stop()
    assert not engine.alive() and not psutil.pid_exists(engine.pid)
    with pytest.raises(EngineError, match="Panic: no oil"):
        await Launcher(recipe, load_limit_s=20).start(spec(recipe, oil=0), model_file, launch_id="m")


def test_a_program_of_ones_own_ends_with_the_tool(tmp_path: Path) -> None:
    """Although it does nothing for it, and the tool is killed."""
    own_program(tmp_path)
    code = (
        "import asyncio\nfrom pathlib import Path\nfrom tests.io import test_second_engine as t\n"
        f"folder = Path({str(tmp_path)!r})\nrecipe = t.read_recipes(folder)['lantern']\n"
        "async def main():\n"
        "    file = t.ModelFile('m', None, folder / 'program.py', 1)\n"
        "    engine = await t.Launcher(recipe).start(t.spec(recipe, oil=1), file, launch_id='l')\n"
        "    print(engine.pid, flush=True)\n"
        "    await asyncio.sleep(60)\n"
        "asyncio.run(main())\n"
    )
    with subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE) as starter:
        assert starter.stdout is not None
        pid = int(starter.stdout.readline())
        assert psutil.pid_exists(pid)
        starter.kill()
    limit = time.monotonic() + 5
    while psutil.pid_exists(pid) and psutil.Process(pid).status() != "zombie" and time.monotonic() < limit:
        time.sleep(0.05)
    assert not psutil.pid_exists(pid) or psutil.Process(pid).status() == "zombie"
