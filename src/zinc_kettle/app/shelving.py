"""What stands on the shelf: studies that were measured, study files that are ready, other people's, examples."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from zinc_kettle.app.views import RunEntry, ShelfEntry
from zinc_kettle.config import MOST_TELLING
from zinc_kettle.core.origin import ELSEWHERE
from zinc_kettle.core.text import capitalised
from zinc_kettle.core.units import SPOKEN, plural
from zinc_kettle.errors import KettleError

if TYPE_CHECKING:
    from zinc_kettle.app.stores import Stores
    from zinc_kettle.config import Places
    from zinc_kettle.core.plan.study import Study
    from zinc_kettle.store.reading import RunRow, StudyRow


UNFORESEEN = (ArithmeticError, AttributeError, LookupError, MemoryError, OSError, RecursionError, TypeError, ValueError)


class Shelving:
    """Makes the entries of the shelf.

    Args:
        places: Where things are kept.
        stores: The stores that are read.
        extra: Study files that come with the tool.
        simulated: Whether a planned study has a simulated rig.
    """

    def __init__(
        self, places: Places, stores: Stores, extra: Sequence[Path], simulated: Callable[[Study], bool]
    ) -> None:
        self._places = places
        self._stores = stores
        self._extra = extra
        self._simulated = simulated

    def entries(self) -> list[ShelfEntry]:
        """Studies with runs, the one measured last first, then those that are ready; examples where there is no run."""
        from zinc_kettle.app.build import read_study
        from zinc_kettle.store.plans import plan_key
        from zinc_kettle.store.reading import shelf

        kept = {row.plan_key: row for row in shelf(self._stores.own)}
        examples = [] if kept else [self._kept(row, None, example=True) for row in self._stores.examples()]
        examples.sort(key=lambda entry: entry.simulated)  # what was measured comes before what was rehearsed
        files: dict[str, Path] = {}
        ready: list[ShelfEntry] = []
        asked = False
        for path in self._study_files():
            try:
                study, source = read_study(path, self._places)
                key = plan_key(study)
                if key in kept:
                    files[key] = path
                    asked |= self._stores.own.ask(study, source=source)
                else:
                    ready.append(self._ready(path, study))
            except KettleError as error:
                ready.append(ShelfEntry(str(path), path.name, file=path, trouble=str(error)))
            except UNFORESEEN as error:  # one file that nobody thought of must never keep the shelf from opening
                why = f"it cannot be read: {type(error).__name__}"
                ready.append(ShelfEntry(str(path), path.name, file=path, trouble=why))
        if asked:  # what a study decides was changed in its file: its answers are others
            kept = {row.plan_key: row for row in shelf(self._stores.own)}
        own = [self._kept(row, files.get(key)) for key, row in kept.items()]
        if self._places.demo:
            own.sort(key=lambda entry: entry.name != MOST_TELLING)
        return [*own, *ready, *self._others(), *examples]

    def _others(self) -> list[ShelfEntry]:
        """Studies of bundles that were unpacked; one that cannot be read any more says so."""
        from zinc_kettle.store.reading import shelf

        elsewhere, out = self._stores.elsewhere, []
        for other in elsewhere.named():
            try:
                for row in shelf(elsewhere.store(other.name)):
                    out.append(self._kept(row, None, origin=other.name))
            except KettleError as error:
                out.append(ShelfEntry(f"{other.name}::", other.name, trouble=str(error), origin=other.name))
        return out

    def _kept(self, row: StudyRow, file: Path | None, *, example: bool = False, origin: str = "") -> ShelfEntry:
        before = f"{origin}{ELSEWHERE}" if origin else ""
        runs = tuple(self._run(run, row.engines, before) for run in row.runs)
        made_up = any(run.simulated for run in runs)
        key = f"{before}{row.study_id}"
        return ShelfEntry(key, row.question, runs, row.name, file, simulated=made_up, example=example, origin=origin)

    def _run(self, row: RunRow, engines: tuple[str, ...], before: str) -> RunEntry:
        from zinc_kettle.core.fingerprint import DEFINITIONS_VERSION
        from zinc_kettle.present.answer import answer
        from zinc_kettle.present.charts.subtitle import machine_text
        from zinc_kettle.present.dates import day
        from zinc_kettle.present.findings import WORDING

        by = f"{DEFINITIONS_VERSION}.{WORDING}" + ("" if SPOKEN.memory == "GB" else f".{SPOKEN.memory}")
        said, run_id = row.answer if row.answer_by == by else None, f"{before}{row.run_id}"
        if said is None:
            said = answer(self._stores.open_run(run_id), brief=True)
            if row.state == "measured":
                self._stores.of(run_id).keep_answer(row.run_id, said, by=by)
        one = " ".join(str(row.engine[name]) for name in ("engine", "version") if row.engine.get(name))
        engine = " and ".join(engines) or one
        return RunEntry(
            run_id,
            row.number,
            row.state,
            day(row.created_s),
            machine_text(row.facts),
            engine,
            capitalised(said),
            has_answer=row.repeats_done > 0,
            simulated=row.simulated,
        )

    def _study_files(self) -> list[Path]:
        own = sorted(self._places.studies.glob("*.study.toml")) if self._places.studies.is_dir() else []
        return [*self._extra, *own]

    def _ready(self, path: Path, study: Study) -> ShelfEntry:
        simulated = self._simulated(study)
        what = "rehearse it" if simulated else "measure it here"
        repeats = study.repeats
        many = f"{repeats.count} to {repeats.most} repeats" if repeats.adaptive else plural(repeats.count, "repeat")
        about = f"{plural(len(study.cells), 'cell')}, {many} each; open it and press r to {what}"
        return ShelfEntry(str(path), study.question, name=study.name, file=path, about=about, simulated=simulated)
