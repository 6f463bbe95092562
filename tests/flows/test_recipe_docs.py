"""A person's own recipe for a third engine, from the docs alone."""

from __future__ import annotations

import re
from pathlib import Path

from tests.flows.test_cli import kettle
from zinc_kettle.formats.recipe import read_recipes
from zinc_kettle.formats.toml import parse_toml

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
    assert "did you mean low" in told.stderr and kettle(home, "engines", "mistralrs").returncode == 2
    (home / "recipes" / "lantern.toml").write_text(recipe)
    assert '"engine": "lantern"' in kettle(home, "engines", "--json").stdout
    assert "creativity" in kettle(home, "engines", "lantern").stdout
