"""The tool on the command line: a command is a file in `commands`, and is imported when it is asked for."""

from __future__ import annotations

import ast
import pkgutil
from importlib import import_module
from pathlib import Path
from typing import Annotated, Any, Optional

import typer
from typer.core import TyperGroup

from zinc_kettle import __version__
from zinc_kettle.app.display import speak
from zinc_kettle.cli import commands, output
from zinc_kettle.cli.options import StoreOption
from zinc_kettle.config import places

FOLDER = Path(commands.__path__[0])
NAMES = tuple(sorted(module.name for module in pkgutil.iter_modules([str(FOLDER)])))
"""Of all commands."""


class Commands(TyperGroup):
    """All commands, each imported when it is asked for."""

    def list_commands(self, ctx: Any) -> list[str]:
        """Their names."""
        return list(NAMES)

    def get_command(self, ctx: Any, cmd_name: str) -> Any:
        """One of them, with its examples below its help."""
        return command_of(cmd_name) if cmd_name in NAMES else None

    def format_commands(self, ctx: Any, formatter: Any) -> None:
        """The list of all: from what stands in their files, for importing them would take a second."""
        with formatter.section("Commands"):
            formatter.write_dl([(name, purpose(name)) for name in NAMES])


def command_of(name: str) -> Any:
    """A command by its name."""
    module = import_module(f"{commands.__name__}.{name}")
    one = typer.Typer(add_completion=False, pretty_exceptions_enable=False, rich_markup_mode=None)
    one.command(name, epilog="\n\n".join(("Examples:", *module.EXAMPLES)))(module.command)
    return typer.main.get_command(one)


def purpose(name: str) -> str:
    """What a command is for: the first paragraph of its function's docstring."""
    tree = ast.parse((FOLDER / f"{name}.py").read_text(encoding="utf-8"))
    (function,) = (node for node in tree.body if isinstance(node, ast.FunctionDef) and node.name == "command")
    return (ast.get_docstring(function) or "").partition("\n\n")[0].replace("\n", " ")


app = typer.Typer(
    name="zinc-kettle",
    cls=Commands,
    help="Measures how fast local language models run, and says how sure it is. Without a command it opens the screen.",
    no_args_is_help=False,
    add_completion=True,
    pretty_exceptions_enable=False,
    rich_markup_mode=None,
)


@app.callback(invoke_without_command=True)
def root(
    context: typer.Context,
    store: StoreOption = None,
    models: Annotated[
        Optional[list[Path]],  # noqa: UP045
        typer.Option("--models", help="A folder to look for model files in, besides the usual ones."),
    ] = None,
    plain: Annotated[
        bool, typer.Option("--plain", help="Line by line, for screen readers: nothing is drawn, moved or coloured.")
    ] = False,
    version: Annotated[bool, typer.Option("--version", help="Print the version and exit.")] = False,
) -> None:
    """Open the screen, or run a command."""
    if version:
        output.line(f"zinc-kettle {__version__}")
        raise typer.Exit
    context.obj = store
    speak(places(store))
    if context.invoked_subcommand is None and plain:
        from zinc_kettle.cli.plain import talk

        raise typer.Exit(talk(store))
    if context.invoked_subcommand is None:
        from zinc_kettle.cli.screen import open_screen

        open_screen(store, models or [])
