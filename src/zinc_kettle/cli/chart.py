"""`chart`: draw a run of a study."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from zinc_kettle.cli import output
from zinc_kettle.cli.cells import one_cell
from zinc_kettle.config import places
from zinc_kettle.errors import UsageError
from zinc_kettle.present.charts import build
from zinc_kettle.present.charts.kinds import Subject
from zinc_kettle.store.reading import find, open_run
from zinc_kettle.wiring.build import open_store
from zinc_kettle.wiring.export import write, write_all


def draw_chart(
    place: str, out: Sequence[Path], folder: Path | None, *, measure: str, kind: str, cell: str, store: Path | None
) -> None:
    """Write one chart into `out`, or all that the run allows into `folder`.

    Args:
        place: STUDY or STUDY:RUN.
        out: Files of a single chart; their endings choose the format.
        folder: Folder for all of them.
        measure: Name of the measure.
        kind: Kind of chart.
        cell: `factor=level,…` for kinds that show one cell.
        store: Another store than the one in the data folder.

    Raises:
        UsageError: No such study, measure, kind, cell or format.
    """
    if bool(out) == (folder is not None):
        raise UsageError("one file or all charts", remedy="--out FILE.svg for one, --all FOLDER for all")
    opened = open_store(places(store))
    results = open_run(opened, find(opened, place))
    subject = Subject(results, measure, one_cell(results, cell) if cell else None)
    if out:
        for path in write(build(kind, subject), out):
            output.line(str(path))
    elif folder is not None:
        for path in write_all(subject, folder, f"{results.study.name}-{results.run.number}-{measure}"):
            output.line(str(path))
