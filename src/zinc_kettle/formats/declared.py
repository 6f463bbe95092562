"""Models of files, made from the records that declare their fields: nothing unknown, nothing converted."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import cache
from typing import Annotated, Any, Union, get_args, get_origin

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, create_model

from zinc_kettle.core.declared import UNIONS, Checked, declared, parts_of, record_in


def _keeping(rule: Checked) -> Callable[[Any], Any]:
    def keep(value: Any) -> Any:
        problem = rule.problem(value) if value is not None else ""
        if problem:
            raise ValueError(problem)
        return value

    return keep


def _read(annotation: Any) -> Any:
    """A declared type as pydantic reads it: rules are kept, lists are taken for tuples, records have their models."""
    origin, parts = get_origin(annotation), get_args(annotation)
    if origin is Annotated:
        within, *said = parts
        kept = [AfterValidator(_keeping(part)) if isinstance(part, Checked) else part for part in said]
        return Annotated[(_read(within), *kept)]
    if origin in UNIONS:
        return Union[tuple(map(_read, parts))]  # noqa: UP007
    if origin is tuple:
        return Annotated[tuple[tuple(map(_read, parts))], Field(strict=False)]  # type: ignore[misc]
    if origin is Mapping:
        return Mapping[tuple(map(_read, parts))]  # type: ignore[misc]
    part = record_in(annotation)
    return annotation if part is None else model_of(part)


class Strict(BaseModel):
    """Base of all models: nothing unknown, nothing converted, nothing changed."""

    model_config = ConfigDict(extra="forbid", frozen=True, strict=True)


@cache
def model_of(record: type) -> type[Strict]:
    """The model of what a file may say of a record: its declared fields, with their bounds."""
    parts = parts_of(record)
    fields: dict[str, Any] = {}
    for name, of in declared(record).items():
        part = record_in(of.annotation)
        if part is not None:
            fields[name] = (model_of(part) | None, None)
        else:
            kept = record.__dataclass_fields__[name]  # type: ignore[attr-defined]
            usual = kept.default_factory() if callable(kept.default_factory) else kept.default
            fields[name] = (_read(of.annotation), Field(... if of.required else usual, description=of.about.help))
    fields |= {name: (model_of(part) | None, None) for name, part in parts.items() if name not in fields}
    return create_model(record.__name__, __base__=Strict, **fields)


def record_of(model: BaseModel, record: type, **more: Any) -> Any:
    """The record that a model says; what it does not say has its default.

    Args:
        model: Made by `model_of`.
        record: What it was made of.
        more: Further fields, which no file has.
    """
    mine = declared(record)
    given = {name: getattr(model, name) for name in model.model_fields_set if name in mine}
    parts = {name: record_in(of.annotation) for name, of in mine.items()}
    for name, value in given.items():
        part = parts.get(name)
        if part is not None and isinstance(value, BaseModel):
            given[name] = record_of(value, part)
    return record(**given | more)


def complaint(found: Mapping[str, Any]) -> str:
    """What one of pydantic's complaints says, for a person."""
    if found["type"] == "tuple_type":
        return "Input should be a list"
    return str(found["msg"]).removeprefix("Value error, ")


def as_tuples(value: Any) -> Any:
    """A value of TOML with tuples for its lists, as records have them."""
    if isinstance(value, Mapping):
        return {name: as_tuples(part) for name, part in value.items()}
    return tuple(map(as_tuples, value)) if isinstance(value, list) else value
