"""A person's own recipe for a third engine, from the docs alone."""

from __future__ import annotations

import hashlib
import re
from pathlib import Path

from tests.cli import kettle
from tests.engines import OLDER
from zinc_kettle.formats.recipe import read_recipes
from zinc_kettle.formats.toml import parse_toml
from zinc_kettle.store.reading import find, open_run
from zinc_kettle.store.store import KettleStore

DOCS = Path(__file__).parents[2] / "docs" / "recipes.md"
STUDY = """format = 1
name = "third"
question = "Does it write faster if it is freer?"
[vary]
engine = ["lantern"]
creativity = [10, 90]
[hold]
prompt_tokens = 16
output_tokens = 6
[repeats]
count = 2
requests = 2
"""
VERSIONS = """format = 1
name = "versions"
question = "Is this month's engine faster than July's?"
[vary]
engine = ["built-in", "built-in-2026-07"]
quantization = ["Q8_0", "Q4_0"]
[hold]
model = "brine-15m"
prompt_tokens = 48
output_tokens = 8
context = 96
[repeats]
count = 2
"""


def examples() -> dict[str, str]:
    """The recipes in the docs, by the file name in their first line."""
    blocks = re.findall(r"```toml\n# recipes/([\w-]+)\.toml\n(.*?)```", DOCS.read_text(), re.DOTALL)
    assert len(blocks) == 3
    return dict(blocks)


def test_every_recipe_in_the_docs_is_one(tmp_path: Path) -> None:
    """As it stands there."""
    for name, text in examples().items():
        (tmp_path / f"{name}.toml").write_text(text)
    found = read_recipes(tmp_path)
    assert set(examples()) < set(found) and found["my-server"].start is not None


def test_a_third_engine_is_measured_with_the_recipe_of_the_docs(paced: str, tmp_path: Path) -> None:
    """Its setting is varied without a reload, its own clock is read, and a setting it cannot have is refused."""
    home = tmp_path / "home"
    (home / "recipes").mkdir(parents=True)
    recipe = examples()["lantern"].replace("http://127.0.0.1:8090", paced)
    assert parse_toml(recipe, file="x")["endpoint"]["url"] == paced
    (home / "recipes" / "lantern.toml").write_text(recipe)
    study = tmp_path / "third.study.toml"
    study.write_text(STUDY)
    told = kettle(home, "run", study)
    assert told.returncode == 0, told.stderr
    assert told.stdout.count("measured 2/2") == 2 and "creativity" in told.stdout
    study.write_text(STUDY.replace("[hold]", "[hold]\nthreads = 2"))
    told = kettle(home, "run", study)
    assert told.returncode == 2 and "threads is not a factor" in told.stderr
    (home / "recipes" / "lantern.toml").write_text(recipe.replace("creativity]", "creativity]\nlou = 3"))
    told = kettle(home, "run", study)
    assert told.returncode == 2 and "settings.creativity.lou is not known" in told.stderr
    assert "Try: low" in told.stderr and kettle(home, "engines", "mistralrs").returncode == 2
    (home / "recipes" / "lantern.toml").write_text(recipe)
    assert '"engine": "lantern"' in kettle(home, "engines", "--json").stdout
    assert "creativity" in kettle(home, "engines", "lantern").stdout


def test_two_versions_stand_in_one_map(home: Path, tmp_path: Path) -> None:
    """As the docs say: a recipe based on the built-in one, which names the Python of the older version."""
    mine = tmp_path / "home"
    (mine / "recipes").mkdir(parents=True)
    (mine / "models").symlink_to(home / "models")
    older = examples()["built-in-2026-07"].replace("~/engines/2026-07/bin/python", str(OLDER))
    (mine / "recipes" / "built-in-2026-07.toml").write_text(older)
    study = tmp_path / "versions.study.toml"
    study.write_text(VERSIONS)
    told = kettle(mine, "run", study, "--json")
    assert told.returncode == 0, told.stderr
    shown = kettle(mine, "show", "versions")
    assert shown.stdout.count("measured 2/2") == 4
    store = KettleStore(mine / "kettle.db")
    cells = open_run(store, find(store, "versions")).cells
    versions = {c.cell.levels["engine"]: c.kept.engine["version"] for c in cells}
    assert len(set(versions.values())) == 2
    files = {(c.kept.engine["file"]["name"], c.kept.engine["file"]["sha256"]) for c in cells}
    used = [home / "models" / name for name in ("brine-15m.Q8_0.gguf", "brine-15m.Q4_0.gguf")]
    assert files == {(p.name, hashlib.sha256(p.read_bytes()).hexdigest()) for p in used}
