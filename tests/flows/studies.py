"""Studies measured in this process, on the real engine."""

from __future__ import annotations

from pathlib import Path

from zinc_kettle.app.build import experiment
from zinc_kettle.config import Places
from zinc_kettle.core.plan.study import Study
from zinc_kettle.core.results import StudyResults
from zinc_kettle.session import progress as p
from zinc_kettle.store.reading import open_run
from zinc_kettle.store.store import KettleStore


def places(home: Path, tmp_path: Path) -> Places:
    """The tiny models, and a store of this test."""
    return Places(home, tmp_path / "s.db")


async def measure(plan: Study, where: Places, events: list[p.Event] | None = None) -> StudyResults:
    """Run a study for real; returns what was kept."""
    store = KettleStore(where.store)
    seen = [] if events is None else events
    await experiment(plan, where, store, seen.append).run()
    began = next(e for e in seen if isinstance(e, p.Began))
    return open_run(store, began.run_id)
