"""Engine recipes: TOML files that say how an engine is started, asked and read, and which settings it has.

Some come with the tool, in the folder `recipes` beside this module; a person's own lie in their data folder.
"""

from __future__ import annotations

import string
from collections.abc import Iterable, Mapping
from functools import cache
from importlib import resources
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import Field, ValidationError, field_validator, model_validator

from zinc_kettle.core.checks.sections import endpoint_problems
from zinc_kettle.core.names import LONGEST_SHORT_NAME, NAME_HINT, is_name
from zinc_kettle.core.plan import recipe as r
from zinc_kettle.core.plan.factors import FACTORS, TYPES
from zinc_kettle.core.problem import nearest
from zinc_kettle.errors import StudyFileError
from zinc_kettle.formats.declared import Strict, complaint, model_of, record_of
from zinc_kettle.formats.toml import parse_toml, read_toml

PLACES = frozenset({"model", "port", "python", "launcher"})
"""What an argument may hold in braces."""
MAX_RECIPES = 200


class StartSection(model_of(r.Start)):  # type: ignore[misc]
    """`[start]`"""

    @model_validator(mode="after")
    def _argv(self) -> StartSection:
        held = {name for part in self.argv for _, name, _, _ in string.Formatter().parse(part) if name is not None}
        if unknown := held - PLACES:
            raise ValueError(f"{{{min(unknown)}}} is not known; in braces may stand {', '.join(sorted(PLACES))}")
        if "model" not in held or "port" not in held:
            raise ValueError("argv needs {model} and {port}, where the file and the port belong")
        if ("launcher" in held) != bool(self.launcher):
            raise ValueError('{launcher} in argv goes with launcher = "…"')
        ours = resources.files("zinc_kettle").joinpath("engines", "launchers", f"serve_{self.launcher}.py")
        if self.launcher and not ours.is_file():
            raise ValueError(f"there is no launcher {self.launcher!r}; leave it out for a program of your own")
        return self


class SettingSection(model_of(r.Setting)):  # type: ignore[misc]
    """`[settings.NAME]`"""

    reload: bool = True

    @model_validator(mode="after")
    def _fits(self) -> SettingSection:
        applied = self.argument or self.flag or self.flag_off or self.environment
        if not applied and not self.request:
            raise ValueError("say how it reaches the engine: argument, flag, flag_off, environment or request")
        if applied and not self.reload:
            raise ValueError("only a setting that is a field of each request needs no reload")
        if (self.flag or self.flag_off) and self.type != "switch":
            raise ValueError("flag and flag_off are for a switch; use argument")
        if self.default is not None and type(self.default) is not TYPES[self.type]:
            raise ValueError(f"default = {self.default!r} does not fit type = {self.type!r}")
        if self.default is not None and self.choices and self.default not in self.choices:
            raise ValueError(f"default = {self.default!r} is not one of the choices")
        if self.low > self.high:
            raise ValueError("low is above high")
        return self


class RecipeFile(Strict):
    """The whole file."""

    format: Literal[1]
    based_on: str = ""
    title: Annotated[str, Field(max_length=60)] = ""
    meaning: Annotated[str, Field(max_length=300)] = ""
    fits: bool = False
    connect_ahead: bool = True
    metrics: Annotated[str, Field(pattern=r"^(/[^\s]*)?$", max_length=200)] = ""
    start: StartSection | None = None
    endpoint: model_of(r.Endpoint) | None = None  # type: ignore[valid-type]
    requests: model_of(r.Requests) | None = None  # type: ignore[valid-type]
    reports: dict[str, model_of(r.ReportedAt)] = {}  # type: ignore[valid-type]
    count: model_of(r.Count) | None = None  # type: ignore[valid-type]
    facts: dict[Literal["version", "build", "slots"], model_of(r.Ask)] = {}  # type: ignore[valid-type]
    settings: dict[Annotated[str, Field(pattern=r"^[a-z][a-z0-9_]{0,39}$")], SettingSection] = {}

    @field_validator("reports", mode="before")
    @classmethod
    def _places(cls, found: Any) -> Any:
        """A place alone stands for one whose number is taken as it is."""
        if not isinstance(found, dict):
            return found
        return {name: {"at": place} if isinstance(place, str) else place for name, place in found.items()}

    @model_validator(mode="after")
    def _whole(self) -> RecipeFile:
        for name in self.reports:
            if name not in r.REPORTED:
                raise ValueError(f"reports.{name} is not known; try {nearest(name, r.REPORTED)}")
        for name, setting in self.settings.items():
            if name in FACTORS:
                raise ValueError(f"settings.{name}: every engine has {name}; give the setting another name")
            if setting.role is not None and any(s.role == setting.role and n != name for n, s in self.settings.items()):
                raise ValueError(f"settings.{name}: two settings have the role {setting.role}")
        if self.start is not None and self.endpoint is not None:
            raise ValueError("an engine is started, or runs at an endpoint; keep one of the two")
        for problem in endpoint_problems(record_of(self.endpoint, r.Endpoint)) if self.endpoint else ():
            raise ValueError(problem.why or problem.what)
        return self


@cache
def shipped() -> Mapping[str, r.Recipe]:
    """The recipes that come with the tool, by name."""
    found = _resolved(_shipped_raw(), {})
    return dict(sorted(found.items(), key=lambda entry: (entry[0] != r.BUILT_IN, entry[0])))


def read_recipes(folder: Path) -> Mapping[str, r.Recipe]:
    """All recipes: those that come with the tool, and a person's own, of which each file is named after its engine.

    Raises:
        StudyFileError: One of the person's cannot be used.
    """
    raw: dict[str, dict[str, Any]] = {}
    files = sorted(folder.glob("*.toml"))[:MAX_RECIPES] if folder.is_dir() else []
    for path in files:
        if not is_name(path.stem, longest=LONGEST_SHORT_NAME):
            raise StudyFileError(
                "is not a valid name for a recipe", file=path.name, remedy=f"{NAME_HINT}: my-engine.toml"
            )
        if path.stem in shipped():
            raise StudyFileError(
                "has the name of a recipe that comes with Zinc Kettle",
                file=path.name,
                remedy="rename the file; based_on takes over what a recipe says",
            )
        raw[path.stem], _ = read_toml(path)
    return {**shipped(), **_resolved(raw, _shipped_raw())}


@cache
def _shipped_raw() -> dict[str, dict[str, Any]]:
    folder = resources.files("zinc_kettle.formats").joinpath("recipes")
    return {
        entry.name.removesuffix(".toml"): parse_toml(entry.read_text(encoding="utf-8"), file=entry.name)
        for entry in folder.iterdir()
        if entry.name.endswith(".toml")
    }


def _resolved(raw: Mapping[str, dict[str, Any]], beneath: Mapping[str, dict[str, Any]]) -> dict[str, r.Recipe]:
    return {name: _recipe(name, _whole(name, {**beneath, **raw}, ())) for name in raw}


def _whole(name: str, raw: Mapping[str, dict[str, Any]], seen: tuple[str, ...]) -> dict[str, Any]:
    """A recipe with what it takes over from the one it is based on."""
    mine = raw[name]
    base = mine.get("based_on", "")
    if not base:
        return mine
    if not isinstance(base, str):
        raise StudyFileError(
            "based_on is not the name of a recipe", file=f"{name}.toml", remedy='based_on = "built-in"'
        )
    if base not in raw:
        raise StudyFileError(f"there is no recipe {base!r}", file=f"{name}.toml", remedy=nearest(base, raw))
    if base in (*seen, name):
        raise StudyFileError("is based on itself", file=f"{name}.toml", remedy="base it on another recipe")
    return _over(_whole(base, raw, (*seen, name)), mine)


def _over(base: Mapping[str, Any], top: Mapping[str, Any]) -> dict[str, Any]:
    """Tables are merged, anything else is replaced."""
    out = dict(base)
    for key, value in top.items():
        below = out.get(key)
        out[key] = _over(below, value) if isinstance(below, dict) and isinstance(value, dict) else value
    return out


def _recipe(name: str, raw: dict[str, Any]) -> r.Recipe:
    try:
        m = RecipeFile.model_validate(raw)
    except ValidationError as error:
        raise _refused(f"{name}.toml", error) from error
    return r.Recipe(
        engine=r.Engine(
            name,
            tuple(_setting(key, section) for key, section in m.settings.items()),
            m.fits,
            started=m.start is not None,
        ),
        title=m.title or name,
        meaning=m.meaning,
        start=None if m.start is None else record_of(m.start, r.Start),
        endpoint=None if m.endpoint is None else record_of(m.endpoint, r.Endpoint),
        requests=r.Requests() if m.requests is None else record_of(m.requests, r.Requests),
        reports={key: record_of(found, r.ReportedAt) for key, found in m.reports.items()},
        count=None if m.count is None else record_of(m.count, r.Count),
        facts={key: record_of(ask, r.Ask) for key, ask in m.facts.items()},
        metrics=m.metrics,
        connect_ahead=m.connect_ahead,
    )


def _setting(name: str, m: Any) -> r.Setting:
    alone = m.type == "model" and not m.label
    found: r.Setting = record_of(m, r.Setting, name=name, kind="launch" if m.reload else "request", alone=alone)
    return found


def _refused(file: str, error: ValidationError) -> StudyFileError:
    """The first of pydantic's complaints in our words."""
    found = error.errors()[0]
    path = [str(key) for key in found["loc"] if not str(key).endswith("]")]
    where = ".".join(path)
    if found["type"] == "extra_forbidden":
        return StudyFileError(f"{where} is not known", file=file, remedy=nearest(path[-1], _keys(path[:-1])))
    if found["type"] == "missing":
        return StudyFileError(f"{where} is missing", file=file, remedy=f"add {path[-1]} = …")
    return StudyFileError(
        f"{where or 'the recipe'} is not valid",
        file=file,
        why=complaint(found),
        remedy="docs/recipes.md has every field with an example",
    )


def _keys(path: list[str]) -> Iterable[str]:
    sections: dict[str, type[Strict]] = {
        "start": StartSection,
        "endpoint": model_of(r.Endpoint),
        "requests": model_of(r.Requests),
        "count": model_of(r.Count),
        "settings": SettingSection,
        "reports": model_of(r.ReportedAt),
        "facts": model_of(r.Ask),
    }
    return (sections[path[0]] if path and path[0] in sections else RecipeFile).model_fields
