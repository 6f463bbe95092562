"""Study files: TOML a person can read and write; all that is wrong with one is said at once, each with its line."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, TypeVar

from pydantic import BaseModel, ValidationError

from zinc_kettle.core import plan, recipe, traffic
from zinc_kettle.core.design import Design
from zinc_kettle.core.suite import SUITE
from zinc_kettle.core.text import neutralise
from zinc_kettle.core.validate import Draft, Problem, factor_problems, nearest, study_of, validate
from zinc_kettle.errors import StudyFileError
from zinc_kettle.formats import sections
from zinc_kettle.formats.prompts import BadPromptFile, read_prompts, read_times
from zinc_kettle.formats.sections import StudyFile
from zinc_kettle.formats.shared_study import NO_ADDRESS
from zinc_kettle.formats.suite import task_texts
from zinc_kettle.formats.toml import parse_toml, read_toml

NESTED: dict[str, type[BaseModel]] = {
    "repeats": sections.RepeatsSection,
    "limits": sections.LimitsSection,
    "prompts": sections.PromptsSection,
    "endpoint": sections.EndpointSection,
    "load": sections.LoadSection,
    "retry": sections.RetrySection,
    "promise": sections.PromiseSection,
    "capacity": sections.CapacitySection,
    "design": sections.DesignSection,
}
T = TypeVar("T")
MOST_PROBLEMS = 40
"""That are said of one file; who has mended these sees the next."""
ANSWER_CEILING = 40
"""The most repeats of a cell where the question decides, and no ceiling is given."""


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
        model = StudyFile.model_validate(raw)
    except ValidationError as error:
        found = error.errors(include_url=False, include_context=False, include_input=False)[:MOST_PROBLEMS]
        return Checked(None, (*map(_translated, found), *_factors_of(raw, known)))
    reader = _Files(folder)
    draft = _draft(model, reader, known)
    problems = tuple([*_left_out(model), *(reader.problems or validate(draft))])
    return Checked(None if problems else study_of(draft), problems)


def _left_out(m: StudyFile) -> Iterator[Problem]:
    """Where a study was copied from somebody else, its address is for the person to type in."""
    if m.endpoint is not None and m.endpoint.url == NO_ADDRESS:
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
        model = NESTED.get(path[0], StudyFile) if len(path) > 1 else StudyFile
        if len(path) > 2:
            model = sections.LengthsSection
        return Problem(path, f"{name} is not known", remedy=nearest(path[-1], model.model_fields))
    return Problem(
        path,
        f"{name} is not valid",
        why=str(found["msg"]).removeprefix("Value error, "),
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


def _draft(m: StudyFile, files: _Files, known: Known) -> Draft:
    return Draft(
        name=m.name,
        question=neutralise(m.question, keep_newlines=False),
        vary=m.vary,
        hold=m.hold,
        endpoint=None if m.endpoint is None else recipe.Endpoint(**m.endpoint.model_dump()),
        prompts=_prompts(m, files),
        repeats=_repeats(m.repeats),
        limits=plan.Limits(**m.limits.model_dump()),
        seed=m.seed,
        temperature=m.temperature,
        load=_load(m.load, files),
        retry=traffic.RetryPolicy(**{**m.retry.model_dump(), "on": tuple(m.retry.on)}),
        promise=traffic.Promise(**m.promise.model_dump()),
        capacity=traffic.CapacitySearch() if m.capacity is None else traffic.CapacitySearch(**m.capacity.model_dump()),
        design=_design(m.design),
        known=known.engines,
        rig_engines=known.rig_engines,
    )


def _prompts(m: StudyFile, files: _Files) -> plan.Prompts:
    texts: list[str] = []
    recorded: list[traffic.Recorded] = []
    for name in m.prompts.files:
        found = files.read(name, ("prompts", "files"), read_prompts)
        if isinstance(found, str):
            texts.append(found)
        else:
            recorded += found or []
    named = [*m.vary.get("task", []), *([m.hold["task"]] if "task" in m.hold else [])]
    # Texts of the suite's tasks are part of the study, so that a later suite leaves it as it was.
    tasks = {str(name): task_texts(str(name)) for name in named if name in SUITE}
    return plan.Prompts(
        tuple(m.prompts.files),
        tuple(texts),
        tuple(traffic.sample(recorded, m.prompts.sample, seed=m.seed)),
        tasks,
        m.prompts.sample,
        _lengths(m.prompts.lengths),
        _lengths(m.prompts.outputs),
    )


def _design(m: sections.DesignSection) -> Design:
    without = tuple(
        {name: tuple(mine) if isinstance(mine, list) else (mine,) for name, mine in rule.items()} for rule in m.without
    )
    return Design(m.kind, dict(m.baseline), tuple(tuple(tie) for tie in m.ties), without)


def _load(m: sections.LoadSection, files: _Files) -> traffic.Load:
    times: tuple[float, ...] = ()
    if m.times_file is not None:
        times = files.read(m.times_file, ("load", "times_file"), read_times) or ()
    return traffic.Load(m.shape, m.arrivals, times, m.times_file, m.think_s, m.turns, m.drivers)


def _repeats(m: sections.RepeatsSection) -> plan.Repeats:
    """How often, with the floor and the ceiling that are meant where none is written."""
    floor = m.count or m.floor or 3
    ceiling = 0 if m.floor is None else (m.ceiling or ANSWER_CEILING if m.until_answered else m.ceiling or 5 * floor)
    given = {name: value for name, value in m.model_dump().items() if value is not None}
    return plan.Repeats(**{**given, "count": floor, "ceiling": ceiling})


def _lengths(m: sections.LengthsSection | None) -> traffic.Lengths | None:
    """A distribution as the core knows it."""
    if m is None:
        return None
    table = tuple((int(tokens), float(weight)) for tokens, weight in m.table)
    low, high = m.low or 1, m.high or traffic.MAX_TOKENS_DRAWN
    return traffic.Lengths(m.kind, m.tokens or 0, low, high, m.median or 0.0, m.sigma or 0.0, table)
