"""`plan`: show what a study would do."""

from __future__ import annotations

import asyncio
import json
from pathlib import Path
from typing import Annotated

import typer

from zinc_kettle.app.build import model_sizes, open_store, read_study
from zinc_kettle.app.planning import cores_here
from zinc_kettle.app.rig_service import RigService
from zinc_kettle.cli import output
from zinc_kettle.cli.options import JsonOption, StoreOption
from zinc_kettle.config import places
from zinc_kettle.core.checks.doubts import doubts
from zinc_kettle.core.plan.factors import HERE
from zinc_kettle.core.plan.study import rigs_of
from zinc_kettle.core.results import RunInfo, StudyResults
from zinc_kettle.present.json import cell_json
from zinc_kettle.present.planned import costs_of, dropped_text, planned_cells
from zinc_kettle.present.table import plan_line, plan_rows


def plan_study(file: Path, store_path: Path | None, *, as_json: bool) -> None:
    """Check a study file and show its cells.

    Raises:
        UsageError: The file cannot be used.
    """
    where = places(store_path, study=file)
    study, source = read_study(file, where)
    results = StudyResults(study, RunInfo(source=source))
    if as_json:
        for cell in results.cells:
            output.json_line(cell_json(results, cell))
        return
    sizes = model_sizes(study, where)
    rigs = RigService(where, lambda: open_store(where))
    if not rigs_of(study) and study.endpoint is None:
        asyncio.run(rigs.ready(HERE))
    planned = planned_cells(study, sizes, rigs.predicted(study))
    output.line(study.question)
    costs = costs_of(study, planned)
    output.line(plan_line(results, costs.launches, costs.seconds))
    if costs.dropped is not None:
        output.line(f"▲ {dropped_text(results, costs)}")
    for doubt in doubts(study, None if rigs_of(study) else cores_here()):
        output.line(f"▲ {doubt.what}: {doubt.why}. Try: {doubt.remedy}")
    output.line()
    output.table(*plan_rows(results, planned))


def tell_dry(file: Path, store_path: Path | None, *, as_json: bool) -> None:
    """Show what a study would start and send, to the letter.

    Raises:
        UsageError: The file cannot be used.
    """
    from zinc_kettle.app.dry import dry_run

    where = places(store_path, study=file)
    study, _ = read_study(file, where)
    for launch in dry_run(study, where):
        if as_json:
            for cells, body in launch.requests:
                output.json_line(
                    {
                        "line": launch.line,
                        "environment": dict(launch.environment),
                        "headers": list(launch.headers),
                        "cells": [dict(cell.levels) for cell in cells],
                        "body": body,
                    }
                )
            continue
        output.line(launch.line)
        for name, value in launch.environment.items():
            output.line(f"  {name}={value}")
        for header in launch.headers:
            output.line(f"  {header}")
        for cells, body in launch.requests:
            more = f" and {len(cells) - 1} more" if len(cells) > 1 else ""
            output.line(f"  {cells[0].title}{more}:")
            output.line(f"    {json.dumps(body, ensure_ascii=False)}")
        output.line()


EXAMPLES = (
    "zinc-kettle plan night.study.toml",
    "zinc-kettle plan night.study.toml --dry",
)


def command(
    file: Annotated[Path, typer.Argument(help="A study file.")],
    store: StoreOption = None,
    as_json: JsonOption = False,
    dry: Annotated[
        bool, typer.Option("--dry", help="Every launch line, environment and request body; keys are hidden.")
    ] = False,
) -> None:
    """Check a study file and show its cells, without measuring anything."""
    if dry:
        tell_dry(file, store, as_json=as_json)
    else:
        plan_study(file, store, as_json=as_json)
