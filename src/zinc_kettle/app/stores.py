"""The stores a screen reads: the person's own, that of the examples, and those of other people."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from zinc_kettle.config import Places
from zinc_kettle.core.origin import ELSEWHERE

if TYPE_CHECKING:
    from zinc_kettle.app.imported_stores import Elsewhere
    from zinc_kettle.core.results import StudyResults
    from zinc_kettle.store.reading import StudyRow
    from zinc_kettle.store.store import KettleStore


class Stores:
    """Opens each when it is first asked for: their package takes longer to import than the first paint may take.

    Args:
        places: Where things are kept.
    """

    def __init__(self, places: Places) -> None:
        self._places = places
        self._own: KettleStore | None = None
        self._sample: KettleStore | None = None
        self._others: Elsewhere | None = None
        self._examples: dict[str, StudyRow] = {}

    @property
    def own(self) -> KettleStore:
        """The person's own."""
        if self._own is None:
            from zinc_kettle.app.build import open_store

            self._own = open_store(self._places)
        return self._own

    @property
    def elsewhere(self) -> Elsewhere:
        """What other people measured."""
        if self._others is None:
            from zinc_kettle.app.imported_stores import Elsewhere

            self._others = Elsewhere(self._places)
        return self._others

    def examples(self) -> list[StudyRow]:
        """Finished studies that come with the tool; from now on they are among what is read."""
        from zinc_kettle.app.build import open_store
        from zinc_kettle.config import sample_copy
        from zinc_kettle.store.reading import shelf

        if self._sample is None:
            sample = sample_copy(self._places)
            self._sample = None if sample is None else open_store(replace(self._places, store=sample))
        rows = [] if self._sample is None else shelf(self._sample)
        self._examples = {row.study_id: row for row in rows}
        return rows

    def listed(self) -> list[KettleStore]:
        """The person's own, and that of the examples where these are shown."""
        return [self.own, *([self._sample] if self._examples and self._sample is not None else [])]

    def at(self, run_id: str) -> tuple[KettleStore, str]:
        """Where a run is kept, and its id there."""
        origin, there, name = run_id.rpartition(ELSEWHERE)
        if there:
            return self.elsewhere.store(origin), name
        of_example = any(run.run_id == run_id for row in self._examples.values() for run in row.runs)
        return (self._sample if of_example and self._sample is not None else self.own), run_id

    def of(self, run_id: str) -> KettleStore:
        """Where a run is kept."""
        return self.at(run_id)[0]

    def open_run(self, run_id: str) -> StudyResults:
        """A kept run."""
        from zinc_kettle.store.reading import open_run

        origin, there, name = run_id.rpartition(ELSEWHERE)
        return self.elsewhere.open_run(origin, name) if there else open_run(self.of(run_id), run_id)
