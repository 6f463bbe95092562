"""Scores over the tasks of the suite: of one's own runs, of bundles, of whole folders of them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from functools import cache
from pathlib import Path

import msgspec

from zinc_kettle.app.entrants import entrant_of
from zinc_kettle.app.side_names import Sides
from zinc_kettle.config import REFERENCE
from zinc_kettle.core.compare.lineup import Entrant
from zinc_kettle.core.compare.score import Reference, configurations
from zinc_kettle.core.origin import ELSEWHERE
from zinc_kettle.core.plan.factors import HERE
from zinc_kettle.core.results import StudyResults
from zinc_kettle.core.rig import Rig
from zinc_kettle.errors import UsageError
from zinc_kettle.formats.bundle.archive import ENDING
from zinc_kettle.store.reading import StudyRow, shelf
from zinc_kettle.store.store import KettleStore

MOST_BUNDLES = 500
"""Of a folder that are read at once."""


@cache
def shipped_reference() -> Reference:
    """The reference that comes with the tool."""
    return msgspec.json.decode(REFERENCE.read_bytes(), type=Reference)


def scored_runs(names: Sequence[str], store: KettleStore, sides: Sides) -> list[StudyResults]:
    """Runs with tasks, the newest of each study.

    Args:
        names: Studies (`STUDY[:RUN]`), bundles, stores, or folders of bundles; without any, all of one's own.
        store: One's own.
        sides: Opens runs.

    Raises:
        UsageError: There is none, or one cannot be read.
    """
    found = [results for place in _places(names, store, sides) if (results := sides.results(place)).study.names("task")]
    if not found:
        raise UsageError(
            "nothing was measured over the tasks of the suite", remedy="zinc-kettle score --model FILE measures it"
        )
    return found


def _places(names: Sequence[str], store: KettleStore, sides: Sides) -> Iterator[str]:
    if not names:
        yield from _of_shelf(shelf(store), "")
    for name in names:
        path = Path(name).expanduser()
        if ELSEWHERE in name or not path.exists():
            yield name
            continue
        files = sorted(path.glob(f"*{ENDING}")) if path.is_dir() else [path]
        if len(files) > MOST_BUNDLES:
            raise UsageError(f"{name} holds more than {MOST_BUNDLES} bundles", remedy="name some of them")
        if not files:
            raise UsageError(f"there is no bundle in {name}", remedy=f"files that end with {ENDING}")
        for file in files:
            yield from _of_shelf(shelf(sides.elsewhere.store(str(file))), f"{file}{ELSEWHERE}")


def _of_shelf(rows: Sequence[StudyRow], before: str) -> Iterator[str]:
    return (f"{before}{row.name}" for row in rows if row.runs)


def contenders(runs: Sequence[StudyResults], rigs: Mapping[str, Rig]) -> list[Entrant]:
    """Each configuration of some runs, named by what sets it apart: rig, model, quantization, engine, settings."""
    sides = [side for results in runs for side in configurations(results)]
    named = []
    for side in sides:
        study, cell = side.results.study, side.cells()[0].cell
        usual = [cell.settings["rig"] or HERE, Path(str(cell.settings["model"] or study.name)).name]
        usual += [cell.settings["quantization"]] if cell.settings["quantization"] else []
        more = [study.factors[n].says(v) for n, v in side.levels.items() if n not in {"rig", "model", "quantization"}]
        named.append(" · ".join([*map(str, usual), *more]))
    out = []
    for name, side in zip(named, sides, strict=True):
        run = side.results.run
        place = f" · {run.place}{side.results.study.name}:{run.number}" if named.count(name) > 1 else ""
        made_up = " (sim.)" if run.simulated else ""
        out.append(entrant_of(f"{name}{place}{made_up}", side, {} if run.origin else rigs))
    return out
