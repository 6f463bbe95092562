"""`demo`: small models, a finished study, and one ready to run."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from zinc_kettle.app.build import model_folder, read_study
from zinc_kettle.cli import output
from zinc_kettle.cli.options import StoreOption
from zinc_kettle.cli.screen import on_terminal, show
from zinc_kettle.config import Places, demo_places, demo_studies
from zinc_kettle.core.plan.recipe import further_models
from zinc_kettle.core.units import byte_size
from zinc_kettle.formats.models import check_disk


def open_demo(store: Path | None, *, walk: bool = False, plain: bool = False) -> None:
    """Make what is missing, then open the screen; without a terminal say what to run.

    Raises:
        ModelError: There is no room for the models.
    """
    where = demo_places(store)
    if plain:
        from zinc_kettle.cli.plain import talk

        talk(None, extra=demo_studies(), where=where)
        return
    _make_models(where)
    if on_terminal():
        show(where, demo_studies(), walk=walk)
    output.line("There is no terminal here, so the screen stays closed. On a terminal:")
    output.line("  zinc-kettle demo")
    output.line("Without one, measure the study that is ready, in a few minutes:")
    for path in demo_studies():
        output.line(f"  zinc-kettle run {_near(path)} --store {where.store}")


def _make_models(where: Places) -> None:
    folder = model_folder(where)
    wanted = {}
    for path in demo_studies():
        for cell in read_study(path, where)[0].cells:
            spec = cell.launch
            if spec.rig is not None:
                continue  # simulated rigs have their own models
            for key in ((spec.model, spec.quantization), *further_models(cell.engine, spec.levels).values()):
                if folder.find(*key) is None:
                    wanted[key] = folder.planned_bytes(*key)
    if wanted:
        need = sum(wanted.values())
        output.note(
            f"Making {len(wanted)} small models of random weights, {byte_size(need)} of disk, in {where.models}"
        )
        check_disk(where.models, need)
    for (model, quantization), size in wanted.items():
        meter = output.Meter()
        what = f"  {model} at {quantization}, {byte_size(size)}"
        folder.make(model, quantization, lambda done, total, m=meter, w=what: m.now(f"{w}: {done / total:.0%}"))  # type: ignore[misc]
        meter.done(f"{what}: done")


def _near(path: Path) -> str:
    try:
        return str(path.relative_to(Path.cwd()))
    except ValueError:
        return str(path)


EXAMPLES = (
    "zinc-kettle demo",
    "zinc-kettle demo --walk",
)


def command(
    walk: Annotated[bool, typer.Option("--walk", help="A guided walk of four minutes; any key takes over.")] = False,
    plain: Annotated[bool, typer.Option("--plain", help="Line by line, for screen readers.")] = False,
    store: StoreOption = None,
) -> None:
    """Make small models and open the screen with finished studies and one ready to run."""
    open_demo(store, walk=walk, plain=plain)
