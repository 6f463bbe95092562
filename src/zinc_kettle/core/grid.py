"""The map's layout: which factors span it, and where each cell stands."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from weakref import WeakKeyDictionary

from zinc_kettle.core.factors import Level, label
from zinc_kettle.core.plan import Study
from zinc_kettle.core.results import CellResults, StudyResults

SIMULATED_MARK = "(sim.)"
"""Beside the name of a simulated rig."""


@dataclass(frozen=True)
class GridAxis:
    """One side of the map."""

    factor: str | None
    heading: str
    """What the levels are levels of; empty where nothing varies along it."""
    labels: tuple[str, ...]
    """The levels as people read them; a simulated rig says so. One empty label where nothing varies along it."""


@dataclass(frozen=True)
class Slice:
    """One map of a study with more than two factors: keys of cells by row and column."""

    title: str
    rows: tuple[tuple[str, ...], ...]


@dataclass(frozen=True)
class Grid:
    """Rows and columns of the map, and one slice for each combination of further factors."""

    rows: GridAxis
    columns: GridAxis
    slices: tuple[Slice, ...]

    def cells(self, results: StudyResults, part: int) -> list[list[CellResults]]:
        """The cells of a slice, by row and column."""
        return [[results.cell(key) for key in row] for row in self.slices[part].rows]


def axes(study: Study) -> tuple[str | None, str | None]:
    """Which factors span the map: rows and columns.

    What names a configuration (model, quantization) goes down, what has a scale goes across; a third and further
    factors become slices.
    """
    names = [name for name, levels in study.vary.items() if len(levels) > 1] or list(study.vary)
    words = [n for n in names if study.factors[n].type in {"text", "model"}]
    scales = [n for n in names if n not in words]
    if words and scales:
        return words[-1], scales[0]
    if len(names) > 1:
        return names[0], names[1]
    return (names[0], None) if words else (None, names[0] if names else None)


_GRIDS: WeakKeyDictionary[StudyResults, Grid] = WeakKeyDictionary()
"""A layout changes only with the plan, and a plan of ten thousand cells is not laid out again at each redraw."""


def grid_of(results: StudyResults) -> Grid:
    """The layout of a study."""
    if results not in _GRIDS:
        _GRIDS[results] = _grid(results)
    return _GRIDS[results]


def _grid(results: StudyResults) -> Grid:
    study = results.study
    row, column = axes(study)
    others = [name for name in study.vary if name not in (row, column)]
    row_levels: tuple[Level | None, ...] = study.vary[row] if row else (None,)
    column_levels: tuple[Level | None, ...] = study.vary[column] if column else (None,)
    table: dict[tuple[object, ...], str] = {}
    rests: dict[tuple[Level, ...], None] = {}
    for cell in study.cells:
        levels: Mapping[str, Level] = cell.levels
        rest = tuple(levels[name] for name in others)
        rests[rest] = None
        table[(*rest, levels.get(row or ""), levels.get(column or ""))] = cell.key
    slices = tuple(
        Slice(
            " · ".join(study.factors[n].says(v) for n, v in zip(others, rest, strict=True)),
            tuple(tuple(table[(*rest, r, c)] for c in column_levels) for r in row_levels),
        )
        for rest in rests
    )
    made_up = {name for name, facts in results.run.facts.get("rigs", {}).items() if facts.get("simulated")}
    return Grid(_axis(study, row, row_levels, made_up), _axis(study, column, column_levels, made_up), slices)


def _axis(study: Study, factor: str | None, levels: tuple[Level | None, ...], made_up: set[str]) -> GridAxis:
    names = ["" if level is None else label(level) for level in levels]
    if factor == "rig":
        names = [f"{name} {SIMULATED_MARK}" if name in made_up else name for name in names]
    return GridAxis(factor, study.factors[factor].heading if factor else "", tuple(names))
