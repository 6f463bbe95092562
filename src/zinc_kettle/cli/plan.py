"""`plan`: show what a study would do."""

from __future__ import annotations

import asyncio
from pathlib import Path

from zinc_kettle.cli import output
from zinc_kettle.config import places
from zinc_kettle.core.budget import guess_cell_s, launches, time_left_s
from zinc_kettle.core.factors import HERE
from zinc_kettle.core.plan import order, rigs_of
from zinc_kettle.core.record import StudyRecord
from zinc_kettle.present.fit_view import speeds_of
from zinc_kettle.present.records import cell_record
from zinc_kettle.present.table import plan_line, plan_rows
from zinc_kettle.present.view import StudyView
from zinc_kettle.wiring.build import model_sizes, open_store, read_study
from zinc_kettle.wiring.rig_desk import RigDesk


def plan_study(file: Path, store_path: Path | None, *, as_json: bool) -> None:
    """Check a study file and show its cells.

    Raises:
        UsageError: The file cannot be used.
    """
    study, source = read_study(file)
    sizes = model_sizes(study, places(store_path))
    view = StudyView(StudyRecord("", study, "planned", 0.0, source=source))
    where = places(store_path)
    desk = RigDesk(where, lambda: open_store(where))
    if not rigs_of(study) and study.endpoint is None:
        asyncio.run(desk.ready(HERE))
    predicted = desk.predicted(study)
    speeds = speeds_of(predicted)
    if as_json:
        for cell in view.cells:
            output.record(cell_record(view, cell))
        return
    runs = order(study)
    seconds = time_left_s(study, view.plan, runs, model_bytes=sizes, seen_s={}, speeds=speeds)
    each = {cell.index: guess_cell_s(study, cell, sizes[cell.index], speeds) for cell in view.plan}
    output.line(study.question)
    output.line(plan_line(view, launches(study, view.plan, runs), seconds))
    output.line()
    output.table(*plan_rows(view, sizes, each, predicted))
