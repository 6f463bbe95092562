"""What a person said of cells: marks of their answers and notes, to stand beside the figures."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping

from zinc_kettle.core.remarks import marks_of
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.core.run.decisions import Mark

PEN = "✎"
"""Before what a person wrote."""


def marks_in(cell: CellResults) -> Counter[str]:
    """How many of a cell's answers a person marked as what."""
    requests = dict.fromkeys(d.request for d in cell.decisions if isinstance(d, Mark) and d.levels == cell.cell.levels)
    return Counter(mark for request in requests for mark in marks_of(cell.decisions, request))


def marks_text(cell: CellResults) -> str:
    """`2 rambling, 1 fine`; empty where no answer is marked."""
    return ", ".join(f"{count} {mark}" for mark, count in marks_in(cell).most_common())


def remarks(results: StudyResults) -> Mapping[str, str]:
    """By the key of each cell that a person said something of, what it was."""
    marked = {tuple(d.levels.items()) for d in results.run.decisions if isinstance(d, Mark)}
    said: dict[str, list[str]] = {}
    for cell in results.cells if marked else ():
        if tuple(cell.cell.levels.items()) in marked and (text := marks_text(cell)):
            said.setdefault(cell.cell.key, []).append(text)
    for key, note in results.run.notes:
        if key is not None:
            said.setdefault(key, []).append(note)
    return {key: "; ".join(parts) for key, parts in said.items()}
