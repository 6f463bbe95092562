"""A second real engine behind its recipe, two versions of the first one, and what the first one's settings do."""

from __future__ import annotations

import asyncio
import sys
from pathlib import Path

import pytest

from tests.build import RECIPES, spec
from tests.io.test_engine import ask
from zinc_kettle.core.factors import Level
from zinc_kettle.core.recipe import Recipe
from zinc_kettle.core.timeline import Timeline
from zinc_kettle.engines.launcher import LaunchedEngine, Launcher
from zinc_kettle.errors import EngineError
from zinc_kettle.formats.models import ModelFolder
from zinc_kettle.formats.recipe import read_recipes
from zinc_kettle.ports.models import ModelFile

OLDER = Path(sys.prefix) / "older-engine" / "bin" / "python"
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
    recipe: Recipe, file: ModelFile, levels: dict[str, Level] | None = None, *, tokens: int = 32, count: int = 2,
    draft: ModelFile | None = None,
) -> list[Timeline]:  # fmt: skip
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
    "flash attention on": {"flash_attention": True}, "flash attention off": {"flash_attention": False},
    "one cache": {"one_cache": True, "slots": 2}, "no repacking": {"weight_repacking": False},
    "device layers": {"device_layers": 0}, "experts in main memory": {"experts_in_main": True},
}  # fmt: skip


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
        levels: dict[str, Level] = {
            "draft_model": "brine-15m.Q8_0", "draft_length": 4, "draft_accepted": percent
        }  # fmt: skip
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
