"""Records that are declared once: beside a field's type stand its bounds, its words and an example.

What a file may say, how an editor asks for it and what the documents tell follow from that. A field without words is
the tool's own and stands in no file.
"""

from __future__ import annotations

import types
from collections.abc import Callable, Mapping
from dataclasses import MISSING, Field, dataclass, field, fields, is_dataclass
from functools import cache
from math import isfinite
from typing import Annotated, Any, Literal, TypeAlias, Union, get_args, get_origin, get_type_hints

FieldKind = Literal[
    "text", "whole", "number", "percent", "seconds", "choice", "names", "lengths", "levels", "ties", "rules"
]
Plain: TypeAlias = "str | int | float | bool | list[Plain] | dict[str, Plain]"
"""A value as TOML has it."""
UNIONS = (Union, types.UnionType)
_UNIT_KINDS: tuple[tuple[str, FieldKind], ...] = (("_s", "seconds"), ("_percent", "percent"))


@dataclass(frozen=True, slots=True)
class About:
    """The words of a field; stands in its annotation, beside `annotated_types` bounds."""

    label: str
    help: str
    example: str
    """As a person types it."""
    choices: Mapping[str, str] = field(default_factory=dict)
    """Of a field with a few values: what each does."""
    kind: FieldKind | None = None
    """How it is typed, where its type does not say that."""
    blank: bool = False
    """True where its default says nothing, and something else then decides."""


@dataclass(frozen=True, slots=True)
class Checked:
    """A rule that no bound expresses; stands in an annotation."""

    problem: Callable[[Any], str]
    """What is wrong with a value, as a clause; empty where nothing is."""


def json_problem(value: object) -> str:
    """What of a value JSON does not have, as a clause; empty where it has all of it."""
    if isinstance(value, Mapping):
        return next((found for part in value.values() if (found := json_problem(part))), "")
    if isinstance(value, list):
        return next((found for part in value if (found := json_problem(part))), "")
    if isinstance(value, float) and not isfinite(value):
        return "JSON has no number that is not finite"
    return "" if isinstance(value, (str, int, float)) else "JSON has no dates and times; write a text"


@dataclass(frozen=True, slots=True)
class Declared:
    """A field of a record that a file may say."""

    name: str
    annotation: Any
    """Its type with its bounds, as the declaration has it."""
    about: About
    kind: FieldKind
    default: Plain | None
    """What holds where nothing is said, as TOML has it; None where nothing does."""
    required: bool


@cache
def declared(record: type) -> Mapping[str, Declared]:
    """The fields of a dataclass that a file may say, by name, in their order."""
    hints = get_type_hints(record, include_extras=True)
    out: dict[str, Declared] = {}
    for one in fields(record):
        about = next((part for part in _parts(hints[one.name]) if isinstance(part, About)), None)
        if about is not None:
            kind = about.kind or _kind(one.name, bare(hints[one.name]), about)
            required = one.default is MISSING and one.default_factory is MISSING
            plain = None if required or about.blank else _plain(_default(one))
            out[one.name] = Declared(one.name, hints[one.name], about, kind, plain, required)
    return out


@cache
def parts_of(record: type) -> Mapping[str, type]:
    """The fields of a dataclass that are records with declared fields themselves, by name."""
    hints = get_type_hints(record, include_extras=True)
    found = {one.name: record_in(hints[one.name]) for one in fields(record)}
    return {name: part for name, part in found.items() if part is not None and declared(part)}


def record_in(annotation: Any) -> type | None:
    """The dataclass an annotation is of, alone or in place of None; None where it is of none."""
    of = bare(annotation)
    within = map(bare, get_args(of)) if get_origin(of) in UNIONS else (of,)
    return next((part for part in within if isinstance(part, type) and is_dataclass(part)), None)


def bare(annotation: Any) -> Any:
    """A type without what is said about it."""
    return get_args(annotation)[0] if get_origin(annotation) is Annotated else annotation


def _parts(annotation: Any) -> tuple[Any, ...]:
    return get_args(annotation)[1:] if get_origin(annotation) is Annotated else ()


def _kind(name: str, of: Any, about: About) -> FieldKind:
    if about.choices:
        return "choice"
    if get_origin(of) in UNIONS:
        of = bare(next(part for part in get_args(of) if part is not type(None)))
    if of is int:
        return "whole"
    if of is float:
        return next((kind for ending, kind in _UNIT_KINDS if name.endswith(ending)), "number")
    return "names" if get_origin(of) is tuple else "text"


def _default(of: Field[Any]) -> object:
    return of.default if of.default_factory is MISSING else of.default_factory()


def _plain(value: Any) -> Plain | None:
    if isinstance(value, tuple):
        return [part for each in value if (part := _plain(each)) is not None]
    return value or None if isinstance(value, dict) else value
