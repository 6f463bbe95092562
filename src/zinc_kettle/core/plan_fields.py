"""What a plan says besides its factors: each field once, with what it means and how a person types it.

Names and bounds are those of a study file; here is how they are asked for and read. An editor and its help follow.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Literal, TypeAlias

from zinc_kettle.core.factors import Factor, label
from zinc_kettle.core.ranges import read_level
from zinc_kettle.core.traffic import SHAPES

FieldKind = Literal[
    "text", "whole", "number", "percent", "seconds", "choice", "names", "lengths", "levels", "ties", "rules"
]
Plain: TypeAlias = "str | int | float | bool | list[Plain] | dict[str, Plain]"
"""A value as TOML has it."""
Section = Literal[
    "question",
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
    name: str
    """As a study file has it."""
    label: str
    kind: FieldKind
    help: str
    example: str
    default: Plain | None = None
    """What holds where nothing is said; None where nothing does."""
    choices: Mapping[str, str] = field(default_factory=dict)
    """Of a choice: its values, and what each does."""

    @property
    def path(self) -> tuple[str, ...]:
        """Where a study file has it."""
        return (self.name,) if self.section == "question" else (self.section, self.name)


_FIELDS = (
    PlanField(
        "question",
        "question",
        "question",
        "text",
        "What is to be answered, in one sentence.",
        "How many threads are the fastest?",
    ),
    PlanField(
        "question",
        "name",
        "name",
        "text",
        "Name of the study and of its file: small letters, digits, hyphens.",
        "threads-here",
    ),
    PlanField("question", "seed", "seed", "whole", "Seed of the order, of made-up prompts and of salts.", "7", 1),
    PlanField(
        "question", "temperature", "temperature", "number", "Sampling temperature that is sent with requests.", "0", 0.0
    ),
    PlanField(
        "prompts",
        "files",
        "files",
        "names",
        "Prompt files beside the study file: plain text, .jsonl or .csv. Without any, prompts are made-up words.",
        "night-log.txt, calls.jsonl",
        [],
    ),
    PlanField(
        "prompts", "sample", "sample", "whole", "How many prompts to draw from files of many, with the seed.", "20"
    ),
    PlanField(
        "prompts",
        "lengths",
        "prompt lengths",
        "lengths",
        "Prompt lengths from a distribution, in place of prompt_tokens.",
        "lognormal 300 0.7 32..1500",
    ),
    PlanField(
        "prompts",
        "outputs",
        "answer lengths",
        "lengths",
        "Answer lengths from a distribution, in place of output_tokens.",
        "128..512",
    ),
    PlanField("load", "shape", "shape", "choice", "How the requests come.", "closed", "closed", SHAPES),
    PlanField(
        "load",
        "arrivals",
        "arrivals",
        "choice",
        "Of an open loop: how requests are spaced.",
        "poisson",
        "poisson",
        {
            "poisson": "gaps drawn at random, as from many independent people",
            "constant": "gaps all alike",
            "recorded": "as they were recorded, from a file of times",
        },
    ),
    PlanField("load", "times_file", "times", "text", "Of recorded arrivals: the file with their times.", "calls.csv"),
    PlanField(
        "load", "think_s", "think time", "seconds", "Mean pause before a stream's next request or turn.", "5 s", 0.0
    ),
    PlanField("load", "turns", "turns", "whole", "Of conversations: how many turns each has.", "4", 4),
    PlanField("load", "drivers", "drivers", "whole", "Processes that send; 0 lets the tool choose.", "0", 0),
    PlanField(
        "repeats", "count", "repeats", "whole", "Of each cell; the fewest where a rule decides how many.", "6", 3
    ),
    PlanField("repeats", "requests", "requests", "whole", "In one repeat; without it by the shape of the load.", "2"),
    PlanField("repeats", "warm_up", "warm-up", "whole", "Requests before each repeat that do not count.", "1", 1),
    PlanField(
        "repeats",
        "order",
        "order",
        "choice",
        "In which order the repeats are measured.",
        "interleaved",
        "interleaved",
        {
            "interleaved": "block by block, all cells in a fresh order in each: drift hits all alike",
            "by-launch": "all repeats of a launch together: fewer reloads, and drift is not shared",
        },
    ),
    PlanField(
        "repeats",
        "until_answered",
        "until answered",
        "text",
        "Repeat until it is known which cell is best (best), or what each step of a factor brings (its name).",
        "best",
    ),
    PlanField(
        "repeats",
        "until_percent",
        "until within",
        "percent",
        "Repeat each cell until its 95% interval is at most so many percent to each side.",
        "2%",
    ),
    PlanField(
        "repeats", "until_measure", "by", "text", "The measure that decides how often to repeat.", "decode", "decode"
    ),
    PlanField(
        "repeats",
        "smallest_percent",
        "smallest",
        "percent",
        "The smallest difference worth knowing, where the question decides how often to repeat.",
        "3%",
        3.0,
    ),
    PlanField("repeats", "ceiling", "at most", "whole", "Repeats of a cell where a rule decides how many.", "20"),
    PlanField(
        "promise", "ttft_s", "first token", "seconds", "Users are promised the first output within this time.", "2 s"
    ),
    PlanField("promise", "tpot_s", "each token", "seconds", "And each further token within this time.", "100 ms"),
    PlanField(
        "promise",
        "percentile",
        "kept by",
        "number",
        "So many percent of the requests must keep each of these.",
        "95",
        95.0,
    ),
    PlanField("promise", "failures_percent", "may fail", "percent", "So many of the requests may fail.", "1%", 1.0),
    PlanField(
        "capacity",
        "factor",
        "by",
        "choice",
        "Find the largest load that keeps the promise: by streams at once, or by requests per minute.",
        "concurrency",
        None,
        {"concurrency": "streams at once", "rate": "requests per minute, an open loop"},
    ),
    PlanField("capacity", "most", "up to", "whole", "The largest load that may be tried.", "64", 1024),
    PlanField(
        "capacity", "within_percent", "within", "percent", "How narrow the interval of the answer is to be.", "5%", 5.0
    ),
    PlanField(
        "capacity", "steps", "steps", "whole", "The most loads that are tried; to try one again counts half.", "12", 12
    ),
    PlanField(
        "capacity",
        "hold_s",
        "held for",
        "seconds",
        "Of requests per minute: how long each repeat holds a load, at least.",
        "20 s",
        20.0,
    ),
    PlanField(
        "design",
        "kind",
        "combine",
        "choice",
        "Which combinations of levels are measured.",
        "all",
        "all",
        {
            "all": "every combination of the levels",
            "one-at-a-time": "a baseline, and what differs from it in one factor: few cells, no interactions",
        },
    ),
    PlanField(
        "design",
        "baseline",
        "baseline",
        "levels",
        "Of one at a time: the cell all others are held against.",
        "threads=2, quantization=Q8_0",
    ),
    PlanField("design", "ties", "tied", "ties", "Factors that change together, level by level.", "concurrency + slots"),
    PlanField(
        "design",
        "without",
        "left out",
        "rules",
        "Combinations that are not measured.",
        "quantization=F16 & threads=1|2; threads=8 & batch=32",
    ),
    PlanField(
        "limits",
        "total_s",
        "time in all",
        "seconds",
        "A cap: the run begins no repeat that would end later. What it drops stands beside the map.",
        "30 min",
        0.0,
    ),
    PlanField(
        "limits",
        "quiet_s",
        "wait for quiet",
        "seconds",
        "On a virtual machine: how long a repeat may wait until no processor time is stolen.",
        "20 s",
        0.0,
    ),
    PlanField("limits", "request_s", "a request", "seconds", "A request may take so long.", "10 min", 600.0),
    PlanField(
        "limits", "stall_s", "a silence", "seconds", "An engine may be silent so long in the middle.", "2 min", 120.0
    ),
    PlanField("limits", "load_s", "loading", "seconds", "An engine may take so long to start.", "5 min", 300.0),
    PlanField("retry", "times", "times", "whole", "How often a failed request is sent again.", "2", 0),
    PlanField(
        "retry",
        "on",
        "on",
        "names",
        "Faults after which it is; docs/faults.md lists them.",
        "refused, http-503",
        ["refused", "http-429", "http-503"],
    ),
    PlanField("retry", "wait_s", "wait", "seconds", "Before the first retry.", "1 s", 1.0),
    PlanField("retry", "backoff", "backoff", "number", "By what the wait grows with each retry.", "2", 2.0),
    PlanField("retry", "most_s", "longest wait", "seconds", "The longest wait.", "30 s", 30.0),
    PlanField(
        "endpoint",
        "url",
        "address",
        "text",
        "Address of an engine that already runs; it is not started.",
        "http://127.0.0.1:8080",
    ),
    PlanField("endpoint", "model", "model name", "text", "The model's name as it is sent.", "default", "default"),
    PlanField(
        "endpoint",
        "key_variable",
        "key variable",
        "text",
        "Name of the environment variable with the key.",
        "OFFICE_KEY",
    ),
    PlanField("endpoint", "key_file", "key file", "text", "A file with the key, readable by you alone.", "office.key"),
    PlanField(
        "endpoint", "ca_file", "certificates", "text", "Certificates to trust beside the system's.", "office-ca.pem"
    ),
)
FIELDS: dict[tuple[str, ...], PlanField] = {f.path: f for f in _FIELDS}
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
    """`factor=level|level` parted by commas."""
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
