"""The commands and their arguments."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Optional

import typer

from zinc_kettle import __version__
from zinc_kettle.cli import answering, output, sharing
from zinc_kettle.cli.examples import epilog
from zinc_kettle.cli.options import JsonOption, StoreOption
from zinc_kettle.config import places
from zinc_kettle.errors import UsageError
from zinc_kettle.wiring.look import speak

app = typer.Typer(
    name="zinc-kettle",
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


@app.command()
def run(
    context: typer.Context,
    file: Annotated[Optional[Path], typer.Argument(help="A study file.")] = None,  # noqa: UP045
    store: StoreOption = None,
    as_json: JsonOption = False,
    fresh: Annotated[
        bool, typer.Option("--fresh", help="Begin a new run, even where an earlier one was stopped.")
    ] = False,
    template: Annotated[str, typer.Option("--template", help="A design, written into your studies first.")] = "",
    vary: Annotated[Optional[list[str]], typer.Option("--vary", help="Of the template: factor=levels.")] = None,  # noqa: UP045
    hold: Annotated[Optional[list[str]], typer.Option("--hold", help="Of the template: factor=level.")] = None,  # noqa: UP045
) -> None:
    """Measure a study, or what is still missing of it."""
    from zinc_kettle.cli.new import new_study
    from zinc_kettle.cli.run import run_study

    if (file is None) == (not template):
        raise UsageError("no study is named", remedy="run FILE, or run --template NAME --hold model=…")
    if file is None:
        file = new_study(template, vary or [], hold or [], "", None, store or context.obj, again=True)
    raise typer.Exit(run_study(file, store or context.obj, as_json=as_json, fresh=fresh))


@app.command()
def plan(
    context: typer.Context,
    file: Annotated[Path, typer.Argument(help="A study file.")],
    store: StoreOption = None,
    as_json: JsonOption = False,
    dry: Annotated[
        bool, typer.Option("--dry", help="Every launch line, environment and request body; keys are hidden.")
    ] = False,
) -> None:
    """Check a study file and show its cells, without measuring anything."""
    from zinc_kettle.cli.plan import plan_study, tell_dry

    if dry:
        tell_dry(file, store or context.obj, as_json=as_json)
    else:
        plan_study(file, store or context.obj, as_json=as_json)


@app.command()
def new(
    context: typer.Context,
    template: Annotated[str, typer.Option("--template", help="A design; without it all of them are listed.")] = "",
    vary: Annotated[Optional[list[str]], typer.Option("--vary", help="factor=levels, as 1,2,4 or 1..8x2.")] = None,  # noqa: UP045
    hold: Annotated[Optional[list[str]], typer.Option("--hold", help="factor=level, as model=brine-60m.")] = None,  # noqa: UP045
    name: Annotated[str, typer.Option("--name", help="Of the study; made from the template and the model.")] = "",
    out: Annotated[Optional[Path], typer.Option("--out", "-o", help="File to write; else into your studies.")] = None,  # noqa: UP045
    store: StoreOption = None,
) -> None:
    """Write a study file from a template for a usual question."""
    from zinc_kettle.cli.new import list_templates, new_study, tell_new

    if template:
        tell_new(new_study(template, vary or [], hold or [], name, out, store or context.obj))
    else:
        list_templates()


@app.command()
def synth(
    context: typer.Context,
    preset: Annotated[str, typer.Argument(help="Such as brine-60m or shoal-140m; or a name and a shape.")],
    quantization: Annotated[str, typer.Option("--quantization", help="F16, Q8_0, Q6_K, Q5_K …")] = "F16",
    to: Annotated[Optional[Path], typer.Option("--to", help="Folder to write to; the model folder by default.")] = None,  # noqa: UP045
    seed: Annotated[int, typer.Option("--seed", min=0, help="Seed of the weights.")] = 1,
    layers: Annotated[int, typer.Option(min=0)] = 0,
    width: Annotated[int, typer.Option(min=0)] = 0,
    heads: Annotated[int, typer.Option(min=0)] = 0,
    kv_heads: Annotated[int, typer.Option(min=0)] = 0,
    ffn: Annotated[int, typer.Option(min=0, help="Of one expert, where there are several.")] = 0,
    experts: Annotated[int, typer.Option(min=0, help="Experts in each layer; none by default.")] = 0,
    active: Annotated[int, typer.Option("--experts-active", min=0, help="Experts that work on one token.")] = 0,
    tokenizer: Annotated[
        str, typer.Option("--tokenizer", help="sentencepiece, or bpe, which more engines split alike.")
    ] = "sentencepiece",
    untamed: Annotated[
        bool, typer.Option("--untamed", help="Allow byte and end tokens in the output; for testing.")
    ] = False,
    store: StoreOption = None,
) -> None:
    """Make a model of random weights: real speed, meaningless answers."""
    from zinc_kettle.cli.synth import make_model

    shape = (layers, width, heads, kv_heads, ffn)
    make_model(
        preset,
        quantization,
        to,
        seed=seed,
        shape=shape,
        experts=(experts, active),
        tokenizer=tokenizer,
        untamed=untamed,
        store=store or context.obj,
    )


@app.command()
def show(
    context: typer.Context,
    study: Annotated[str, typer.Argument(help="STUDY, or STUDY:RUN for a run that is not the newest.")],
    store: StoreOption = None,
    as_json: JsonOption = False,
    time: Annotated[bool, typer.Option("--time", help="Where the time of a token goes, cell by cell.")] = False,
) -> None:
    """Show the figures of a study that was measured, without measuring anything."""
    from zinc_kettle.cli.show import show_run

    show_run(study, store or context.obj, as_json=as_json, time_split=time)


@app.command()
def steer(
    context: typer.Context,
    study: Annotated[str, typer.Argument(help="STUDY, or STUDY:RUN for a run that is not the newest.")],
    wish: Annotated[
        str,
        typer.Argument(
            help="pause, resume, stop-after (this block), skip, restore, more, add-level, first, in-turn, on-failure."
        ),
    ],
    what: Annotated[
        str,
        typer.Argument(
            help="factor=level,… : the cells that are meant, or the new level; of on-failure: go-on, again or ask."
        ),
    ] = "",
    count: Annotated[int, typer.Option("--count", help="Of more: how many further repeats.")] = 2,
    store: StoreOption = None,
) -> None:
    """Steer a run while it is measured, here or in another terminal; every decision is kept."""
    from zinc_kettle.cli.steer import steer_run

    steer_run(study, wish, what, count, store or context.obj)


@app.command()
def watch(
    context: typer.Context,
    study: Annotated[str, typer.Argument(help="STUDY, or STUDY:RUN; else the one that is running.")] = "",
    store: StoreOption = None,
) -> None:
    """Look on while a study is measured in another terminal."""
    from zinc_kettle.cli.watch import watch_run

    watch_run(study, store or context.obj)


@app.command()
def answers(
    context: typer.Context,
    study: Annotated[str, typer.Argument(help="STUDY, or STUDY:RUN for a run that is not the newest.")],
    cell: Annotated[str, typer.Option("--cell", help="factor=level,… for one cell only.")] = "",
    mark: Annotated[
        str, typer.Option("--mark", help="REQUEST=MARK: cut short, rambling, repeats itself, ignored the ask, fine.")
    ] = "",
    store: StoreOption = None,
    as_json: JsonOption = False,
) -> None:
    """List what was written in a run and what is said of it, or mark one answer; marked again it is no longer."""
    from zinc_kettle.cli.answers import tell_answers

    tell_answers(study, cell, mark, store or context.obj, as_json=as_json)


@app.command()
def note(
    context: typer.Context,
    study: Annotated[str, typer.Argument(help="STUDY, or STUDY:RUN for a run that is not the newest.")],
    text: Annotated[str, typer.Argument(help="The words to keep.")],
    cell: Annotated[str, typer.Option("--cell", help="factor=level,… for a note on one cell.")] = "",
    store: StoreOption = None,
) -> None:
    """Keep a note with a run, or with one of its cells."""
    from zinc_kettle.cli.answers import keep_note

    keep_note(study, text, cell, store or context.obj)


@app.command()
def acknowledge(
    context: typer.Context,
    study: Annotated[str, typer.Argument(help="STUDY, or STUDY:RUN for a run that is not the newest.")],
    caution: Annotated[str, typer.Argument(help="Code of the caution, such as noisy.")],
    note: Annotated[str, typer.Option("--note", help="Why it is no worry.")],
    cell: Annotated[str, typer.Option("--cell", help="factor=level,… for some cells only.")] = "",
    store: StoreOption = None,
) -> None:
    """Say why a caution is no worry; it stays, and your reason stands beside it."""
    from zinc_kettle.cli.acknowledge import acknowledge_caution

    acknowledge_caution(study, caution, note, cell, store or context.obj)


for _command in (
    answering.duel,
    answering.ladder,
    answering.capacity,
    answering.chart,
    answering.lineup,
    sharing.report,
    sharing.table,
    sharing.pack,
    sharing.unpack,
    sharing.gate,
    sharing.remove,
    sharing.restore,
    sharing.settings,
    sharing.doctor,
):
    app.command()(_command)


@app.command()
def fit(
    context: typer.Context,
    models: Annotated[Optional[list[Path]], typer.Argument(help="Model files or folders.")] = None,  # noqa: UP045
    rig: Annotated[str | None, typer.Option("--rig", help="A rig from the rig file; this machine by default.")] = None,
    shape: Annotated[
        str, typer.Option("--shape", help="layers=40,heads=40,ffn=13824,vocab=32000 …, instead of a file.")
    ] = "",
    weights: Annotated[str, typer.Option("--weights", help="Storage type of the matrices of --shape.")] = "F16",
    plain_ffn: Annotated[
        bool, typer.Option("--plain-ffn", help="The model of --shape has two feed-forward matrices, not three.")
    ] = False,
    tied: Annotated[
        bool, typer.Option("--tied", help="The model of --shape uses its input embedding as its output matrix.")
    ] = False,
    tokens: Annotated[int, typer.Option("--context", min=16, help="Tokens of context per slot.")] = 2048,
    slots: Annotated[int, typer.Option("--slots", min=1, max=4096, help="Requests held at once.")] = 1,
    cache: Annotated[str, typer.Option("--cache-precision", help="f32, f16, q8_0 or q4_0.")] = "f16",
    micro_batch: Annotated[int, typer.Option("--micro-batch", min=1, help="Tokens computed at once.")] = 512,
    unified: Annotated[bool, typer.Option("--unified", help="All slots share one KV cache.")] = False,
    copied: Annotated[
        bool, typer.Option("--copied", help="Copy the weights into memory instead of mapping the file.")
    ] = False,
    device_layers: Annotated[Optional[int], typer.Option("--device-layers", min=0)] = None,  # noqa: UP045
    experts_in_main: Annotated[bool, typer.Option("--experts-in-main", help="Keep experts in main memory.")] = False,
    threads: Annotated[Optional[int], typer.Option("--threads", min=1, help="Threads for the predicted speed.")] = None,  # noqa: UP045
    pace: Annotated[
        Optional[float],  # noqa: UP045
        typer.Option("--pace", min=0, help="Decode speed that is needed, tokens per second; 0 for any."),
    ] = None,
    store: StoreOption = None,
    as_json: JsonOption = False,
) -> None:
    """Show what fits on a rig and how fast it may run, before anything is loaded."""
    from zinc_kettle.cli.fit import parse_shape, show_fit, wish_from

    wish = wish_from(
        context=tokens,
        slots=slots,
        cache=cache,
        micro_batch=micro_batch,
        unified=unified,
        copied=copied,
        device_layers=device_layers,
        experts_in_main=experts_in_main,
    )
    given = parse_shape(shape, weight_type=weights, gated=not plain_ffn, tied=tied) if shape else None
    show_fit(models or [], rig, store or context.obj, wish, shape=given, threads=threads, as_json=as_json, pace=pace)


@app.command()
def engines(
    context: typer.Context,
    engine: Annotated[Optional[str], typer.Argument(help="Show the settings of this one.")] = None,  # noqa: UP045
    store: StoreOption = None,
    as_json: JsonOption = False,
) -> None:
    """List the engines there are recipes for, or the settings of one."""
    from zinc_kettle.cli.engines import list_engines, tell_engine

    if engine is None:
        list_engines(store or context.obj, as_json=as_json)
    else:
        tell_engine(engine, store or context.obj, as_json=as_json)


@app.command()
def probe(
    context: typer.Context,
    rig: Annotated[Optional[str], typer.Argument(help="A rig from the rig file; this machine by default.")] = None,  # noqa: UP045
    facts_only: Annotated[
        bool, typer.Option("--facts-only", help="Only gather facts; put no load on the machine.")
    ] = False,
    store: StoreOption = None,
    as_json: JsonOption = False,
) -> None:
    """Gather a rig's facts and measure its memory bandwidth and arithmetic rate."""
    from zinc_kettle.cli.probe import probe_rig

    raise typer.Exit(probe_rig(rig, store or context.obj, facts_only=facts_only, as_json=as_json))


@app.command()
def rehearse(
    names: Annotated[Optional[list[str]], typer.Argument(help="Simulated rigs; all by default.")] = None,  # noqa: UP045
    model: Annotated[str, typer.Option("--model", help="Which made-up model to load.")] = "brine-1b",
    quantization: Annotated[str, typer.Option("--quantization", help="Its storage type.")] = "Q8_0",
    listing: Annotated[bool, typer.Option("--list", help="List the rigs and models, and exit.")] = False,
) -> None:
    """Start simulated rigs as HTTP servers; what they give is made up and labelled so."""
    from zinc_kettle.cli.rehearse import list_rigs
    from zinc_kettle.cli.rehearse import rehearse as serve

    if listing:
        list_rigs()
    else:
        serve(names or [], model, quantization)


@app.command()
def demo(
    context: typer.Context,
    walk: Annotated[bool, typer.Option("--walk", help="A guided walk of four minutes; any key takes over.")] = False,
    plain: Annotated[bool, typer.Option("--plain", help="Line by line, for screen readers.")] = False,
    store: StoreOption = None,
) -> None:
    """Make small models and open the screen with finished studies and one ready to run."""
    from zinc_kettle.cli.demo import open_demo

    open_demo(store or context.obj, walk=walk, plain=plain)


for _info in app.registered_commands:
    assert _info.callback is not None
    _info.epilog = epilog(_info.name or _info.callback.__name__)
