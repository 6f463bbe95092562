"""Stores that are not the person's own: unpacked bundles by name, bundles and stores of other people by their file."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from zinc_kettle.config import Places
from zinc_kettle.core.origin import ELSEWHERE
from zinc_kettle.errors import UsageError

if TYPE_CHECKING:
    from zinc_kettle.app.unpacking import Other
    from zinc_kettle.core.results import StudyResults
    from zinc_kettle.store.store import KettleStore


class Elsewhere:
    """Opens each of them once.

    Args:
        places: Where things are kept.
    """

    def __init__(self, places: Places) -> None:
        self._places = places
        self._stores: dict[str, KettleStore] = {}

    def named(self) -> list[Other]:
        """What was unpacked, by name."""
        if not self._places.others.is_dir():
            return []
        from zinc_kettle.app.unpacking import others

        return others(self._places.others)

    def store(self, name: str) -> KettleStore:
        """The store of an unpacked bundle, of a bundle's file or of another store's file.

        Raises:
            UsageError: There is none, or it cannot be read.
        """
        if name not in self._stores:
            from zinc_kettle.app.build import open_store

            self._stores[name] = open_store(replace(self._places, store=self._file(name)))
        return self._stores[name]

    def close(self, name: str) -> None:
        """Let go of one, so that its file can be moved."""
        opened = self._stores.pop(name, None)
        if opened is not None:
            opened.close()

    def _file(self, name: str) -> Path:
        unpacked = next((other.store for other in self.named() if other.name == name), None)
        if unpacked is not None:
            return unpacked
        try:
            path = Path(name).expanduser().resolve()
            known_file = path.is_file()
        except (ValueError, OSError, RuntimeError):
            known_file = False
        if not known_file:
            known = ", ".join(other.name for other in self.named())
            raise UsageError(
                f"there is no file {name}, and nothing of that name was unpacked",
                remedy=f"one of: {known}" if known else "FILE.kettle::STUDY or FILE.db::STUDY",
            )
        from zinc_kettle.app.borrowed import imported

        return imported(path, self._places)

    def open_run(self, origin: str, place: str) -> StudyResults:
        """A run of one of them.

        Args:
            origin: Name or file; see `store`.
            place: The run there: `STUDY`, `STUDY:RUN` or its id.

        Raises:
            UsageError: There is none.
        """
        from zinc_kettle.store.reading import find, open_run

        store = self.store(origin)
        results = open_run(store, find(store, place))
        results.run = replace(results.run, run_id=f"{origin}{ELSEWHERE}{results.run.run_id}")
        return results
