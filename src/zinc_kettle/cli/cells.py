"""Cells named on the command line: `factor=level,…`."""

from __future__ import annotations

from zinc_kettle.core.plan.factors import label
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.errors import UsageError


def cells_of(results: StudyResults, text: str) -> list[CellResults]:
    """The cells of `factor=level,…`; all of them where it is empty.

    Raises:
        UsageError: None have these levels.
    """
    wanted = dict(part.strip().partition("=")[::2] for part in text.split(",")) if text else {}
    found = [
        cell
        for cell in results.cells
        if all(name in cell.cell.levels and _said(cell.cell.levels[name]) == level for name, level in wanted.items())
    ]
    if not found:
        raise UsageError(f"no cells are {text!r}", remedy=f"name cells as in --cell {_example(results)}")
    return found


def one_cell(results: StudyResults, text: str) -> CellResults:
    """The cell of `factor=level,…`.

    Raises:
        UsageError: None, or several, have these levels.
    """
    found = cells_of(results, text)
    if len(found) != 1:
        remedy = f"name one cell, as in --cell {_example(results)}"
        raise UsageError(f"{len(found)} cells are {text!r}", remedy=remedy)
    return found[0]


def _example(results: StudyResults) -> str:
    return ",".join(f"{name}={_said(level)}" for name, level in results.cells[0].cell.levels.items())


def _said(level: str | int | bool) -> str:
    return label(level).replace(",", "")
