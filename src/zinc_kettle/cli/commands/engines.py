"""`engines`: which engines there are recipes for, and the settings of one."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Optional

import typer

from zinc_kettle.app.build import recipe_book
from zinc_kettle.app.fleet import recipe_named
from zinc_kettle.cli import output
from zinc_kettle.cli.options import JsonOption, StoreOption
from zinc_kettle.config import places
from zinc_kettle.core.plan.factors import Factor
from zinc_kettle.core.plan.recipe import Recipe, Setting
from zinc_kettle.formats.recipe import shipped


def list_engines(store: Path | None, *, as_json: bool) -> None:
    """Every engine there is a recipe for.

    Raises:
        StudyFileError: A recipe of the person's own cannot be used.
    """
    found = recipe_book(places(store))
    if as_json:
        for recipe in found.values():
            output.json_line(_json(recipe))
        return
    rows = [
        (
            recipe.name,
            _reach(recipe),
            str(len(recipe.engine.settings)),
            "comes with the tool" if recipe.name in shipped() else "your own",
            recipe.meaning,
        )
        for recipe in found.values()
    ]
    output.table(("engine", "how it is reached", "settings", "recipe", "what it is"), rows)


def tell_engine(name: str, store: Path | None, *, as_json: bool) -> None:
    """The settings of one engine: each is a factor of a study.

    Raises:
        UsageError: There is no such engine.
    """
    recipe = recipe_named(recipe_book(places(store)), name)
    if as_json:
        output.json_line(_json(recipe))
        return
    output.line(f"{recipe.name}: {recipe.meaning or recipe.title}; {_reach(recipe)}")
    if not recipe.engine.settings:
        output.line("It has no settings that can be varied.")
        return
    rows = [
        (
            setting.name,
            levels_of(setting),
            "–" if setting.default is None else setting.word(setting.default),
            "yes" if setting.kind == "launch" else "no",
            setting.meaning,
        )
        for setting in recipe.engine.settings
    ]
    output.table(("setting", "levels", "default", "reload", "meaning"), rows)


def levels_of(factor: Factor) -> str:
    """What a factor may be set to, in a few words."""
    if factor.choices:
        return ", ".join(factor.choices)
    words = {"switch": "true, false", "text": "text", "model": "a model"}
    return words.get(factor.type) or f"{factor.low:,} to {factor.high:,}"


def _reach(recipe: Recipe) -> str:
    if recipe.start is not None:
        return "started here or over SSH" if recipe.start.launcher else "started here"
    return f"runs at {recipe.endpoint.url}" if recipe.endpoint is not None else "runs already, at an address"


def _json(recipe: Recipe) -> dict[str, object]:
    return {
        "engine": recipe.name,
        "meaning": recipe.meaning,
        "reached": _reach(recipe),
        "settings": [_setting_json(setting) for setting in recipe.engine.settings],
    }


def _setting_json(setting: Setting) -> dict[str, object]:
    return {
        "name": setting.name,
        "type": setting.type,
        "low": setting.low,
        "high": setting.high,
        "choices": list(setting.choices),
        "default": setting.default,
        "reload": setting.kind == "launch",
        "role": setting.role,
        "meaning": setting.meaning,
    }


EXAMPLES = (
    "zinc-kettle engines",
    "zinc-kettle engines built-in",
)


def command(
    engine: Annotated[Optional[str], typer.Argument(help="Show the settings of this one.")] = None,  # noqa: UP045
    store: StoreOption = None,
    as_json: JsonOption = False,
) -> None:
    """List the engines there are recipes for, or the settings of one."""
    if engine is None:
        list_engines(store, as_json=as_json)
    else:
        tell_engine(engine, store, as_json=as_json)
