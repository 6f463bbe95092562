"""Sides of a comparison by their names: `STUDY[:RUN][@factor=level,…]`, of this store or of somebody else's."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator, Sequence
from typing import TYPE_CHECKING

from zinc_kettle.app.imported_stores import Elsewhere
from zinc_kettle.app.views import NamedSide
from zinc_kettle.config import Places
from zinc_kettle.core.checks.steering import parse_levels, place_of
from zinc_kettle.core.compare.sides import Side
from zinc_kettle.core.compare.worked import Worked, last_worked
from zinc_kettle.core.origin import ELSEWHERE
from zinc_kettle.core.plan.design import baseline
from zinc_kettle.core.problem import Problem
from zinc_kettle.errors import UsageError
from zinc_kettle.store.reading import StudyRow, find, open_run, other_runs, shelf

if TYPE_CHECKING:
    from zinc_kettle.core.results import CellResults, StudyResults
    from zinc_kettle.store.store import KettleStore

MOST_CELLS = 200
"""A larger study offers its levels, not its cells."""


MOST_EARLIER = 12
"""Runs of a study that are read for how far they lie apart; more would hardly narrow what is known."""


class Sides:
    """Finds sides, and keeps the runs it opened: two sides of one run share its results, so that they can be paired.

    Args:
        places: Where things are kept.
        store: The store; or several, of which the first that has a study of a name is meant.
        elsewhere: Opens what other people measured, where that is open already.
        shipped: Stores with what comes with the tool, opened where no other has a study of a name.
    """

    def __init__(
        self,
        places: Places,
        store: Callable[[], KettleStore | Sequence[KettleStore]],
        elsewhere: Elsewhere | None = None,
        shipped: Callable[[], Sequence[KettleStore]] = tuple,
    ) -> None:
        self._shipped = shipped
        self._stores = store
        self.shown: StudyResults | None = None
        """The run that is open on the screen, which is used as it is."""
        self._kept: dict[str, StudyResults] = {}
        self.elsewhere = elsewhere or Elsewhere(places)

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
        side = Side(results, found, self._earlier(place))
        if not side.cells():
            raise UsageError(f"no cell of {place} has {levels}", remedy="zinc-kettle show lists its cells")
        return side

    def results(self, place: str) -> StudyResults:
        """The run of `STUDY[:RUN]`, or of `NAME::STUDY[:RUN]` where NAME is an unpacked bundle, or a file of another
        store or bundle; one that still runs is read again.

        Raises:
            UsageError: There is none.
        """
        origin, there, name = place.rpartition(ELSEWHERE)
        store, found = self._found(origin, name)
        run_id = f"{origin}{there}{found}"
        shown = self.shown
        if shown is not None and shown.run.run_id == run_id:
            return shown
        if run_id not in self._kept or self._kept[run_id].run.state == "running":
            self._kept[run_id] = self.elsewhere.open_run(origin, name) if there else open_run(store, run_id)
        return self._kept[run_id]

    def last_worked(self, results: StudyResults, cell: CellResults) -> Worked | None:
        """When a cell was measured last, in runs of studies of the same name; None where that is not known."""
        return last_worked(results, cell, self._before(results))

    def _before(self, results: StudyResults) -> Iterator[StudyResults]:
        """Older runs of studies of the same name, the newest first, as far as they are in one of one's own stores."""
        given = self._stores()
        for store in given if isinstance(given, Sequence) else [given]:
            rows = [run for row in shelf(store) if row.name == results.study.name for run in row.runs]
            if any(run.run_id == results.run.run_id for run in rows):
                older = [run for run in rows if run.created_s < results.run.created_s and run.state != "running"]
                older.sort(key=lambda run: -run.created_s)
                yield from (self.results(run.run_id) for run in older[:MOST_EARLIER])

    def _earlier(self, place: str) -> tuple[StudyResults, ...]:
        """Other runs of the same study, newest first, as far as they are in the store that has it."""
        origin, there, name = place.rpartition(ELSEWHERE)
        store, found = self._found(origin, name)
        before = f"{origin}{there}"
        return tuple(self.results(f"{before}{run}") for run in other_runs(store, found, MOST_EARLIER))

    def _found(self, origin: str, name: str) -> tuple[KettleStore, str]:
        """The store that has a study of a name, and the id of its run there.

        Raises:
            UsageError: None has; the error names what the first that holds anything has.
        """
        given = self.elsewhere.store(origin) if origin else self._stores()
        stores = [given] if not isinstance(given, Sequence) else given
        for store in stores:
            with contextlib.suppress(UsageError):
                return store, find(store, name)
        every = [*stores, *(() if origin else self._shipped())]
        for store in every[len(stores) :]:
            with contextlib.suppress(UsageError):
                return store, find(store, name)
        first = next((store for store in every if shelf(store)), stores[0])
        return first, find(first, name)  # says what there is


def named_sides(rows: Sequence[tuple[str, StudyRow]], results: StudyResults | None) -> list[NamedSide]:
    """What a side may be: levels and cells of the open study, then every run on the shelf.

    Args:
        rows: Studies of the shelf, each with what is said before its name: `NAME::` for somebody else's.
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
    for before, row in rows:
        for run in row.runs:
            what = f"run {run.number} whole, {run.state}" + (", SIMULATED" if run.simulated else "")
            what += ", somebody else's" if before else ""
            name = f"{before}{row.name}:{run.number}"
            out.append(NamedSide(name, name, what, row.question))
    return out


def one_by_one(results: StudyResults) -> tuple[str, ...]:
    """A chain of sides from the baseline on, in which one setting of the engine after the other goes to its last level.

    Args:
        results: The study. Levels of what is asked of the engine are no changes: each side has all of them.

    Returns:
        Their names; empty where fewer than two settings vary, or a side of the chain has no cell.
    """
    study = results.study
    if study.design.kind == "chain":
        return tuple(place_of(results, cell.levels) for cell in study.cells)
    settings = [name for name in study.leading if study.factors[name].kind == "launch"]
    now = baseline({name: study.vary[name] for name in settings}, study.design)
    chain = [dict(now)]
    for name in settings:
        if study.vary[name][-1] != now[name]:
            now[name] = study.vary[name][-1]
            chain.append(dict(now))
    there = [{name: cell.levels.get(name) for name in settings} for cell in study.cells]
    if len(chain) < 3 or not all(levels in there for levels in chain):
        return ()
    return tuple(place_of(results, levels) for levels in chain)
