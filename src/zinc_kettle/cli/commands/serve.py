"""`serve`: run the engine of a cell, with exactly its settings, for other programs, until interrupted."""

from __future__ import annotations

import asyncio
import contextlib
from dataclasses import asdict
from typing import Annotated

import typer

from zinc_kettle.app.build import open_store, shipped_stores
from zinc_kettle.app.serving import Serving
from zinc_kettle.app.side_names import Sides
from zinc_kettle.cli import output
from zinc_kettle.cli.options import JsonOption, StoreOption
from zinc_kettle.cli.signals import ending_signals
from zinc_kettle.config import places
from zinc_kettle.core.compare.sides import Side
from zinc_kettle.core.plan.factors import label
from zinc_kettle.errors import EngineError, UsageError

LOOK_S = 0.5
"""Between two looks whether it still runs."""
EXAMPLES = (
    "zinc-kettle serve threads-harbour@threads=4",
    "zinc-kettle serve which-quantization:2@quantization=Q4_0 --json",
)


async def _serve(side: Side, serving: Serving, *, as_json: bool) -> None:
    stop = asyncio.Event()
    for number in ending_signals():
        with contextlib.suppress(NotImplementedError):
            asyncio.get_running_loop().add_signal_handler(number, stop.set)
    starting = asyncio.ensure_future(serving.start(side.results, side.cells()[0]))
    stopping = asyncio.ensure_future(stop.wait())
    try:
        await asyncio.wait({starting, stopping}, return_when=asyncio.FIRST_COMPLETED)
        if not starting.done():
            return
        served = starting.result()
        if as_json:
            output.json_line(asdict(served))
        for line in () if as_json else served.lines:
            output.line(line)
        output.note("Serving until interrupted with Ctrl-C.")
        while not stop.is_set():
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(stop.wait(), LOOK_S)
            if not serving.alive and not stop.is_set():
                raise EngineError("the engine has ended by itself", why=serving.last_words())
    finally:
        for task in (starting, stopping):
            task.cancel()
        await asyncio.gather(starting, stopping, return_exceptions=True)
        await serving.end()


def command(
    cell: Annotated[str, typer.Argument(help="A cell: STUDY[:RUN]@factor=level,…")],
    store: StoreOption = None,
    as_json: JsonOption = False,
) -> None:
    """Serve the engine of a cell, with exactly its settings, to other programs; Ctrl-C ends it."""
    where = places(store)
    kept = open_store(where)
    side = Sides(where, lambda: kept, shipped=lambda: shipped_stores(where)).side(cell)
    if len(side.cells()) != 1:
        example = ",".join(f"{n}={label(v)}" for n, v in side.results.cells[0].cell.levels.items())
        raise UsageError(f"{len(side.cells())} cells are {cell!r}", remedy=f"name one: STUDY@{example}")
    asyncio.run(_serve(side, Serving(where), as_json=as_json))
