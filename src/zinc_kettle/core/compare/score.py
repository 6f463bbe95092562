"""Scores: how fast whole answers come over the tasks of the suite, against a fixed reference, which has 100.

The time of a whole answer has prefill, decode and the wait in it, in the shares its task has; the score is the
geometric mean of the ratios over the tasks, so that no task counts for more because its answers are long (Fleming and
Wallace 1986).
"""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from zinc_kettle.core.compare.cells import MIN_REPEATS
from zinc_kettle.core.compare.sides import Side
from zinc_kettle.core.fingerprint import fingerprint
from zinc_kettle.core.plan.study import Study, workload
from zinc_kettle.core.record.value import Value
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.core.stats.ratios import geometric_mean

SCORED = "latency"
"""The measure a score is of."""
FULL = 100.0
"""The score of the reference."""
PARTS = ("prefill_client", "decode", "ttft")
"""What is told beside a score, as geometric means over its tasks."""
WORK = (
    "definitions",
    "task",
    "prompts",
    "prompt_tokens",
    "output_tokens",
    "concurrency",
    "shape",
    "turns",
    "salt",
    "temperature",
)
"""What of a cell's work has to be as the reference's; how often it was asked, and in which order, need not."""


@dataclass(frozen=True)
class ReferenceTask:
    """What the reference did of one task."""

    work: str
    """Fingerprint of what was asked."""
    seconds: float
    """Of a whole answer."""


@dataclass(frozen=True)
class Reference:
    """What a score is against."""

    about: str
    """What it is, in a clause."""
    tasks: Mapping[str, ReferenceTask]


def work_of(study: Study, cell: CellResults) -> str:
    """Fingerprint of what a cell's engine was asked to do, as far as a score depends on it."""
    asked = workload(study, cell.cell)
    return fingerprint({name: asked.get(name) for name in WORK})


def reference_of(results: StudyResults, about: str) -> Reference:
    """A run as a reference: of each task the cell that answers it.

    Raises:
        ValueError: It has no task, or several cells of one.
    """
    tasks: dict[str, ReferenceTask] = {}
    for cell in results.cells:
        task, seconds = cell.cell.settings["task"], cell.value(SCORED)
        if task is None or not isinstance(seconds, Value):
            continue
        if task in tasks:
            raise ValueError(f"it has several cells of the task {task}")
        tasks[str(task)] = ReferenceTask(work_of(results.study, cell), seconds.value)
    if not tasks:
        raise ValueError("it has no task of the suite")
    return Reference(about, tasks)


def configurations(results: StudyResults) -> list[Side]:
    """A side for each combination of the factors other than the task; none of a study without tasks."""
    study = results.study
    if not study.names("task"):
        return []
    others = [name for name in study.vary if name != "task"]
    there = {tuple(cell.levels[name] for name in others) for cell in study.cells}
    combined = itertools.product(*(study.vary[name] for name in others))
    return [Side(results, dict(zip(others, levels, strict=True))) for levels in combined if levels in there]


def scored_cells(side: Side, reference: Reference) -> dict[str, CellResults]:
    """The cells of a side that did what the reference did, by task; those with too few repeats are left out."""
    out = {}
    for cell in side.cells():
        task = reference.tasks.get(str(cell.cell.settings["task"]))
        enough = cell.done >= MIN_REPEATS and isinstance(cell.value(SCORED), Value)
        if task is not None and enough and work_of(side.results.study, cell) == task.work:
            out[str(cell.cell.settings["task"])] = cell
    return out


def full_seconds(cells: Sequence[CellResults], reference: Reference) -> float:
    """What the reference takes for the tasks of some cells: the geometric mean, in seconds."""
    return geometric_mean([reference.tasks[str(cell.cell.settings["task"])].seconds for cell in cells])
