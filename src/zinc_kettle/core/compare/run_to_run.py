"""How far runs of the same study lie apart: what a comparison of two runs has to allow for, whatever each has seen.

A run sees how its machine wanders while it lasts, not what changed since the last one: how memory was laid out, who
else was on the machine, how warm the room was. Earlier runs of the same study with the same build on the same machine
show it: the figures of whole runs scatter, and two more of them lie as far apart by chance (Student 1908, with a degree
of freedom less than there are runs).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from zinc_kettle.core.compare.sides import Side, differences, together
from zinc_kettle.core.results import CellResults, StudyResults

LEAST_RUNS = 2
"""Besides the two that are compared: how far one lies from nothing is not known."""


@dataclass(frozen=True, slots=True)
class RunToRun:
    """How far the figures of two runs of a study lie apart by chance."""

    error: float
    """Standard error of the logarithm of their ratio."""
    df: float
    """Its degrees of freedom."""
    runs: int
    """Earlier runs that it was seen in."""


def run_to_run(sides: tuple[Side, Side], cells: tuple[Sequence[CellResults], ...], name: str) -> RunToRun | None:
    """How far two runs lie apart by chance, in the geometric mean of some of their cells.

    Args:
        sides: The two that are compared, each with the earlier runs of its study.
        cells: Those of each side that count.
        name: Of the measure.

    Returns:
        None where neither side has two earlier runs of the same build on the same machine with that measure.
    """
    taken = {side.results.run.run_id for side in sides}
    squares, df, runs = 0.0, 0, 0
    for side, its in zip(sides, cells, strict=True):
        others = [run for run in side.earlier if run.run.run_id not in taken]
        means = {run.run.run_id: m for run in others if (m := _mean(side, its, run, name)) is not None}
        if len(means) >= LEAST_RUNS:
            taken |= means.keys()
            squares += float(np.var(list(means.values()))) * len(means)
            df, runs = df + len(means) - 1, runs + len(means)
    return RunToRun((2 * squares / df) ** 0.5, float(df), runs) if df else None


def _mean(side: Side, cells: Sequence[CellResults], run: StudyResults, name: str) -> float | None:
    """The logarithm of an earlier run's figure; None where it lacks one of the cells, or was of another build."""
    there = {cell.cell.key: cell for cell in run.cells}
    its = [there.get(cell.cell.key) for cell in cells]
    alike = [
        cell
        for mine, cell in zip(cells, its, strict=True)
        if cell is not None and cell.done and not differences(side, Side(run), mine, cell)
    ]
    found = together(alike, name) if alike and len(alike) == len(cells) else None
    return None if found is None else sum(math.log(value) for value in found.values) / len(found.values)
