"""Sides of a comparison by their names: `STUDY[:RUN][@factor=level,…]`, of this store or of another file."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import TYPE_CHECKING

from zinc_kettle.config import Places
from zinc_kettle.core.sides import Side
from zinc_kettle.core.steering import parse_levels, place_of
from zinc_kettle.core.validate import Problem
from zinc_kettle.errors import UsageError
from zinc_kettle.store.reading import StudyRow, find, open_run
from zinc_kettle.tui.answering import NamedSide

if TYPE_CHECKING:
    from zinc_kettle.core.results import StudyResults
    from zinc_kettle.store.store import KettleStore

IN_FILE = "::"
"""Between the file of another store and the study in it."""
MOST_CELLS = 200
"""A larger study offers its levels, not its cells."""


class Sides:
    """Finds sides, and keeps the runs it opened: two sides of one run share its results, so that they can be paired.

    Args:
        places: Where things are kept.
        store: The store.
    """

    def __init__(self, places: Places, store: Callable[[], KettleStore]) -> None:
        self._places = places
        self._store = store
        self.shown: StudyResults | None = None
        """The run that is open on the screen, which is used as it is."""
        self._kept: dict[tuple[str, str], StudyResults] = {}
        """By the file they are from, empty for the person's own store, and their id."""
        self._others: dict[Path, KettleStore] = {}
        self._copies: TemporaryDirectory[str] | None = None

    def side(self, named: str) -> Side:
        """The side a name means.

        Raises:
            UsageError: No such file, study, run or level.
        """
        place, _, levels = named.partition("@")
        results = self.results(place)
        found = parse_levels(results, levels)
        if isinstance(found, Problem):
            raise UsageError(found.what, why=found.why, remedy=f"{place}@{found.remedy.removeprefix('as in ')}")
        side = Side(results, found)
        if not side.cells():
            raise UsageError(f"no cell of {place} has {levels}", remedy="zinc-kettle show lists its cells")
        return side

    def results(self, place: str) -> StudyResults:
        """The run of `STUDY[:RUN]` or `FILE::STUDY[:RUN]`; one that still runs is read again.

        Raises:
            UsageError: There is none.
        """
        file, there, name = place.rpartition(IN_FILE)
        store = self._of_file(Path(file)) if there else self._store()
        run_id = find(store, name)
        shown = self.shown
        if not there and shown is not None and shown.run.run_id == run_id:
            return shown
        key = file, run_id
        if key not in self._kept or self._kept[key].run.state == "running":
            self._kept[key] = open_run(store, run_id)
        return self._kept[key]

    def _of_file(self, file: Path) -> KettleStore:
        """Another store, read from a copy: nothing is written to what belongs to somebody else."""
        from zinc_kettle.store.sqlite import copy_database
        from zinc_kettle.wiring.build import open_store

        path = file.expanduser().resolve()
        if not path.is_file():
            raise UsageError(f"there is no file {file}", remedy="name a store, as in FILE.db::STUDY")
        if path not in self._others:
            self._copies = self._copies or TemporaryDirectory(prefix="zinc-kettle-")
            copy = Path(self._copies.name) / f"{len(self._others)}.db"
            copy_database(path, copy)
            self._others[path] = open_store(replace(self._places, store=copy))
        return self._others[path]


def named_sides(rows: list[StudyRow], results: StudyResults | None) -> list[NamedSide]:
    """What a side may be: levels and cells of the open study, then every run on the shelf.

    Args:
        rows: Studies of the shelf.
        results: The open study.
    """
    out: list[NamedSide] = []
    if results is not None and results.run.run_id:
        for name in results.study.leading:
            for level in results.study.vary[name]:
                said = results.study.factors[name].says(level)
                out.append(NamedSide(place_of(results, {name: level}), said, f"every cell with {said}, this study"))
        if len(results.cells) <= MOST_CELLS and len(results.study.leading) > 1:
            for cell in results.cells:
                out.append(NamedSide(place_of(results, cell.cell.levels), cell.title, "one cell, this study"))
    for row in rows:
        for run in row.runs:
            what = f"run {run.number} whole, {run.state}" + (", SIMULATED" if run.simulated else "")
            out.append(NamedSide(f"{row.name}:{run.number}", f"{row.name}:{run.number}", what, row.question))
    return out
