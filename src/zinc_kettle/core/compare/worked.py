"""When a cell that failed was measured last, and what changed since."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from zinc_kettle.core.compare.sides import Difference, Side, differences
from zinc_kettle.core.results import CellResults, StudyResults


@dataclass(frozen=True)
class Worked:
    """A cell as it was when it could be measured."""

    results: StudyResults
    cell: CellResults
    changed: tuple[Difference, ...]
    """What is not as it was then: settings, engine, machine; none that is known where it is empty."""


def last_worked(results: StudyResults, cell: CellResults, earlier: Iterable[StudyResults]) -> Worked | None:
    """The newest run in which a cell of the same levels was measured.

    Args:
        results: The run in which it failed.
        cell: The cell.
        earlier: Other runs of the study, the newest first; they are only read until one is found.

    Returns:
        None where it never was.
    """
    for run in earlier:
        before = next((c for c in run.cells if c.done and c.cell.levels == cell.cell.levels), None)
        if before is not None:
            return Worked(run, before, tuple(differences(Side(run), Side(results), before, cell)))
    return None
