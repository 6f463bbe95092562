"""The line an engine's program is started with, from its recipe; never a shell's."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import PurePath

from zinc_kettle.core.plan.factors import Level
from zinc_kettle.core.plan.recipe import Recipe, arguments
from zinc_kettle.errors import EngineError


def launch_line(
    recipe: Recipe, levels: Mapping[str, Level], *, model: str, port: int, python: str, launcher: str
) -> list[str]:
    """The argument vector.

    Args:
        recipe: Of the engine.
        levels: Its settings; those that name a model hold its path.
        model: Path of the model.
        port: Where it is to listen; 0 lets a launcher of ours choose.
        python: The Python the engine lives in.
        launcher: Path of our launcher.

    Raises:
        EngineError: The recipe starts nothing.
    """
    if recipe.start is None:
        raise EngineError(
            f"{recipe.name} cannot be started",
            why="its recipe says only how a running one is asked",
            remedy="give the address of a running one, or add [start] to the recipe",
        )
    places = {"model": model, "port": str(port), "python": python, "launcher": launcher}
    return [*(part.format(**places) for part in recipe.start.argv), *arguments(recipe.engine, levels)]


def shown_line(line: Sequence[str]) -> str:
    """The launch line as it is kept and shown: without paths of this machine."""
    return " ".join(PurePath(part).name if part.startswith(("/", "~")) else part for part in _plain(line))


def _plain(line: Sequence[str]) -> list[str]:
    """With `python` for whichever it was; a program sent as text is not shown."""
    shown = list(line)
    if PurePath(shown[0]).name.startswith("python"):
        shown[0] = "python"
    return shown
