"""`decide`: what a study decides, in a sentence, with what it rests on."""

from __future__ import annotations

from typing import Annotated

import typer

from zinc_kettle.app.build import open_store, shipped_stores
from zinc_kettle.app.side_names import Sides
from zinc_kettle.cli import output
from zinc_kettle.cli.options import RUN, JsonOption, StoreOption
from zinc_kettle.config import places
from zinc_kettle.core.text import capitalised
from zinc_kettle.present.answer import answer, main_measure
from zinc_kettle.present.decided import decide_json, decide_rows
from zinc_kettle.present.findings import known_measure

EXAMPLES = ("zinc-kettle decide which-rig", "zinc-kettle decide which-rig --by ttft --json")


def command(
    study: Annotated[str, typer.Argument(help=f"{RUN}.")],
    store: StoreOption = None,
    as_json: JsonOption = False,
    by: Annotated[str, typer.Option(help="The measure to decide by, in place of the study's own.")] = "",
) -> None:
    """Show what a study decides: the best of what is chosen among, by how much, and what rules others out."""
    where = places(store)
    kept = open_store(where)
    results = Sides(where, lambda: kept, shipped=lambda: shipped_stores(where)).results(study)
    name = known_measure(by or main_measure(results.study))
    if as_json:
        output.json_line(decide_json(results, name, answer(results, name)))
        return
    output.line(results.study.question)
    output.line(f"{capitalised(answer(results, name))}.")
    heads, rows = decide_rows(results, name)
    if rows:
        output.line()
        output.table(heads, rows)
