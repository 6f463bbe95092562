"""The rig file: which machines there are, how each is reached, and what a person knows of them."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Annotated, Any

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from zinc_kettle.core.names import LONGEST_SHORT_NAME, is_name, name_pattern
from zinc_kettle.core.plan.factors import HERE
from zinc_kettle.core.rig import FACT_KINDS, Fact, RigPlan
from zinc_kettle.core.text import neutralise
from zinc_kettle.errors import StudyFileError, UsageError
from zinc_kettle.formats.atomic_file import atomic_file
from zinc_kettle.formats.declared import complaint, model_of, record_of
from zinc_kettle.formats.toml import read_toml

NAME = name_pattern(LONGEST_SHORT_NAME)
_SCALES = {
    "GB/s": 1e9,
    "GiB/s": float(1 << 30),
    "MB/s": 1e6,
    "B/s": 1.0,
    "W": 1.0,
    "GB": 1e9,
    "GiB": float(1 << 30),
    "": 1.0,
}
UNITS = {"B/s": ("GB/s", "GiB/s", "MB/s", "B/s"), "W": ("W",), "bytes": ("GB", "GiB"), "price": (), "": ()}


class _Model(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class TypedFact(_Model):
    """A fact a person knows, its unit, and where they have it from."""

    value: float | str
    unit: str = ""
    source: Annotated[str, Field(alias="from", max_length=80)] = "typed in"


class RigSection(model_of(RigPlan)):  # type: ignore[misc]
    """One rig."""

    engines: dict[Annotated[str, Field(pattern=NAME)], str] = Field(default_factory=dict)
    facts: dict[str, TypedFact] = Field(default_factory=dict)


def read_rigs(path: Path) -> list[RigPlan]:
    """All rigs of a file; this machine first, also where the file does not name it or is not there.

    Raises:
        StudyFileError: The file cannot be used.
    """
    if not path.is_file():
        return [RigPlan(HERE, "here")]
    raw, _ = read_toml(path)
    if raw.pop("format", None) != 1:
        raise StudyFileError("does not say its format", file=path.name, remedy="write format = 1 in its first line")
    plans = [_plan(name, section, path.name) for name, section in raw.items()]
    if not any(p.reach == "here" for p in plans):
        plans.insert(0, RigPlan(HERE, "here"))
    return plans


def _plan(name: str, section: object, file: str) -> RigPlan:
    if not is_name(name, longest=LONGEST_SHORT_NAME):
        raise StudyFileError(f"{name!r} is not a valid rig name", file=file, remedy="small letters, digits and hyphens")
    try:
        checked = RigSection.model_validate(section)
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join([name, *map(str, first["loc"])])
        raise StudyFileError(f"{where}: {complaint(first)}", file=file, remedy="see docs/rigs.md") from error
    needs = {"url": "url", "ssh": "host", "paper": "sheet"}.get(checked.reach)
    if needs and not getattr(checked, needs):
        raise StudyFileError(
            f"{name} is reached by {checked.reach} and names no {needs}", file=file, remedy=f'{needs} = "…"'
        )
    typed = {key: _fact(name, key, fact, file) for key, fact in checked.facts.items()}
    plan: RigPlan = record_of(checked, RigPlan, name=name, typed=typed)
    return plan


def _fact(rig: str, key: str, fact: TypedFact, file: str) -> Fact:
    try:
        return Fact(fact_value(key, fact.value, fact.unit), "typed", neutralise(fact.source, keep_newlines=False))
    except UsageError as error:
        raise StudyFileError(f"{rig}.facts.{key}: {error.what}", file=file, remedy=error.remedy) from error


def fact_value(name: str, value: float | str, unit: str) -> float | str:
    """A typed fact in its base unit.

    Raises:
        UsageError: No such fact, not a number, or a unit it does not have.
    """
    kind = FACT_KINDS.get(name)
    if kind is None or not kind.typed:
        known = ", ".join(k.name for k in FACT_KINDS.values() if k.typed)
        raise UsageError(f"{name} is not a fact that can be typed in", remedy=f"one of: {known}")
    if not kind.unit:
        return neutralise(str(value), keep_newlines=False)[:200]
    allowed = UNITS.get(kind.unit, ())
    if allowed and unit not in allowed:
        raise UsageError(f"{name} has no unit {unit!r}", remedy=f"unit = one of: {', '.join(allowed)}")
    if not isinstance(value, (int, float)) or value < 0:
        raise UsageError(f"{name} should be a number of 0 or more, not {value!r}")
    return float(value) * _SCALES.get(unit, 1.0)


def add_address(path: Path, name: str, url: str, *, model: str, key_variable: str | None) -> None:
    """Write a rig into the rig file that is an engine which already runs, keeping the file's comments.

    Args:
        path: The rig file.
        name: Of the rig.
        url: Its address.
        model: The model's name as it is sent.
        key_variable: Name of the environment variable with its key; None where it needs none.

    Raises:
        StudyFileError: The name or the address cannot be used, or the file cannot be written.
        UsageError: There is a rig of that name.
    """
    given: dict[str, object] = {"reach": "url", "url": url, "model": model}
    if key_variable is not None:
        given["key_variable"] = key_variable
    _add(path, name, given)


def add_on_paper(path: Path, name: str, sheet: str) -> None:
    """Write a rig into the rig file of which there is only a data sheet, keeping the file's comments.

    Args:
        path: The rig file.
        name: Of the rig.
        sheet: What it tells, as `core.said_rig` reads it.

    Raises:
        StudyFileError: The name or the sheet cannot be used, or the file cannot be written.
        UsageError: There is a rig of that name.
    """
    _add(path, name, {"reach": "paper", "sheet": sheet})


def _add(path: Path, name: str, given: dict[str, object]) -> None:
    if name == HERE:
        raise UsageError(f"{HERE} is this machine, and no name for another one", remedy="choose another name")
    _plan(name, given, path.name)
    if any(plan.name == name for plan in read_rigs(path)):
        raise UsageError(f"there is a rig {name} already", remedy="choose another name")
    _write(path, lambda document: document.__setitem__(name, _table(given)))


def _table(given: dict[str, object]) -> Any:
    import tomlkit

    table = tomlkit.table()
    table.update(given)
    return table


def _write(path: Path, change: Callable[[Any], None]) -> None:
    """Change the rig file, all of it or nothing."""
    import tomlkit

    try:
        document = tomlkit.parse(path.read_text(encoding="utf-8")) if path.is_file() else tomlkit.document()
        document.setdefault("format", 1)
        change(document)
        with atomic_file(path, folder_mode=0o700) as part:
            part.write_text(tomlkit.dumps(document), encoding="utf-8")
    except (OSError, tomlkit.exceptions.TOMLKitError) as error:
        raise StudyFileError("cannot be written", file=path.name, why=str(error)) from error


def type_fact(path: Path, rig: RigPlan, name: str, value: float | str, unit: str, source: str) -> None:
    """Write a fact into the rig file, keeping its comments; the rig is added where the file does not name it.

    Args:
        path: The rig file.
        rig: The rig as the file has it.
        name: Of the fact.
        value: A number, or text where the fact is text.
        unit: Of the number; empty for text.
        source: Where the person has it from.

    Raises:
        UsageError: The fact cannot be used; nothing is written.
        StudyFileError: The file cannot be read or written.
    """
    import tomlkit

    fact_value(name, value, unit)
    fact = tomlkit.inline_table()
    fact.update({"value": value, **({"unit": unit} if unit else {}), "from": source or "typed in"})

    def change(document: Any) -> None:
        section = document.setdefault(rig.name, tomlkit.table())
        section.setdefault("reach", rig.reach)
        section.setdefault("facts", tomlkit.table())[name] = fact

    _write(path, change)
