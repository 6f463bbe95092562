"""`chart`: draw a study."""

from __future__ import annotations

from pathlib import Path

from zinc_kettle.cli import output
from zinc_kettle.config import places
from zinc_kettle.wiring.build import open_store
from zinc_kettle.wiring.export import write_chart


def draw_chart(study: str, out: Path, *, measure: str, kind: str, store: Path | None) -> None:
    """Write one chart.

    Raises:
        UsageError: No such study, measure, kind or format.
    """
    from zinc_kettle.present.view import StudyView
    from zinc_kettle.store.reading import find, load

    opened = open_store(places(store))
    view = StudyView(load(opened, find(opened, study)))
    write_chart(view, out, measure=measure, kind=kind)
    output.line(str(out))
