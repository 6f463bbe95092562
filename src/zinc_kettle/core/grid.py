"""The map's layout: which factors span it, and where each cell stands."""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from weakref import WeakKeyDictionary

from zinc_kettle.core.plan.design import baseline
from zinc_kettle.core.plan.factors import Level, label
from zinc_kettle.core.plan.study import Study
from zinc_kettle.core.results import CellResults, StudyResults

SIMULATED_MARK = "(sim.)"
"""Beside the name of a simulated rig."""
Axes = tuple[str | None, str | None]
"""The factors of the rows and of the columns."""


@dataclass(frozen=True)
class GridAxis:
    """One side of a map."""

    factor: str | None
    heading: str
    """What the levels are levels of; empty where nothing varies along it."""
    labels: tuple[str, ...]
    """The levels as people read them; a simulated rig says so. One empty label where nothing varies along it."""


@dataclass(frozen=True)
class Slice:
    """One map: of a study with more than two factors there are several."""

    title: str
    rows: GridAxis
    columns: GridAxis
    keys: tuple[tuple[str | None, ...], ...]
    """Keys of the cells by row and column; None where the design has no cell."""

    def cells(self, results: StudyResults) -> list[list[CellResults | None]]:
        """Its cells, by row and column."""
        return [[None if key is None else results.cell(key) for key in row] for row in self.keys]


@dataclass(frozen=True)
class Grid:
    """A map for each combination of the factors that do not span it, or for each factor that changes alone."""

    slices: tuple[Slice, ...]


def axes(study: Study) -> Axes:
    """Which factors span the map: rows and columns.

    What names a configuration (model, quantization) goes down, what has a scale goes across; a third and further
    factors become slices.
    """
    names = _spanning(study)
    words = [n for n in names if study.factors[n].type in {"text", "model"}]
    scales = [n for n in names if n not in words]
    if words and scales:
        return words[-1], scales[0]
    if len(names) > 1:
        return names[0], names[1]
    return None, names[0] if names else None


def axes_choices(study: Study) -> list[Axes]:
    """Every pair of factors the map may be spanned by, the usual one first; one where there is nothing to choose."""
    usual = axes(study)
    if study.design.kind != "all":
        return [usual]
    names = _spanning(study)
    if len(names) < 2:
        return [usual, (usual[1], usual[0])]
    rest = [pair for pair in itertools.permutations(names, 2) if pair not in (usual, (usual[1], usual[0]))]
    return [usual, (usual[1], usual[0]), *rest]


def _spanning(study: Study) -> list[str]:
    leading = study.leading
    return [name for name in leading if len(study.vary[name]) > 1] or leading


_GRIDS: WeakKeyDictionary[StudyResults, dict[Axes, Grid]] = WeakKeyDictionary()
"""A layout changes only with the plan, and a plan of ten thousand cells is not laid out again at each redraw."""


def grid_of(results: StudyResults, by: Axes | None = None) -> Grid:
    """The layout of a study.

    Args:
        results: The study.
        by: The factors that span it; the usual ones where none are named.
    """
    kept = _GRIDS.setdefault(results, {})
    chosen = by or axes(results.study)
    if chosen not in kept:
        kind, several = results.study.design.kind, len(_spanning(results.study)) > 1
        made = {"one-at-a-time": _strips, "chain": _steps} if several else {}
        kept[chosen] = made[kind](results) if kind in made else _grid(results, chosen)
    return kept[chosen]


def _grid(results: StudyResults, by: Axes) -> Grid:
    study = results.study
    row, column = by
    others = [name for name in study.leading if name not in by]
    row_levels: tuple[Level | None, ...] = study.vary[row] if row else (None,)
    column_levels: tuple[Level | None, ...] = study.vary[column] if column else (None,)
    table: dict[tuple[object, ...], str] = {}
    rests: dict[tuple[Level, ...], None] = {}
    for cell in study.cells:
        levels: Mapping[str, Level] = cell.levels
        rest = tuple(levels[name] for name in others)
        rests[rest] = None
        table[(*rest, levels.get(row or ""), levels.get(column or ""))] = cell.key
    down, across = _axis(results, row, row_levels), _axis(results, column, column_levels)
    slices = tuple(
        Slice(
            " · ".join(_said(study, n, v) for n, v in zip(others, rest, strict=True)),
            down,
            across,
            tuple(tuple(table.get((*rest, r, c)) for c in column_levels) for r in row_levels),
        )
        for rest in itertools.product(*(study.vary[n] for n in others))
        if rest in rests
    )
    return Grid(slices or (Slice("", down, across, ((None,),)),))


def _said(study: Study, name: str, level: Level) -> str:
    """A level as people say it, with those of the factors that are tied to it."""
    place = study.vary[name].index(level)
    return " · ".join(study.factors[n].says(study.vary[n][place]) for n in study.design.tie(name))


def _strips(results: StudyResults) -> Grid:
    """One row for each factor of a design of one factor at a time; the baseline's cell stands in every one."""
    study = results.study
    base = baseline(study.vary, study.design)
    keys = {tuple(cell.levels.items()): cell.key for cell in study.cells}
    out = []
    for name in _spanning(study):
        row = tuple(keys.get(tuple(study.moved(base, name, level).items())) for level in study.vary[name])
        rest = " · ".join(study.factors[n].says(v) for n, v in base.items() if n not in study.design.tie(name))
        out.append(Slice(rest, _axis(results, None, (None,)), _axis(results, name, study.vary[name]), (row,)))
    return Grid(tuple(out))


def _steps(results: StudyResults) -> Grid:
    """One row for a chain of changes: where it begins, and what each cell changes of the one before it."""
    study = results.study
    before: Mapping[str, Level] = {}
    names = []
    for cell in study.cells:
        changed = [n for n, v in cell.levels.items() if before and before.get(n) != v]
        names.append(" · ".join(study.factors[n].says(cell.levels[n]) for n in changed or cell.levels))
        before = cell.levels
    keys = tuple(cell.key for cell in study.cells)
    return Grid(
        (Slice("", GridAxis(None, "", ("",)), GridAxis(None, "one change after the other", tuple(names)), (keys,)),)
    )


def _axis(results: StudyResults, factor: str | None, levels: Sequence[Level | None]) -> GridAxis:
    study = results.study
    if factor is None:
        return GridAxis(None, "", ("",))
    made_up = {name for name, facts in results.run.facts.get("rigs", {}).items() if facts.get("simulated")}
    tie = study.design.tie(factor)
    names = []
    for place in range(len(levels)):
        said = [label(study.vary[name][place]) for name in tie]
        if factor == "rig" and said[0] in made_up:
            said[0] += f" {SIMULATED_MARK}"
        names.append(" / ".join(said))
    return GridAxis(factor, " / ".join(study.factors[name].heading for name in tie), tuple(names))
