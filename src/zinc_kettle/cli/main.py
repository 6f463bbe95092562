"""The entry point: arguments, commands, and one map from errors to exit codes."""

from __future__ import annotations

import os
import sys
from pathlib import Path
from typing import Annotated, Optional

import typer

from zinc_kettle import __version__
from zinc_kettle.cli import output
from zinc_kettle.errors import KettleError

app = typer.Typer(
    name="zinc-kettle",
    help="Measures how fast local language models run, and says how sure it is. Without a command it opens the screen.",
    no_args_is_help=False,
    add_completion=False,
    pretty_exceptions_enable=False,
    rich_markup_mode=None,
)

StoreOption = Annotated[
    Optional[Path],  # noqa: UP045 - typer reads the annotation at run time
    typer.Option("--store", metavar="PATH", help="The store to use instead of the one in the data folder."),
]
JsonOption = Annotated[bool, typer.Option("--json", help="JSON Lines on standard output; see docs/output.md.")]


@app.callback(invoke_without_command=True)
def root(
    context: typer.Context,
    store: StoreOption = None,
    version: Annotated[bool, typer.Option("--version", help="Say the version and end.")] = False,
) -> None:
    """Open the screen, or run a command."""
    if version:
        output.line(f"zinc-kettle {__version__}")
        raise typer.Exit
    context.obj = store
    if context.invoked_subcommand is None:
        from zinc_kettle.cli.screen import open_screen

        open_screen(store)


@app.command()
def run(
    context: typer.Context,
    file: Annotated[Path, typer.Argument(help="A study file.")],
    store: StoreOption = None,
    as_json: JsonOption = False,
    fresh: Annotated[bool, typer.Option("--fresh", help="Begin anew instead of resuming a stopped run.")] = False,
) -> None:
    """Measure a study, or what is still missing of it."""
    from zinc_kettle.cli.run import run_study

    raise typer.Exit(run_study(file, store or context.obj, as_json=as_json, fresh=fresh))


@app.command()
def plan(
    context: typer.Context,
    file: Annotated[Path, typer.Argument(help="A study file.")],
    store: StoreOption = None,
    as_json: JsonOption = False,
) -> None:
    """Check a study file and show its cells, without measuring anything."""
    from zinc_kettle.cli.plan import plan_study

    plan_study(file, store or context.obj, as_json=as_json)


@app.command()
def synth(
    context: typer.Context,
    preset: Annotated[str, typer.Argument(help="brine-15m, brine-60m, brine-250m, brine-1b; or a name and a shape.")],
    quantization: Annotated[str, typer.Option("--quantization", help="F16, Q8_0, Q6_K, Q5_K …")] = "F16",
    to: Annotated[Optional[Path], typer.Option("--to", help="Folder; the model folder otherwise.")] = None,  # noqa: UP045
    seed: Annotated[int, typer.Option("--seed", min=0, help="Seed of the weights.")] = 1,
    layers: Annotated[int, typer.Option(min=0)] = 0,
    width: Annotated[int, typer.Option(min=0)] = 0,
    heads: Annotated[int, typer.Option(min=0)] = 0,
    kv_heads: Annotated[int, typer.Option(min=0)] = 0,
    ffn: Annotated[int, typer.Option(min=0)] = 0,
    untamed: Annotated[bool, typer.Option("--untamed", help="May say byte and end tokens; for testing.")] = False,
    store: StoreOption = None,
) -> None:
    """Make a model of random weights: real speed, meaningless answers."""
    from zinc_kettle.cli.synth import make_model

    shape = (layers, width, heads, kv_heads, ffn)
    make_model(preset, quantization, to, seed=seed, shape=shape, untamed=untamed, store=store or context.obj)


@app.command()
def chart(
    context: typer.Context,
    study: Annotated[str, typer.Argument(help="Name or id of a study in the store.")],
    out: Annotated[Path, typer.Option("--out", "-o", help="File to write; .svg or .pdf.")],
    measure: Annotated[str, typer.Option("--measure", help="Which measure; see docs/output.md.")] = "decode",
    kind: Annotated[str, typer.Option("--kind", help="map or lines.")] = "map",
    store: StoreOption = None,
) -> None:
    """Draw a study as SVG or PDF."""
    from zinc_kettle.cli.chart import draw_chart

    draw_chart(study, out, measure=measure, kind=kind, store=store or context.obj)


@app.command()
def demo(context: typer.Context, store: StoreOption = None) -> None:
    """Make small models and open the screen with a finished study and one ready to run."""
    from zinc_kettle.cli.demo import open_demo

    open_demo(store or context.obj)


def main() -> None:
    """Run the command line; expected errors become a sentence and an exit code."""
    try:
        app()
    except KettleError as error:
        output.complain(error)
        sys.exit(error.exit_code)
    except BrokenPipeError:
        # Whoever read our output has gone; nothing is left to say to them.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        sys.exit(1)


if __name__ == "__main__":
    main()
