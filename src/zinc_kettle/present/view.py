"""A study as a map: each cell with its state, its figures on demand, and its cautions."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any, Literal

from zinc_kettle.core.caution_kinds import Caution, Setting
from zinc_kettle.core.cautions import cell_cautions, timeline_cautions
from zinc_kettle.core.cell import CellFigure, cell_values, series, single_value
from zinc_kettle.core.factors import label, level_name
from zinc_kettle.core.measures import Repeat
from zinc_kettle.core.plan import Cell, axes, cells, shape_of
from zinc_kettle.core.precision import wanted_repeats
from zinc_kettle.core.record import RepeatRecord, StudyRecord
from zinc_kettle.core.stats import Interval, ratio_interval
from zinc_kettle.core.timeline import Timeline

CellState = Literal["planned", "partly", "measured", "failed", "skipped"]
STATE_MARKS: dict[CellState, str] = {"planned": "○", "partly": "◐", "measured": "●", "failed": "✕", "skipped": "–"}
CAUTION_MARK = "▲"
SIMULATED_MARK = "(sim.)"
"""Beside the name of a simulated rig."""
MIN_REPEATS = 2
"""One repeat each carries no conclusion: nothing is ranked before the second."""
QUIET_CODES = frozenset({"cold", "thin-percentile"})
"""Cautions that are kept with the cell but need no mark on the map."""


class CellView:
    """One cell; figures are computed when asked for and kept."""

    def __init__(self, cell: Cell, records: tuple[RepeatRecord, ...], wanted: int, setting: Setting, seed: int) -> None:
        self.cell = cell
        self.records = records
        self.wanted = wanted
        self._setting = setting
        self._seed = seed
        self._values: dict[str, CellFigure] = {}
        self._series: dict[str, list[float]] = {}
        self._ratios: dict[tuple[CellView, str], Interval | None] = {}

    @cached_property
    def repeats(self) -> tuple[Repeat, ...]:
        """Repeats that count."""
        return tuple(r.repeat for r in self.records if r.state == "measured")

    @property
    def done(self) -> int:
        """How many repeats are measured."""
        return len(self.repeats)

    @property
    def failures(self) -> tuple[RepeatRecord, ...]:
        """Repeats that failed."""
        return tuple(r for r in self.records if r.state == "failed")

    @property
    def state(self) -> CellState:
        """How the cell stands."""
        if self.done >= self.wanted:
            return "measured"
        if self.done:
            return "partly"
        return "failed" if self.failures else "planned"

    def value(self, name: str) -> CellFigure:
        """One measure, with its bounds or the reason it is missing."""
        if name not in self._values:
            self._values[name] = single_value(self.repeats, name, seed=self._seed)
        return self._values[name]

    def series(self, name: str) -> list[float]:
        """One measure of each repeat (of each launch for the load time), in order."""
        if name not in self._series:
            self._series[name] = series(self.repeats, name)
        return self._series[name]

    def ratio(self, other: CellView, name: str) -> Interval | None:
        """Ratio of this cell to another with its bounds, kept; None where either has fewer than two repeats."""
        key = (other, name)
        if key not in self._ratios:
            mine, its = self.series(name), other.series(name)
            enough = min(len(mine), len(its)) >= MIN_REPEATS and min(*mine, *its) > 0
            self._ratios[key] = ratio_interval(mine, its, seed=self._seed) if enough else None
        return self._ratios[key]

    def values(self) -> dict[str, CellFigure]:
        """Every measure."""
        self._values = cell_values(self.repeats, seed=self._seed)
        return self._values

    @cached_property
    def cautions(self) -> list[Caution]:
        """Cautions about this cell."""
        return cell_cautions([r.repeat for r in self.records if r.state in {"measured", "failed"}], self._setting)

    def request_cautions(self, timeline: Timeline) -> list[Caution]:
        """Cautions about one of its requests."""
        return timeline_cautions(timeline, self._setting)

    @property
    def simulated(self) -> bool:
        """True where what it holds was simulated and not measured."""
        return any(r.facts.get("simulated") for r in self.records)

    @property
    def title(self) -> str:
        """Its levels, as people say them."""
        return " · ".join(level_name(name, level) for name, level in self.cell.levels.items())


@dataclass(frozen=True)
class Axis:
    """One side of the map."""

    factor: str | None
    levels: tuple[str, ...]


class StudyView:
    """A study and its cells."""

    def __init__(self, record: StudyRecord) -> None:
        self.record = record
        self.study = record.study
        self.plan = cells(record.study)
        by_cell: dict[int, list[RepeatRecord]] = {cell.index: [] for cell in self.plan}
        for repeat in record.repeats:
            by_cell[repeat.cell].append(repeat)
        self.kept: dict[str, Any] = {}
        """What others computed over several cells; forgotten when a cell changes."""
        self.cells = [self._view(cell, tuple(by_cell[cell.index])) for cell in self.plan]

    def _view(self, cell: Cell, records: tuple[RepeatRecord, ...]) -> CellView:
        threads, rig = cell.settings["threads"], cell.settings["rig"]
        others = self.record.facts.get("rigs") or {}
        facts = others.get(rig, {}) if rig is not None else self.record.facts
        templates = [r.repeat.extras["template_tokens"] for r in records if "template_tokens" in r.repeat.extras]
        setting = Setting(
            threads=None if threads is None else int(threads),
            physical_cores=facts.get("physical_cores"),
            here=rig is None or not others,
            prompt_cache=bool(cell.settings["prompt_cache"]) and shape_of(self.study, cell) == "conversation",
            template_tokens=int(templates[0]) if templates else None,
        )
        done = [r.repeat for r in records if r.state == "measured"]
        wanted = self.study.repeats.count
        if self.study.repeats.until_percent is not None:
            values = series(done, self.study.repeats.until_measure)
            wanted = wanted_repeats(self.study.repeats, values, seed=self.study.seed)
        return CellView(cell, records, wanted, setting, self.study.seed)

    def add(self, repeat: RepeatRecord) -> None:
        """Take a repeat that has just ended; only its cell is computed anew."""
        self.record = replace(self.record, repeats=(*self.record.repeats, repeat))
        self.kept.clear()
        old = self.cells[repeat.cell]
        self.cells[repeat.cell] = self._view(old.cell, (*old.records, repeat))

    def add_note(self, cell: int | None, text: str) -> None:
        """Take a note that has just been kept."""
        self.record = replace(self.record, notes=(*self.record.notes, (cell, text)))

    @property
    def done_repeats(self) -> int:
        """Measured repeats of all cells."""
        return sum(min(c.done, c.wanted) for c in self.cells)

    @property
    def wanted_repeats(self) -> int:
        """Repeats of the whole plan."""
        return sum(c.wanted for c in self.cells)

    @property
    def failed_cells(self) -> int:
        """Cells in which nothing could be measured."""
        return sum(1 for c in self.cells if c.state == "failed")

    def simulated(self, cell: CellView) -> bool:
        """True where a cell's figures were simulated and not measured."""
        rigs = self.record.facts.get("rigs")
        if not rigs:
            return self.record.simulated
        return cell.simulated or bool(rigs.get(cell.cell.settings["rig"], {}).get("simulated"))

    def grid(self) -> Grid:
        """The cells laid out on the map's two factors."""
        return Grid.of(self)


@dataclass(frozen=True)
class Slice:
    """One map of a study with more than two factors."""

    title: str
    rows: tuple[tuple[CellView, ...], ...]


@dataclass(frozen=True)
class Grid:
    """Rows and columns of the map, and one slice for each combination of further factors."""

    rows: Axis
    columns: Axis
    slices: tuple[Slice, ...]

    @classmethod
    def of(cls, view: StudyView) -> Grid:
        """Lay out a study."""
        row, column = axes(view.study)
        vary = view.study.vary
        others = [name for name in vary if name not in (row, column)]
        row_levels = vary[row] if row else (None,)
        column_levels = vary[column] if column else (None,)
        table: dict[tuple[object, ...], CellView] = {}
        keys: list[tuple[object, ...]] = []
        for cell in view.cells:
            levels: Mapping[str, object] = cell.cell.levels
            rest = tuple(levels[name] for name in others)
            if rest not in keys:
                keys.append(rest)
            table[(*rest, levels.get(row or ""), levels.get(column or ""))] = cell
        slices = tuple(
            Slice(
                " · ".join(level_name(n, v) for n, v in zip(others, rest, strict=True)),  # type: ignore[arg-type]
                tuple(tuple(table[(*rest, r, c)] for c in column_levels) for r in row_levels),
            )
            for rest in keys
        )
        made_up = {name for name, facts in (view.record.facts.get("rigs") or {}).items() if facts.get("simulated")}
        return cls(_axis(row, row_levels, made_up), _axis(column, column_levels, made_up), slices)


def _axis(factor: str | None, levels: tuple[object, ...], made_up: set[str]) -> Axis:
    """Labels of an axis; a simulated rig says so."""
    names = ["" if v is None else label(v) for v in levels]  # type: ignore[arg-type]
    if factor == "rig":
        names = [f"{name} {SIMULATED_MARK}" if name in made_up else name for name in names]
    return Axis(factor, tuple(names))
