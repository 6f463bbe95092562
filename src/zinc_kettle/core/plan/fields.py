"""What a plan says besides its factors, as a person types it.

The fields are declared in `study`, `traffic` and `design`; here is how they are asked for and read.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import Literal

from zinc_kettle.core.declared import Declared, FieldKind, Plain, declared, parts_of
from zinc_kettle.core.plan.factors import Factor, label
from zinc_kettle.core.plan.ranges import read_level
from zinc_kettle.core.plan.study import Study

Section = Literal[
    "question",
    "decide",
    "vary",
    "hold",
    "prompts",
    "load",
    "repeats",
    "promise",
    "capacity",
    "design",
    "limits",
    "retry",
    "endpoint",
]
SECTIONS: dict[Section, str] = {
    "question": "Asks",
    "decide": "Decides",
    "vary": "Varies",
    "hold": "Holds",
    "prompts": "Prompts",
    "load": "Load",
    "repeats": "Repeats",
    "promise": "Promise",
    "capacity": "Finds limit",
    "design": "Leaves out",
    "limits": "Limits",
    "retry": "Retries",
    "endpoint": "Address",
}
"""In the order a person reads them, with the word that stands before what they say."""


class CannotReadError(ValueError):
    """What was typed is no value of its field; the message says how it is typed."""


@dataclass(frozen=True, slots=True)
class PlanField:
    """One thing a plan may say."""

    section: Section
    declared: Declared

    @property
    def name(self) -> str:
        """As a study file has it."""
        return self.declared.name

    @property
    def label(self) -> str:
        """As an editor names it."""
        return self.declared.about.label

    @property
    def kind(self) -> FieldKind:
        """How it is typed."""
        return self.declared.kind

    @property
    def help(self) -> str:
        """What it means."""
        return self.declared.about.help

    @property
    def example(self) -> str:
        """One of its values, as it is typed."""
        return self.declared.about.example

    @property
    def default(self) -> Plain | None:
        """What holds where nothing is said; None where nothing does."""
        return self.declared.default

    @property
    def choices(self) -> Mapping[str, str]:
        """Of a choice: its values, and what each does."""
        return self.declared.about.choices

    @property
    def path(self) -> tuple[str, ...]:
        """Where a study file has it."""
        return (self.name,) if self.section == "question" else (self.section, self.name)


def _fields() -> Iterator[PlanField]:
    """In the order a person reads them."""
    parts = parts_of(Study)
    own = declared(Study)
    for section in SECTIONS:
        if section == "question":
            yield from (PlanField(section, own[name]) for name in sorted(own, key=lambda name: name != "question"))
        elif section in parts:
            yield from (PlanField(section, of) for of in declared(parts[section]).values())


FIELDS: dict[tuple[str, ...], PlanField] = {f.path: f for f in _fields()}
"""By their path in a study file."""
_UNITS = {"": 1.0, "s": 1.0, "ms": 1e-3, "min": 60.0, "h": 3600.0}
_NUMBER = re.compile(r"^(?P<number>\d+(?:\.\d+)?|\.\d+)\s*(?P<unit>[a-z%]*)$")


def read_field(of: PlanField, said: str, factors: Mapping[str, Factor]) -> Plain | None:
    """What a person typed, as a study file has it; None where the field is to be left to its default.

    Args:
        of: The field.
        said: What was typed.
        factors: What the plan may vary, by name; for fields that name levels.

    Raises:
        CannotReadError: It is none of its values.
    """
    said = said.strip()
    if not said:
        return None
    if of.kind == "choice" and said not in of.choices:
        raise CannotReadError(f"one of: {', '.join(of.choices)}")
    reader = _READERS.get(of.kind)
    if reader is not None:
        try:
            return reader(said)
        except ValueError as error:
            raise CannotReadError(f"{error}; as in: {of.example}" if str(error) else f"as in: {of.example}") from error
    if of.kind == "levels":
        return {name: level for name, (level,) in _levels(said, factors, of.example).items()}
    if of.kind == "rules":
        return [dict(_rule(part, factors, of.example)) for part in said.split(";") if part.strip()]
    return said


def field_text(of: PlanField, value: object) -> str:
    """A value as a person would type it; `read_field` reads it back."""
    writer = _WRITERS.get(of.kind)
    if value is None or value in ([], {}):
        return ""
    return str(value) if writer is None else writer(value)


def seconds_text(seconds: float) -> str:
    """A time as people type it: `2 min`, `100 ms`."""
    for unit in ("h", "min"):
        if seconds >= _UNITS[unit] and seconds % _UNITS[unit] == 0:
            return f"{seconds / _UNITS[unit]:g} {unit}"
    return f"{seconds * 1e3:g} ms" if 0 < seconds < 1 else f"{seconds:g} s"


def _quantity(said: str, units: Mapping[str, float]) -> float:
    found = _NUMBER.match(said.replace(",", "").replace("_", ""))
    if found is None or found["unit"] not in units:
        raise ValueError("a number" + (f" with {', '.join(u for u in units if u)}" if len(units) > 1 else ""))
    return float(f"{float(found['number']) * units[found['unit']]:.12g}")


def _whole(said: str) -> int:
    digits = said.replace(",", "").replace("_", "").replace(" ", "")
    if not digits.isdecimal():
        raise ValueError("a whole number")
    return int(digits)


def _named(said: str) -> list[Plain]:
    return [part.strip() for part in said.split(",") if part.strip()]


def _ties(said: str) -> list[Plain]:
    ties: list[Plain] = []
    for part in filter(str.strip, said.split(";")):
        names: list[Plain] = [name.strip() for name in part.split("+") if name.strip()]
        if len(names) < 2:
            raise ValueError("two factors or more with + between them")
        ties.append(names)
    return ties


def _lengths(said: str) -> dict[str, Plain]:
    numbers: list[Plain] = [int(n) for n in re.findall(r"\d+", said.replace(",", ""))]
    if said.startswith("table"):
        pairs = re.findall(r"(\d+)\s*:\s*(\d+(?:\.\d+)?)", said)
        if not pairs:
            raise ValueError("table 128:3, 2048:1 gives tokens and weights")
        return {"kind": "table", "table": [[int(tokens), float(weight)] for tokens, weight in pairs]}
    if said.startswith("lognormal"):
        found = re.match(r"lognormal\s+(\d+)\s+(\d*\.?\d+)\s+(\d+)\s*\.\.\s*(\d+)$", said.replace(",", ""))
        if found is None:
            raise ValueError("lognormal MEDIAN SIGMA LEAST..MOST")
        return {
            "kind": "lognormal",
            "median": int(found[1]),
            "sigma": float(found[2]),
            "low": int(found[3]),
            "high": int(found[4]),
        }
    if ".." in said and len(numbers) == 2:
        return {"kind": "uniform", "low": numbers[0], "high": numbers[1]}
    if len(numbers) == 1:
        return {"kind": "fixed", "tokens": numbers[0]}
    raise ValueError("512, or 128..512, or lognormal MEDIAN SIGMA LEAST..MOST, or table 128:3, 2048:1")


def _lengths_text(value: object) -> str:
    if not isinstance(value, Mapping):
        return str(value)
    kind = value.get("kind")
    if kind == "fixed":
        return str(value.get("tokens"))
    if kind == "uniform":
        return f"{value.get('low')}..{value.get('high')}"
    if kind == "lognormal":
        return f"lognormal {value.get('median'):g} {value.get('sigma'):g} {value.get('low', 1)}..{value.get('high')}"
    return "table " + ", ".join(f"{tokens}:{weight:g}" for tokens, weight in value.get("table", []))


def _levels(said: str, factors: Mapping[str, Factor], example: str) -> dict[str, list[Plain]]:
    """`factor=level|level` separated by commas."""
    return dict(_one(part, factors, example) for part in said.split(",") if part.strip())


def _rule(said: str, factors: Mapping[str, Factor], example: str) -> list[tuple[str, Plain]]:
    pairs = [_one(part, factors, example) for part in said.split("&") if part.strip()]
    return [(name, levels[0] if len(levels) == 1 else levels) for name, levels in pairs]


def _one(said: str, factors: Mapping[str, Factor], example: str) -> tuple[str, list[Plain]]:
    name, equals, rest = (part.strip() for part in said.partition("="))
    if not equals or name not in factors:
        raise CannotReadError(f"{name or said!r} is no factor here; as in: {example}")
    levels = [read_level(factors[name], part.replace(",", "")) for part in rest.split("|")]
    if None in levels:
        raise CannotReadError(f"{rest!r} is no level of {name}; as in: {example}")
    return name, [level for level in levels if level is not None]


def rule_text(rule: Mapping[str, object]) -> str:
    """A combination that is left out, as it is typed."""
    return " & ".join(f"{name}={_alternatives(value)}" for name, value in rule.items())


def _alternatives(value: object) -> str:
    return "|".join(_level_text(v) for v in (value if isinstance(value, (list, tuple)) else [value]))


def _level_text(level: object) -> str:
    return label(level).replace(",", "") if isinstance(level, (str, int)) else str(level)


_READERS: Mapping[str, Callable[[str], Plain]] = {
    "whole": _whole,
    "number": lambda said: _quantity(said, {"": 1.0}),
    "percent": lambda said: _quantity(said, {"": 1.0, "%": 1.0}),
    "seconds": lambda said: _quantity(said, _UNITS),
    "names": _named,
    "lengths": _lengths,
    "ties": _ties,
}
_WRITERS: Mapping[str, Callable[..., str]] = {
    "number": lambda value: f"{value:g}",
    "percent": lambda value: f"{value:g}%",
    "seconds": seconds_text,
    "names": lambda value: ", ".join(map(str, value)),
    "lengths": _lengths_text,
    "ties": lambda value: "; ".join(" + ".join(map(str, tie)) for tie in value),
    "rules": lambda value: "; ".join(rule_text(rule) for rule in value),
    "levels": lambda value: ", ".join(f"{name}={_level_text(level)}" for name, level in value.items()),
}
