"""One description of a figure, drawn by charts as SVG or PDF and by the screen in cells."""

from __future__ import annotations

from dataclasses import dataclass

from zinc_kettle.core.catalogue import MEASURES
from zinc_kettle.core.cell import REQUEST_QUANTILES, Value
from zinc_kettle.core.factors import axis_name, label
from zinc_kettle.core.units import plural, scale
from zinc_kettle.errors import UsageError
from zinc_kettle.present.view import CAUTION_MARK, QUIET_CODES, STATE_MARKS, CellView, Grid, StudyView
from zinc_kettle.present.words import best, bound_name, bounds_text, value_text

ARRIVALS = {"constant": "constant", "poisson": "Poisson", "recorded": "recorded"}


@dataclass(frozen=True, slots=True)
class Patch:
    """One cell of a map figure."""

    value: float | None
    lines: tuple[str, ...]
    best: bool = False


@dataclass(frozen=True, slots=True)
class MapFigure:
    """A map: rows by columns of values, in panels."""

    title: str
    subtitle: str
    rows_name: str
    columns_name: str
    rows: tuple[str, ...]
    columns: tuple[str, ...]
    panels: tuple[tuple[str, tuple[tuple[Patch, ...], ...]], ...]
    better: str
    note: str


@dataclass(frozen=True, slots=True)
class Line:
    """One line with its bounds, over positions of the x levels."""

    name: str
    x: tuple[float, ...]
    y: tuple[float, ...]
    low: tuple[float, ...]
    high: tuple[float, ...]


@dataclass(frozen=True, slots=True)
class LineFigure:
    """Lines over one factor, with bounds."""

    title: str
    subtitle: str
    x_name: str
    y_name: str
    x_levels: tuple[str, ...]
    lines: tuple[Line, ...]
    note: str


def measure_line(view: StudyView, name: str) -> str:
    """What the figures of a map are, in one line: measure, unit, statistic, bounds, workload."""
    measure = MEASURES[name]
    values = [v for c in view.cells if isinstance(v := c.value(name), Value)]
    sample = values[0] if values else None
    unit = scale(sample.value, sample.unit)[1] if sample else measure.unit
    held = {**{k: c for k, c in view.plan[0].settings.items() if k not in view.study.vary}}
    parts = [f"{measure.title}, {unit}"]
    if sample is not None:
        counts, nouns = sorted({v.n for v in values}), {v.of for v in values}
        what = "all requests" if name in REQUEST_QUANTILES else "median"
        even = f"{what}, {bound_name(sample)}"
        if len(nouns) > 1:
            even = what  # a cell with one repeat counts its requests, the others their repeats
        elif len(counts) > 1:
            even = f"{what} of {counts[0]:,} to {counts[-1]:,} {nouns.pop()}"
        parts.append(even)
    for factor, noun in (("prompt_tokens", "prompt"), ("output_tokens", "output"), ("concurrency", "stream")):
        value = held.get(factor)
        drawn = {"prompt_tokens": view.study.prompts.lengths, "output_tokens": view.study.prompts.outputs}.get(factor)
        if drawn is not None:
            parts.append(f"{noun} {drawn.kind}, up to {drawn.most:,} tokens")
            continue
        if value is not None and factor == "concurrency":
            parts += [plural(int(value), noun)] if view.study.load.shape == "closed" else []
        elif value is not None:
            parts.append(f"{noun} {label(value)} tokens")
    if view.study.load.shape != "closed":
        names = {"open": f"open loop, {ARRIVALS[view.study.load.arrivals]} arrivals", "conversation": "conversations"}
        parts.append(names.get(view.study.load.shape, view.study.load.shape))
    return " · ".join(parts)


def map_figure(view: StudyView, name: str) -> MapFigure:
    """The map of a study for one measure.

    Raises:
        UsageError: No such measure.
    """
    _check(name)
    grid = view.grid()
    top = [c.cell.index for c in best(view, name)]
    panels = tuple(
        (s.title, tuple(tuple(_patch(cell, name, top) for cell in row) for row in s.rows)) for s in grid.slices
    )
    return MapFigure(
        title=view.study.question,
        subtitle=measure_line(view, name),
        rows_name=axis_name(grid.rows.factor),
        columns_name=axis_name(grid.columns.factor),
        rows=grid.rows.levels,
        columns=grid.columns.levels,
        panels=panels,
        better=MEASURES[name].better,
        note=_note(view, "copper: best; ≈: not told apart from it"),
    )


def _patch(cell: CellView, name: str, top: list[int]) -> Patch:
    figure = cell.value(name)
    if not isinstance(figure, Value):
        return Patch(None, (f"{STATE_MARKS[cell.state]} {cell.state}",))
    text, unit = value_text(figure)
    marks = f" {CAUTION_MARK}" if any(c.code not in QUIET_CODES for c in cell.cautions) else ""
    lines = [f"{text} {unit}", bounds_text(figure) + marks]
    if cell.state != "measured":
        lines.append(f"{STATE_MARKS[cell.state]} {cell.done} of {cell.wanted}")
    if cell.cell.index in top[1:]:
        lines.append("≈ best")
    return Patch(figure.value, tuple(line for line in lines if line.strip()), best=cell.cell.index in top[:1])


def line_figure(view: StudyView, name: str) -> LineFigure:
    """A measure over the map's columns, one line a row, all slices together.

    Raises:
        UsageError: No such measure, or nothing was measured yet.
    """
    _check(name)
    grid = view.grid()
    lines = [line for s in grid.slices for line in _lines(grid, s.title, s.rows, name)]
    if not any(line.y for line in lines):
        raise UsageError(f"there is no {MEASURES[name].title} to draw yet", remedy="measure the study first")
    sample = next(v for c in view.cells if isinstance(v := c.value(name), Value))
    return LineFigure(
        title=view.study.question,
        subtitle=measure_line(view, name),
        x_name=axis_name(grid.columns.factor or grid.rows.factor),
        y_name=f"{MEASURES[name].title} ({scale(sample.value, sample.unit)[1]})",
        x_levels=grid.columns.levels if grid.columns.factor else grid.rows.levels,
        lines=tuple(line for line in lines if line.y),
        note=_note(view),
    )


def _lines(grid: Grid, title: str, rows: tuple[tuple[CellView, ...], ...], name: str) -> list[Line]:
    if grid.columns.factor is None:
        return [_line(title or "", [row[0] for row in rows], name)]
    return [
        _line(" · ".join(part for part in (title, level) if part), list(row), name)
        for level, row in zip(grid.rows.levels, rows, strict=True)
    ]


def _line(title: str, cells: list[CellView], name: str) -> Line:
    points = [(float(i), v) for i, c in enumerate(cells) if isinstance(v := c.value(name), Value)]
    factor = scale(points[0][1].value, points[0][1].unit)[2] if points else 1.0
    return Line(
        title,
        tuple(x for x, _ in points),
        tuple(v.value * factor for _, v in points),
        tuple(v.low * factor for _, v in points),
        tuple(v.high * factor for _, v in points),
    )


def _check(name: str) -> None:
    if name not in MEASURES:
        raise UsageError(f"there is no measure {name!r}", remedy="one of: " + ", ".join(MEASURES))


def _note(view: StudyView, key: str = "") -> str:
    facts = view.record.facts
    machine = facts.get("processor", "machine not recorded")
    cores = facts.get("physical_cores")
    codes = sorted({c.code for cell in view.cells for c in cell.cautions if c.code not in QUIET_CODES})
    parts = ["SIMULATED"] if view.record.simulated else []
    parts.append(f"{machine}, {plural(cores, 'core')}" if cores else machine)
    if facts.get("virtual"):
        parts.append("virtual machine")
    if codes:
        parts.append(f"{CAUTION_MARK} " + ", ".join(codes))
    return " · ".join([*parts, key] if key else parts)
