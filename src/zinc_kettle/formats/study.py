"""Study files: TOML a person can read and write; all that is wrong with one is said at once, each with its line."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, Literal, TypeVar

from pydantic import Field, ValidationError

from zinc_kettle.core.checks.sections import completed
from zinc_kettle.core.checks.validate import factor_problems, validate
from zinc_kettle.core.declared import declared, parts_of
from zinc_kettle.core.plan import recipe, traffic
from zinc_kettle.core.plan import study as plan
from zinc_kettle.core.plan.factors import EVERY, Level
from zinc_kettle.core.plan.suite import SUITE
from zinc_kettle.core.problem import Problem, nearest
from zinc_kettle.core.text import neutralise
from zinc_kettle.errors import StudyFileError
from zinc_kettle.formats.declared import as_tuples, complaint, model_of, record_of
from zinc_kettle.formats.prompts import BadPromptFile, NamedPrompt, read_prompts, read_times
from zinc_kettle.formats.shared_study import NO_ADDRESS
from zinc_kettle.formats.suite import task_texts
from zinc_kettle.formats.toml import parse_toml, read_toml


class StudyFile(model_of(plan.Study)):  # type: ignore[misc]
    """The whole file."""

    format: Literal[1]
    vary: dict[str, tuple[Level, ...]]
    hold: dict[str, Level] = Field(default_factory=dict)


T = TypeVar("T")
MOST_PROBLEMS = 40
"""That are said of one file; who has mended these sees the next."""


@dataclass(frozen=True)
class Known:
    """What a study file may name."""

    engines: Mapping[str, recipe.Engine]
    """Engines there are recipes for, by name."""
    rig_engines: Mapping[str, str] = field(default_factory=dict)
    """What rigs speak whose engine already runs, by rig."""


def read_study(path: Path, known: Known) -> tuple[plan.Study, str]:
    """Read a study file.

    Returns:
        The study, and the file's text.

    Raises:
        StudyFileError: Anything wrong with it, each with its line.
    """
    raw, text = read_toml(path)
    return _raised(check_study(raw, path.parent, known), text, path.name), text


def parse_study(text: str, known: Known, *, file: str, folder: Path) -> plan.Study:
    """Check the text of a study file; prompt files are looked up in `folder`.

    Raises:
        StudyFileError: Anything wrong with it, each with its line.
    """
    return _raised(check_study(parse_toml(text, file=file), folder, known), text, file)


@dataclass(frozen=True)
class Checked:
    """What a study file says: a study, or what is wrong."""

    study: plan.Study | None
    problems: tuple[Problem, ...] = ()


def check_study(raw: Mapping[str, Any], folder: Path, known: Known) -> Checked:
    """Everything that is wrong with the values of a study file; the study where nothing is.

    Args:
        raw: Its values, as TOML gives them.
        folder: Where prompt files are looked up.
        known: What it may name.
    """
    try:
        model = StudyFile.model_validate(_as_records(raw))
    except ValidationError as error:
        found = error.errors(include_url=False, include_context=False, include_input=False)[:MOST_PROBLEMS]
        return Checked(None, (*map(_translated, found), *_factors_of(raw, known)))
    reader = _Files(folder)
    study = _study(model, reader, known)
    problems = tuple([*_left_out(study), *_without_low(model), *(reader.problems or validate(study, known.engines))])
    return Checked(None if problems else study, problems)


def _as_records(raw: Mapping[str, Any]) -> Any:
    """Its values as records have them; what is left out by one level is left out by a list of one."""
    out = as_tuples(raw)
    design = out.get("design")
    rules = design.get("without") if isinstance(design, dict) else None
    if isinstance(rules, tuple):
        out["design"] = {**design, "without": tuple(map(_with_lists, rules))}
    return out


def _without_low(m: Any) -> Iterator[Problem]:
    """A uniform distribution says both its ends; of the others the least may be left out."""
    for name in ("lengths", "outputs"):
        lengths = None if m.prompts is None else getattr(m.prompts, name)
        if lengths is not None and lengths.kind == "uniform" and "low" not in lengths.model_fields_set:
            yield Problem(("prompts", name), "uniform needs low", remedy="give low, high")


def _left_out(study: plan.Study) -> Iterator[Problem]:
    """Where a study was copied from somebody else, its address is for the person to type in."""
    if study.endpoint is not None and study.endpoint.url == NO_ADDRESS:
        yield Problem(
            ("endpoint", "url"),
            "the address was left out when this study was shared",
            remedy="type the address of your own engine",
        )


def _raised(checked: Checked, text: str, file: str) -> plan.Study:
    if checked.study is None:
        raise _error(checked.problems, text, file)
    return checked.study


def _error(problems: Sequence[Problem], text: str, file: str) -> StudyFileError:
    """All problems as one error, in the order of their lines."""
    found = [(line_of(text, *problem.path), problem) for problem in problems]
    found.sort(key=lambda pair: pair[0] or 0)
    first, *others = [
        StudyFileError(p.what, file=file, line=line, why=p.why, remedy=p.remedy) for line, p in dict.fromkeys(found)
    ]
    first.others = tuple(others)
    return first


def line_of(text: str, *keys: str) -> int | None:
    """The line where a key stands, found by its table's header and its name; None where it is not written out."""
    if not keys:
        return None
    table, key = ".".join(keys[:-1]), keys[-1]
    current = ""
    for number, line in enumerate(text.splitlines(), start=1):
        header = re.match(r"\s*\[\s*([\w.\- ]+?)\s*\]\s*(#.*)?$", line)
        if header:
            current = header.group(1)
            if current == ".".join(keys):
                return number
        elif current == table and re.match(rf"\s*[\"']?{re.escape(key)}[\"']?\s*=", line):
            return number
    return line_of(text, *keys[:-1]) if len(keys) > 1 else None


def _translated(found: Mapping[str, Any]) -> Problem:
    """One of pydantic's complaints in our words."""
    keys = tuple(k for k in found["loc"] if k not in {"str", "int", "bool"})
    path = tuple(k for k in keys if isinstance(k, str))
    name = ".".join(path)
    if found["type"] == "missing":
        return Problem(path[:-1], f"{name} is missing", remedy=f"add {path[-1]} = …")
    if found["type"] == "extra_forbidden":
        return Problem(path, f"{name} is not known", remedy=nearest(path[-1], _names_in(path[:-1])))
    return Problem(
        path,
        f"{name} is not valid",
        why=complaint(found),
        remedy="docs/study-files.md has every field with an example",
    )


def _factors_of(raw: Mapping[str, Any], known: Known) -> list[Problem]:
    """Problems of factors and levels, where the rest of the file is broken too."""
    vary, hold = raw.get("vary", {}), raw.get("hold", {})
    whole = isinstance(vary, dict) and isinstance(hold, dict) and all(isinstance(v, list) for v in vary.values())
    if not whole:
        return []
    named = {str(name) for name in [*vary.get("engine", []), hold.get("engine", recipe.BUILT_IN)]}
    return factor_problems(vary, hold, [engine for name, engine in known.engines.items() if name in named])


def _with_lists(rule: Any) -> Any:
    if not isinstance(rule, dict):
        return rule
    return {name: level if isinstance(level, tuple) else (level,) for name, level in rule.items()}


class _Files:
    """Reads what a study file names beside it, and gathers what is wrong with it."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self.problems: list[Problem] = []

    def read(self, name: str, path: tuple[str, ...], read: Callable[[Path], T]) -> T | None:
        """What a file holds; None where it cannot be used, which is then among the problems."""
        where = self._folder / name
        try:
            if not where.resolve().is_relative_to(self._folder.resolve()):
                raise BadPromptFile("is outside the study's folder")
            return read(where)
        except BadPromptFile as error:
            remedy = "put it beside the study file; docs/study-files.md shows what it contains"
            self.problems.append(Problem(path, f"{name} {error}", remedy=remedy))
            return None


def _names_in(path: tuple[str, ...]) -> Sequence[str]:
    """What a table of the file may say."""
    record: type = plan.Study
    for name in path:
        part = parts_of(record).get(name)
        if part is None:
            return ()
        record = part
    return list(declared(record)) if path else list(StudyFile.model_fields)


def _study(m: Any, files: _Files, known: Known) -> plan.Study:
    """The study of a file whose values have their types and bounds."""
    times: tuple[float, ...] = ()
    if m.load is not None and m.load.times_file is not None:
        times = files.read(m.load.times_file, ("load", "times_file"), read_times) or ()
    more = {"prompts": _texts(m, files), "load": {"times_s": times}}
    sections = {
        name: record_of(getattr(m, name), record, **more.get(name, {}))
        for name, record in parts_of(plan.Study).items()
        if getattr(m, name) is not None
    }
    sections.setdefault("prompts", plan.Prompts(**more["prompts"]))
    repeats = sections.get("repeats", plan.Repeats())
    said = m.repeats.model_fields_set if m.repeats is not None else set()
    vary = m.vary
    if vary.get("prompt") == (EVERY,):
        vary = {**vary, "prompt": tuple(dict.fromkeys(sections["prompts"].names))}
    decide = sections.get("decide")
    by = "" if decide is None or "until_measure" in said else decide.by
    sections["repeats"] = completed(repeats, counted="count" in said, by=by)
    study = plan.Study(
        m.name,
        neutralise(m.question, keep_newlines=False),
        vary,
        m.hold,
        seed=m.seed,
        temperature=m.temperature,
        **sections,
    )
    named = [known.engines[name] for name in _with_rigs(study, known).engine_names if name in known.engines]
    return replace(_with_rigs(study, known), engines=tuple(named))


def _with_rigs(study: plan.Study, known: Known) -> plan.Study:
    """The study with what its rigs speak whose engine already runs."""
    rigs = set(plan.rigs_of(study))
    return replace(study, rig_engines={rig: engine for rig, engine in known.rig_engines.items() if rig in rigs})


def _texts(m: Any, files: _Files) -> dict[str, Any]:
    """What the prompt files hold, and the texts of the suite's tasks.

    They are part of the study, so that a later suite leaves it as it was.
    """
    texts: list[NamedPrompt] = []
    recorded: list[NamedPrompt] = []
    for name in m.prompts.files if m.prompts is not None else ():
        for one in files.read(name, ("prompts", "files"), read_prompts) or ():
            (texts if isinstance(one.prompt, str) else recorded).append(one)
    named = [*m.vary.get("task", ()), *([m.hold["task"]] if "task" in m.hold else [])]
    tasks = {str(name): task_texts(str(name)) for name in named if name in SUITE}
    drawn = traffic.sample(recorded, None if m.prompts is None else m.prompts.sample, seed=m.seed)
    names = [one.name for one in (*texts, *drawn)] if "prompt" in {*m.vary, *m.hold} else []
    return {
        "texts": tuple(one.prompt for one in texts),
        "recorded": tuple(one.prompt for one in drawn),
        "names": tuple(m.prompts.names if m.prompts is not None and m.prompts.names else names),
        "tasks": tasks,
    }


def prompt_names(raw: Mapping[str, Any], folder: Path) -> list[str]:
    """Names of the prompts that the values of a study file name; none where a file cannot be read."""
    prompts = raw.get("prompts")
    files = prompts.get("files") if isinstance(prompts, Mapping) else None
    reader = _Files(folder)
    found = [reader.read(str(name), (), read_prompts) for name in files] if isinstance(files, list) else []
    return [one.name for part in found for one in part or ()]
