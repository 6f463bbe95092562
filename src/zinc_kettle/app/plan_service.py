"""Plans: where they begin, what they say, and where they are kept."""

from __future__ import annotations

import contextlib
import shutil
from collections.abc import Callable, Mapping
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec

from zinc_kettle.app.build import known
from zinc_kettle.app.planning import (
    cores_here,
    known_levels,
    levels_of_model,
    models_here,
    template_text,
)
from zinc_kettle.app.views import Checked, OpenPlan, Start
from zinc_kettle.config import Places
from zinc_kettle.core.checks.doubts import doubts
from zinc_kettle.core.declared import Plain
from zinc_kettle.core.names import NAME_HINT, is_name
from zinc_kettle.core.plan.factors import EVERY, HERE, Level
from zinc_kettle.core.plan.history import History
from zinc_kettle.core.plan.recipe import BUILT_IN, OPEN_PROTOCOL, factors_of
from zinc_kettle.core.plan.study import Cell, Study, rigs_of
from zinc_kettle.core.plan.templates import TEMPLATES
from zinc_kettle.core.problem import Problem
from zinc_kettle.core.results import RunInfo, StudyResults
from zinc_kettle.core.units import byte_size
from zinc_kettle.errors import StudyFileError, UsageError
from zinc_kettle.formats import study_edit
from zinc_kettle.formats.atomic_file import atomic_file
from zinc_kettle.formats.shared_study import copied_study
from zinc_kettle.formats.study import Known, check_study, prompt_names
from zinc_kettle.formats.toml import parse_toml
from zinc_kettle.present.planned import Costs, costs_of, planned_cells

if TYPE_CHECKING:
    from zinc_kettle.app.rig_service import RigService
    from zinc_kettle.app.study_service import StudyService

NOTHING = "nothing"
MOST_HISTORY = 100
"""States that are kept on disk; a screen that was closed by accident needs the last few."""
ENDING = ".study.toml"


class _Kept(msgspec.Struct):
    """A plan as it is kept between two screens."""

    texts: list[str]
    at: int
    folder: str
    file: str | None
    saved: str
    typing: tuple[list[str], str] | None = None
    origin: str = ""


class PlanService:
    """Plans of this person."""

    def __init__(self, places: Places, studies: StudyService, rigs: Callable[[], RigService]) -> None:
        self._places = places
        self._studies = studies
        self._rigs = rigs
        self._known: Known | None = None

    @property
    def _may_name(self) -> Known:
        if self._known is None:
            self._known = known(self._places)
        return self._known

    # beginnings
    def starts(self) -> list[Start]:
        """Templates, kept studies, and nothing at all."""
        out = [Start(f"template:{t.name}", t.question, t.reason) for t in TEMPLATES.values()]
        for entry in self._studies.shelf():
            if not entry.trouble:
                about = entry.runs[0].answer if entry.runs else entry.about
                out.append(Start(f"study:{entry.key}", f"A copy of: {entry.question}", about))
        return [*out, Start(NOTHING, "Nothing", "An empty plan: say what varies and what is held.")]

    def begin(self, start: str, hold: Mapping[str, str]) -> OpenPlan:
        """A plan from one of these, with some levels held already.

        Raises:
            UsageError: There is no such start.
            StudyFileError: The study it would copy cannot be read.
        """
        kind, _, name = start.partition(":")
        if kind == "study":
            entry = next((e for e in self._studies.shelf() if e.key == name), None)
            if entry is None:
                raise UsageError("that study is no longer on the shelf", remedy="choose another one")
            return self._held(self.copy_of(self._studies.open(entry), entry.file), hold)
        if kind == "template" and name in TEMPLATES:
            _, text = template_text(TEMPLATES[name], self._may_name, vary={}, hold=hold, lenient=True)
            return OpenPlan(History((text,)), self._places.studies)
        return self._held(OpenPlan(History((study_edit.EMPTY,)), self._places.studies), hold)

    def _held(self, plan: OpenPlan, hold: Mapping[str, str]) -> OpenPlan:
        text = plan.text
        for name, level in hold.items():
            text = study_edit.with_value(study_edit.without_value(text, ("vary", name)), ("hold", name), level)
        plan.history = plan.history.changed(text)
        return plan

    def copy_of(self, results: StudyResults, file: Path | None) -> OpenPlan:
        """A plan that says what a study says.

        That of somebody else is written from the plan that was checked, without addresses, keys and paths; the texts of
        its prompts become files of one's own.

        Raises:
            StudyFileError: Its file cannot be read.
            UsageError: Its prompts cannot be written.
        """
        if results.run.origin:
            return self._copied(results, results.run.origin)
        folder = self._places.studies
        text = results.run.source
        if file is not None and file.is_file():
            text, folder = file.read_text(encoding="utf-8"), file.parent
        if not text or (file is None and results.study.endpoint is None and self._lacks_files(results.study)):
            return self._copied(results, "")
        return OpenPlan(History((text,)), folder, file, text if file is not None else "")

    def _lacks_files(self, study: Study) -> bool:
        """Whether a file with prompts or times is not beside the plans: an example's, or one that was removed."""
        names = [*study.prompts.files, *filter(None, [study.load.times_file])]
        return not all((self._places.studies / name).is_file() for name in names)

    def _copied(self, results: StudyResults, origin: str) -> OpenPlan:
        whose = f"Copied from {origin}, somebody else's: {results.study.name}, run {results.run.number}."
        text, files = copied_study(results.study, comment=whose if origin else "")
        for name, data in files.items():
            if not (self._places.copies / name).is_file():
                with atomic_file(self._places.copies / name, folder_mode=0o700) as part:
                    part.write_bytes(data)
        return OpenPlan(History((text,)), self._places.copies, origin=origin)

    def with_change(self, plan: OpenPlan, cell: Cell, changes: Mapping[str, Level]) -> OpenPlan:
        """The plan with other settings than a cell has, by their role; under a name of its own."""
        raw, text = parse_toml(plan.text, file="the plan"), plan.text
        for role, level in changes.items():
            setting = next((s for s in cell.engine.settings if s.role == role), None)
            name = setting.name if setting is not None else role
            varied = raw.get("vary", {}).get(name)
            if isinstance(varied, list):
                levels = dict.fromkeys(level if v == cell.levels.get(name) else v for v in varied)
                text = study_edit.with_value(text, ("vary", name), list(levels))
            else:
                text = study_edit.with_value(text, ("hold", name), level)
        text = study_edit.with_value(text, ("name",), f"{str(raw.get('name', 'study'))[:50]}-fits")
        return OpenPlan(plan.history.changed(text), plan.folder, origin=plan.origin)

    # what it says
    def values(self, text: str, before: Mapping[str, Any]) -> Mapping[str, Any]:
        """The values of a text; those of before where it is no TOML."""
        try:
            return parse_toml(text, file="the plan")
        except StudyFileError:
            return before

    def check(self, text: str, folder: Path, before: Checked) -> Checked:
        """What a text says, and what is wrong or doubtful about it; of a text that is no TOML what it said before."""
        try:
            raw = parse_toml(text, file="the plan")
        except StudyFileError as error:
            wrong = Problem((), error.what, why=error.why, remedy=error.remedy)
            return Checked(before.raw, before.factors, None, (wrong,))
        engines = self._may_name
        factors = factors_of([engines.engines[name] for name in _named(raw) if name in engines.engines])
        found = check_study(raw, folder, engines)
        if found.study is None:
            return Checked(raw, factors, None, found.problems)
        study = found.study
        info = self._studies.planned_info(study)
        cores = cores_here() if not rigs_of(study) else None
        return Checked(raw, factors, StudyResults(study, _with_source(info, text)), (), tuple(doubts(study, cores)))

    def costs(self, study: Study) -> Costs:
        """What measuring it would take."""
        return costs_of(study, planned_cells(study, self._studies.sizes(study), self._studies.predicted(study)))

    def with_value(self, text: str, path: tuple[str, ...], value: Plain | None) -> str:
        """The text with a value, or without it."""
        return study_edit.without_value(text, path) if value is None else study_edit.with_value(text, path, value)

    def known_levels(self, name: str) -> list[tuple[str, str]]:
        """Levels of a factor that are known here."""
        if name == "rig":
            return [(rig.name, rig.reach) for rig in self._rigs().all() if rig.name != HERE and not rig.on_paper]
        return known_levels(name, self._may_name, self._places)

    def brought_files(self, said: str, plan: OpenPlan) -> list[str]:
        """Prompt files as a person names them, those from elsewhere copied to the plan, typed texts written there.

        Raises:
            UsageError: One cannot be used.
        """
        from zinc_kettle.formats.prompt_files import brought

        return brought(said, plan.folder)

    def prompts_of(self, raw: Mapping[str, object], folder: Path) -> list[tuple[str, str]]:
        """Names of the prompts that a plan's files hold, after the word for all of them; none without files."""
        names = prompt_names(raw, folder)
        return [(EVERY, f"each of the {len(names):,}"), *((name, "") for name in names)] if names else []

    def models(self) -> list[Start]:
        """Models on this machine's disks, the largest last."""
        found = [model for model in models_here(self._places) if model.shape is not None]
        out = []
        for model in sorted(found, key=lambda m: m.size_bytes):
            held = levels_of_model(model, self._places)
            out.append(Start(msgspec.json.encode(held).decode(), model.path.name, byte_size(model.size_bytes)))
        return out

    # keeping
    def save(self, plan: OpenPlan) -> Path:
        """Write it into the studies folder under its name; its prompt files go along.

        Raises:
            UsageError: It has no usable name, or another study has it.
        """
        raw = parse_toml(plan.text, file="the plan")
        name = raw.get("name", "")
        if not is_name(name):
            raise UsageError(f"{str(name)[:80]!r} is no name for a study", remedy=NAME_HINT)
        file = self._places.studies / f"{name}{ENDING}"
        if file.exists() and file != plan.file and file.read_text(encoding="utf-8") != plan.text:
            raise UsageError(f"there is a study {name} already", remedy="give this one another name")
        file.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        for beside in [*_beside(raw)]:
            if plan.folder != file.parent and (plan.folder / beside).is_file() and not (file.parent / beside).exists():
                (file.parent / beside).parent.mkdir(parents=True, exist_ok=True)
                shutil.copyfile(plan.folder / beside, file.parent / beside)
        _write(file, plan.text)
        plan.file, plan.saved, plan.folder = file, plan.text, file.parent
        return file

    def keep(self, plan: OpenPlan | None) -> None:
        """Keep it as it stands, so that nothing is lost when the terminal closes."""
        if plan is None:
            self._places.plan.unlink(missing_ok=True)
            return
        first = max(0, plan.history.at - MOST_HISTORY)
        kept = _Kept(
            list(plan.history.texts[first:]),
            plan.history.at - first,
            str(plan.folder),
            None if plan.file is None else str(plan.file),
            plan.saved,
            None if plan.typing is None else (list(plan.typing[0]), plan.typing[1]),
            plan.origin,
        )
        # Where it cannot be kept, one goes on with what is on the screen; saving it tells why.
        with contextlib.suppress(UsageError):
            _write(self._places.plan, msgspec.json.encode(kept).decode())

    def kept(self) -> OpenPlan | None:
        """The plan that was being edited; None where there is none, or it cannot be read."""
        with contextlib.suppress(OSError, msgspec.MsgspecError, UnicodeDecodeError, IndexError):
            kept = msgspec.json.decode(self._places.plan.read_bytes(), type=_Kept)
            history = History(tuple(kept.texts), min(max(0, kept.at), len(kept.texts) - 1))
            typing = None if kept.typing is None else (tuple(kept.typing[0]), kept.typing[1])
            assert history.text is not None
            file = None if kept.file is None else Path(kept.file)
            return OpenPlan(history, Path(kept.folder), file, kept.saved, typing=typing, origin=kept.origin)
        return None


def _named(raw: Mapping[str, object]) -> list[str]:
    """Engines a plan names; the built-in one where it names none."""
    vary, hold = raw.get("vary"), raw.get("hold")
    out = []
    for table in (vary, hold):
        named = table.get("engine") if isinstance(table, Mapping) else None
        out += [str(name) for name in (named if isinstance(named, list) else [named] if named else [])]
    return out or [OPEN_PROTOCOL if "endpoint" in raw else BUILT_IN]


def _with_source(info: RunInfo, text: str) -> RunInfo:
    return replace(info, source=text)


def _beside(raw: Mapping[str, object]) -> list[str]:
    """Files a study names beside it."""
    prompts, load = raw.get("prompts"), raw.get("load")
    files = prompts.get("files", []) if isinstance(prompts, Mapping) else []
    times = [load["times_file"]] if isinstance(load, Mapping) and "times_file" in load else []
    return [str(name) for name in [*files, *times] if ".." not in str(name) and not Path(str(name)).is_absolute()]


def _write(file: Path, text: str) -> None:
    with atomic_file(file, folder_mode=0o700) as part:
        part.write_text(text, encoding="utf-8")
        part.chmod(0o600)
