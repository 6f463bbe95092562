"""`chart`: draw a run of a study."""

from __future__ import annotations

from pathlib import Path

from zinc_kettle.cli import output
from zinc_kettle.cli.cells import one_cell
from zinc_kettle.config import places
from zinc_kettle.errors import UsageError
from zinc_kettle.present.charts.kinds import Subject
from zinc_kettle.store.reading import find, open_run
from zinc_kettle.wiring.build import open_store
from zinc_kettle.wiring.export import write_all, write_chart


def draw_chart(
    place: str, out: Path | None, folder: Path | None, *, measure: str, kind: str, cell: str, store: Path | None
) -> None:
    """Write one chart into `out`, or all that the run allows into `folder`.

    Args:
        place: STUDY or STUDY:RUN.
        out: File of a single chart; its ending chooses the format.
        folder: Folder for all of them.
        measure: Name of the measure.
        kind: Kind of chart.
        cell: `factor=level,…` for kinds that show one cell.
        store: Another store than the one in the data folder.

    Raises:
        UsageError: No such study, measure, kind, cell or format.
    """
    if (out is None) == (folder is None):
        raise UsageError("one file or all charts", remedy="--out FILE.svg for one, --all FOLDER for all")
    opened = open_store(places(store))
    results = open_run(opened, find(opened, place))
    subject = Subject(results, measure, one_cell(results, cell) if cell else None)
    if out is not None:
        write_chart(subject, out, kind=kind)
        output.line(str(out))
    elif folder is not None:
        for path in write_all(subject, folder, f"{results.study.name}-{results.run.number}-{measure}"):
            output.line(str(path))
