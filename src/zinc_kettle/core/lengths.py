"""Families of cells that are equal but for their prompt length or depth: prefill as a slope, decode over depth."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass
from functools import cached_property

from zinc_kettle.core.family import DepthFall, PrefillSlope, depth_fall, prefill_slope
from zinc_kettle.core.record.repeat import Missing
from zinc_kettle.core.results import CellResults, StudyResults

FACTORS = ("prompt_tokens", "depth")
"""What makes a family: the first of them that varies."""


@dataclass(frozen=True)
class LengthFamily:
    """Cells that are equal but for their prompt length, or their depth."""

    title: str
    """The levels they share; empty where nothing else varies."""
    cells: tuple[CellResults, ...]
    varied: str = "prompt_tokens"
    """What they differ in."""

    @cached_property
    def slope(self) -> PrefillSlope | Missing:
        """Prefill speed from TTFT over prompt length."""
        return prefill_slope([point for c in self.cells for point in c.summary.prompt_points])

    @cached_property
    def fall(self) -> DepthFall | Missing:
        """Decode over depth; reads the requests of all its cells."""
        return depth_fall([r for c in self.cells for r in c.repeats if r.alone])


def families(results: StudyResults) -> list[LengthFamily]:
    """The families of a study, kept while no cell changes; none where neither length nor depth varies."""
    return results.once("families", lambda: _families(results))


def _families(results: StudyResults) -> list[LengthFamily]:
    varied = next((factor for factor in FACTORS if len(results.study.vary.get(factor, ())) > 1), None)
    if varied is None:
        return []
    tied = results.study.design.tie(varied)
    groups: dict[tuple[object, ...], list[CellResults]] = defaultdict(list)
    for cell in results.cells:
        groups[tuple(level for name, level in cell.cell.levels.items() if name not in tied)].append(cell)
    return [_family(tuple(members), varied) for members in groups.values()]


def _family(cells: tuple[CellResults, ...], varied: str) -> LengthFamily:
    first = cells[0].cell
    shared = [first.factors[n].says(v) for n, v in first.levels.items() if n != varied]
    return LengthFamily(" · ".join(shared), cells, varied)


def family_of(results: StudyResults, cell: CellResults) -> LengthFamily | None:
    """The family a cell belongs to."""
    return next((f for f in families(results) if cell in f.cells), None)
