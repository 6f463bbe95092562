"""What a bundle holds of a run apart from its requests: the plan, how it went, each repeat; as TOML and JSON."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, TypeVar

import msgspec

from zinc_kettle.core.checks.validate import validate
from zinc_kettle.core.facts import EngineFacts, RunFacts
from zinc_kettle.core.plan.factors import Level
from zinc_kettle.core.plan.recipe import Endpoint
from zinc_kettle.core.plan.study import Prompts, Study, to_plain
from zinc_kettle.core.plan.traffic import Recorded
from zinc_kettle.core.record.bounds import is_possible
from zinc_kettle.core.record.telemetry import Launch, Machine
from zinc_kettle.core.results import Failure, RepeatState
from zinc_kettle.core.run.decisions import Decision
from zinc_kettle.core.run.schedule import widened
from zinc_kettle.core.text import neutralise
from zinc_kettle.errors import BundleError, StudyFileError
from zinc_kettle.formats.bundle.archive import Bundle, plain_toml
from zinc_kettle.formats.shared_study import NO_ADDRESS, last_name, prompt_files, shared_text
from zinc_kettle.formats.toml import parse_toml
from zinc_kettle.wire.decisions import DecisionRow, decision_of, row_of

T = TypeVar("T")
MOST_REPEATS = 500_000
MOST_DECISIONS = 20_000
MOST_NOTES = 10_000
MOST_WORK = 20_000_000
"""Decisions times cells: each is held against each when a run is opened."""
MOST_OF_PLAN = 100_000
"""Repeats of a cell, steps of a search and the like."""
MOST_LINE = 256 << 10
MOST_TEXT = 20_000
DEEPEST = 20
_ID = re.compile(r"[A-Za-z0-9-]{1,64}")


class RunHead(msgspec.Struct, forbid_unknown_fields=False):
    """`run.toml`."""

    run: str
    study: str
    number: int
    state: str
    created_s: float
    simulated: bool


class RepeatLine(msgspec.Struct, omit_defaults=True):
    """A line of `repeats.jsonl`; meanings are those of core.record.repeat and core.results."""

    id: str
    place: int
    """In the order of the run, from 0."""
    levels: dict[str, Level]
    block: int
    concurrency: int
    state: RepeatState
    launch: Launch | None = None
    facts: EngineFacts | None = None
    machine: Machine | None = None
    failure: Failure | None = None
    driver_cpu_ns: int = 0
    wall_ns: int = 0
    extras: dict[str, float] = {}
    sampler_cpu_ns: int = 0
    highest_bytes: int = -1
    energy_source: str = ""


class NoteLine(msgspec.Struct, omit_defaults=True):
    """A line of `notes.jsonl`."""

    text: str
    levels: dict[str, Level] | None = None
    """Of the cell it is about; none for the run."""


@dataclass(frozen=True)
class CarriedRun:
    """A run as a bundle has it, without its requests and traces."""

    head: RunHead
    study: Study
    facts: RunFacts
    source: str
    """The study file, written from the plan."""
    decisions: tuple[Decision, ...]
    notes: tuple[NoteLine, ...]


# writing
def run_parts(run: CarriedRun, repeats: Sequence[RepeatLine]) -> dict[str, bytes]:
    """Parts of a run by their names within its folder."""
    prompts = prompt_files(run.study)
    out = {
        "run.toml": plain_toml(msgspec.to_builtins(run.head)),
        "plan.json": _json(to_plain(replace(run.study, prompts=_without_files(run.study.prompts)))),
        "facts.json": _json(run.facts),
        "decisions.jsonl": _lines([row_of(decision) for decision in run.decisions]),
        "notes.jsonl": _lines(run.notes),
        "repeats.jsonl": _lines(repeats),
        **{f"prompts/{name}": data for name, data in prompts.items()},
    }
    return out | ({"study.toml": run.source.encode()} if run.source else {})


def _json(value: object) -> bytes:
    return (json.dumps(msgspec.to_builtins(value), ensure_ascii=False, indent=1) + "\n").encode()


def _lines(values: Sequence[object]) -> bytes:
    return b"".join(msgspec.json.encode(value) + b"\n" for value in values)


def _without_files(prompts: Prompts) -> Prompts:
    """Prompts without the texts that stand in files of their own."""
    return replace(prompts, texts=(), recorded=() if "recorded" not in prompts.withheld else prompts.recorded)


# reading
def read_run(bundle: Bundle, folder: str) -> CarriedRun:
    """A run of a bundle, checked as if a person had typed it.

    Args:
        bundle: Its checksums hold.
        folder: Of the run.

    Raises:
        BundleError: Something of it is not what it should be.
    """
    head = _head(bundle, f"{folder}/run.toml")
    study = _study(bundle, folder)
    part = f"{folder}/decisions.jsonl"
    rows = list(_each(bundle, part, DecisionRow, MOST_DECISIONS))
    try:
        decisions = tuple(map(decision_of, rows))
    except msgspec.ValidationError as error:
        raise _cannot(bundle, part, error) from error
    whole = _checked(bundle, folder, widened(_checked(bundle, folder, study), decisions))
    if len(decisions) * len(whole.cells) > MOST_WORK:
        raise BundleError(bundle.path.name, f"has {len(decisions):,} decisions about {len(whole.cells):,} cells")
    if any(not 0 <= row.count <= MOST_OF_PLAN for row in rows):
        raise BundleError(bundle.path.name, "has a decision about too many repeats")
    facts = _typed(bundle, f"{folder}/facts.json", _plain(bundle, f"{folder}/facts.json"), RunFacts)
    notes = tuple(_each(bundle, f"{folder}/notes.jsonl", NoteLine, MOST_NOTES))
    # Its own study file may say anything: the plan was checked, and is what a study file is written from.
    return CarriedRun(head, study, facts, shared_text(study, prompt_files(study)), decisions, notes)


def read_repeats(bundle: Bundle, folder: str, study: Study) -> Iterator[RepeatLine]:
    """The repeats of a run, one by one.

    Args:
        bundle: Its checksums hold.
        folder: Of the run.
        study: With the levels that were added while it ran.

    Raises:
        BundleError: One is not what it should be.
    """
    part = f"{folder}/repeats.jsonl"
    ids, places = set[str](), set[int]()
    cells = {json.dumps(c.levels, sort_keys=True) for c in study.cells}
    for line in _each(bundle, part, RepeatLine, MOST_REPEATS):
        known = json.dumps(line.levels, sort_keys=True) in cells
        fine = _ID.fullmatch(line.id) and 0 <= line.block < 1 << 30 and 0 < line.concurrency < 1 << 24
        if not known or not fine or line.id in ids or line.place in places or not 0 <= line.place < MOST_REPEATS:
            raise BundleError(bundle.path.name, f"has a repeat that cannot be, in {part}")
        ids.add(line.id)
        places.add(line.place)
        yield line


def _head(bundle: Bundle, part: str) -> RunHead:
    try:
        head = msgspec.convert(parse_toml(bundle.read(part).decode(), file=part), RunHead)
    except (msgspec.MsgspecError, StudyFileError, UnicodeDecodeError, RecursionError) as error:
        raise _cannot(bundle, part, error) from error
    fine = _ID.fullmatch(head.run) and _ID.fullmatch(head.study) and 1 <= head.number <= MOST_OF_PLAN
    if not fine or head.state not in {"measured", "stopped"} or not 0 <= head.created_s < 1e11:
        raise BundleError(bundle.path.name, f"has a {part} that cannot be")
    return head


def _study(bundle: Bundle, folder: str) -> Study:
    part = f"{folder}/plan.json"
    study = _typed(bundle, part, _plain(bundle, part), Study)
    files = {name.rpartition("/")[2]: bundle.read(name) for name in bundle.prompts(folder)}
    try:
        texts = [files[name].decode() for name in _numbered(files)]
        recorded = study.prompts.recorded if "recorded" in study.prompts.withheld else _recorded(files)
    except (ValueError, KeyError, TypeError, RecursionError, msgspec.MsgspecError) as error:
        raise _cannot(bundle, f"{folder}/prompts", error) from error
    clean = tuple(neutralise(text) for text in texts)
    return _nowhere(replace(study, prompts=replace(study.prompts, texts=clean, recorded=recorded)))


def _nowhere(study: Study) -> Study:
    """A plan that names no address, no key and no folder, whatever its bundle says."""
    prompts, load = study.prompts, study.load
    return replace(
        study,
        endpoint=None if study.endpoint is None else Endpoint(NO_ADDRESS, study.endpoint.model),
        prompts=replace(prompts, files=tuple(map(last_name, prompts.files))),
        load=replace(load, times_file=None if load.times_file is None else last_name(load.times_file)),
    )


def _numbered(files: Mapping[str, bytes]) -> list[str]:
    """The text files in the order of their numbers."""
    mine = [name for name in files if re.fullmatch(r"text-[0-9]{1,6}\.txt", name)]
    return sorted(mine, key=lambda name: int(name[5:-4]))


class _Message(msgspec.Struct):
    role: str
    content: str


class _RecordedLine(msgspec.Struct):
    messages: list[_Message]
    output_tokens: int | None = None


def _recorded(files: Mapping[str, bytes]) -> tuple[Recorded, ...]:
    lines = files.get("recorded.jsonl", b"").splitlines()
    entries = [msgspec.json.decode(line, type=_RecordedLine) for line in lines]
    return tuple(
        Recorded(tuple((neutralise(m.role), neutralise(m.content)) for m in e.messages), e.output_tokens)
        for e in entries
    )


def _checked(bundle: Bundle, folder: str, study: Study) -> Study:
    """A plan that could be measured; the first thing that is wrong with it otherwise."""
    r, load, search = study.repeats, study.load, study.capacity
    counts = (r.count, r.requests or 0, r.warm_up, r.ceiling, load.turns, load.drivers, search.steps, search.most)
    if any(not 0 <= count <= MOST_OF_PLAN for count in counts):
        raise BundleError(bundle.path.name, f"has a plan of too many repeats, in {folder}/plan.json")
    try:
        problems = validate(study, {engine.name: engine for engine in study.engines})
        if not problems and not study.cells:
            raise ValueError("it has no cells")
    except (
        ValueError,
        TypeError,
        KeyError,
        AttributeError,
        OverflowError,
        ArithmeticError,
        StopIteration,
        IndexError,
        RecursionError,
    ) as error:
        raise _cannot(bundle, f"{folder}/plan.json", error) from error
    if problems:
        raise BundleError(
            bundle.path.name,
            f"has a plan that cannot be measured, in {folder}",
            why=problems[0].what,
            code="bundle-plan",
        )
    return study


def _plain(bundle: Bundle, part: str) -> Any:
    try:
        return cleaned(json.loads(bundle.read(part)))
    except (ValueError, RecursionError) as error:
        raise _cannot(bundle, part, error) from error


def _typed(bundle: Bundle, part: str, plain: Any, kind: type[T]) -> T:
    try:
        return msgspec.convert(plain, kind)
    except (msgspec.MsgspecError, RecursionError, ValueError, TypeError) as error:
        raise _cannot(bundle, part, error) from error


def _each(bundle: Bundle, part: str, kind: type[T], most: int) -> Iterator[T]:
    """Lines of a part, one by one, without reading all of it at once."""
    count, rest = 0, b""
    for chunk in bundle.chunks(part) if bundle.has(part) else ():
        *lines, rest = (rest + chunk).split(b"\n")
        if len(rest) > MOST_LINE:
            raise BundleError(bundle.path.name, f"has too long a line in {part}")
        for line in lines:
            count += 1
            if count > most:
                raise BundleError(bundle.path.name, f"has more than {most:,} lines in {part}")
            yield _typed(bundle, part, _line(bundle, part, line), kind)
    if rest:
        yield _typed(bundle, part, _line(bundle, part, rest), kind)


def _line(bundle: Bundle, part: str, line: bytes) -> Any:
    try:
        return cleaned(json.loads(line))
    except (ValueError, RecursionError) as error:
        raise _cannot(bundle, part, error) from error


def cleaned(value: Any, name: str = "", depth: int = 0) -> Any:
    """A JSON value in which no text hides anything, nests too deeply or is too long, and every number can be.

    Args:
        value: The value.
        name: Of the field it is in; its unit bounds the numbers.
        depth: How deep it is.

    Raises:
        ValueError: It is not so.
    """
    if depth > DEEPEST:
        raise ValueError("it nests too deeply")
    if isinstance(value, str):
        if len(value) > MOST_TEXT:
            raise ValueError("a text of it is too long")
        return neutralise(value)
    if isinstance(value, bool) or value is None:
        return value
    if isinstance(value, int | float):
        if not is_possible(name, value):
            raise ValueError(f"a number of it cannot be, {name[:60]}")
        return value
    if isinstance(value, dict):
        return {neutralise(str(k))[:200]: cleaned(v, str(k), depth + 1) for k, v in value.items()}
    return [cleaned(part, name, depth + 1) for part in value]


def _cannot(bundle: Bundle, part: str, error: BaseException) -> BundleError:
    why = neutralise(str(error), keep_newlines=False)[:160]
    return BundleError(bundle.path.name, f"has a {part} that cannot be used", why=why)
