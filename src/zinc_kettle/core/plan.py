"""The plan of a study: factors, levels, cells, and the order in which they run.

Words: a factor is what varies, a level one value of it, a cell one combination, a repeat one load episode of a cell,
a block a stretch of the run that holds every cell once. See docs/measures.md, section 'Order of runs'.
"""

from __future__ import annotations

import itertools
import random
from collections.abc import Iterator
from dataclasses import asdict, dataclass, field, fields
from functools import cached_property
from operator import itemgetter
from typing import Any

from zinc_kettle.core.factors import FACTORS, Level
from zinc_kettle.core.fingerprint import DEFINITIONS_VERSION, fingerprint
from zinc_kettle.core.load import Lengths, Load, Recorded, RetryPolicy, Shape
from zinc_kettle.core.parts import Endpoint, LaunchSettings, Limits, Prompts, Repeats, RunOrder
from zinc_kettle.core.suite import SUITE

__all__ = [
    "Cell", "Endpoint", "LaunchSettings", "Limits", "Prompts", "Repeats", "Run", "RunOrder", "Study", "axes", "cells",
    "from_plain", "order", "rigs_of", "shape_of", "to_plain", "turns_of", "workload",
]  # fmt: skip
DEFAULT_OPEN_REQUESTS = 48


@dataclass(frozen=True)
class Study:
    """A whole study as planned. Frozen: what ran is what was planned."""

    name: str
    question: str
    vary: dict[str, tuple[Level, ...]]
    hold: dict[str, Level] = field(default_factory=dict)
    endpoint: Endpoint | None = None
    prompts: Prompts = field(default_factory=Prompts)
    repeats: Repeats = field(default_factory=Repeats)
    limits: Limits = field(default_factory=Limits)
    seed: int = 1
    temperature: float = 0.0
    load: Load = field(default_factory=Load)
    retry: RetryPolicy = field(default_factory=RetryPolicy)

    @cached_property
    def cells(self) -> tuple[Cell, ...]:
        """All combinations of the levels, the first factor slowest."""
        return tuple(_combined(self))


@dataclass(frozen=True)
class Cell:
    """One combination of levels."""

    index: int
    levels: dict[str, Level]
    """Only the varied factors, in the order of the study."""
    settings: dict[str, Level | None]
    """Every factor, with what varies, what is held and what is default merged."""

    @property
    def key(self) -> str:
        """A short name that is the same whenever the levels are."""
        return fingerprint(self.levels, length=12)

    @cached_property
    def launch(self) -> LaunchSettings:
        """The part of its settings that an engine is started with."""
        return LaunchSettings(*_launch_values(self.settings))

    def requests(self, study: Study) -> int:
        """Measured requests in one repeat."""
        concurrency, shape = int(self.settings["concurrency"] or 1), shape_of(study, self)
        wanted = study.repeats.requests
        if shape == "conversation":
            turns = turns_of(study, self)
            return turns * (concurrency if wanted is None else -(-wanted // turns))
        if wanted is not None:
            return wanted
        if shape in {"burst", "batch"}:
            return concurrency
        if shape == "open":
            return DEFAULT_OPEN_REQUESTS
        return 1 if concurrency == 1 else max(8, 4 * concurrency)


@dataclass(frozen=True, slots=True)
class Run:
    """One step of the order: this cell's repeat in this block."""

    block: int
    cell: int


def cells(study: Study) -> list[Cell]:
    """All combinations of the levels, the first factor slowest."""
    return list(study.cells)


def _combined(study: Study) -> Iterator[Cell]:
    names = list(study.vary)
    held: dict[str, Level | None] = {name: factor.default for name, factor in FACTORS.items()}
    held.update(study.hold)
    top = _highest_concurrency(study, held)
    for index, combination in enumerate(itertools.product(*study.vary.values())):
        levels: dict[str, Level] = dict(zip(names, combination, strict=True))
        settings = {**held, **levels}
        if settings["slots"] is None:
            settings["slots"] = top
        task = SUITE.get(str(settings["task"]))
        if task is not None:
            settings["prompt_tokens"] = settings["prompt_tokens"] or task.prompt_tokens
            if "output_tokens" not in levels and "output_tokens" not in study.hold:
                settings["output_tokens"] = task.output_tokens
        yield Cell(index, levels, settings)


def _highest_concurrency(study: Study, held: dict[str, Level | None]) -> int:
    levels = study.vary.get("concurrency") or (held["concurrency"] or 1,)
    return max(int(level) for level in levels)


def shape_of(study: Study, cell: Cell) -> Shape:
    """How a cell is loaded: as the study says, or as its task asks for where the study says nothing."""
    task = SUITE.get(str(cell.settings["task"]))
    if task is not None and task.turns > 1 and study.load.shape == "closed":
        return "conversation"
    return study.load.shape


def turns_of(study: Study, cell: Cell) -> int:
    """Turns of a conversation."""
    task = SUITE.get(str(cell.settings["task"]))
    if task is not None and task.turns > 1:
        return task.turns
    if study.prompts.recorded:
        return max(1, *(r.asks for r in study.prompts.recorded))
    return study.load.turns


_launch_values = itemgetter(*(f.name for f in fields(LaunchSettings)))


def order(study: Study) -> list[Run]:
    """The order of runs, the same for the same seed.

    Interleaved: each block is a fresh shuffle of all cells, so that drift of the machine hits all alike.
    By launch: all repeats of the cells that share a launch come together, launches shuffled. This saves reloads, and
    lets drift of the machine pass for a difference between launches.
    """
    all_cells = cells(study)
    rng = random.Random(study.seed)
    if study.repeats.order == "interleaved":
        return _interleaved(all_cells, study.repeats.most, rng)
    groups: dict[LaunchSettings, list[int]] = {}
    for cell in all_cells:
        groups.setdefault(cell.launch, []).append(cell.index)
    launches = list(groups.values())
    rng.shuffle(launches)
    out = []
    for members in launches:
        for block in range(study.repeats.most):
            rng.shuffle(members)
            out += [Run(block, index) for index in members]
    return out


def _interleaved(all_cells: list[Cell], count: int, rng: random.Random) -> list[Run]:
    out = []
    for block in range(count):
        indexes = [cell.index for cell in all_cells]
        rng.shuffle(indexes)
        out += [Run(block, index) for index in indexes]
    return out


def workload(study: Study, cell: Cell) -> dict[str, object]:
    """What the engine is asked to do, apart from how it was started; its fingerprint decides what is comparable."""
    prompts, load, shape = study.prompts, study.load, shape_of(study, cell)
    names = ("prompt_tokens", "output_tokens", "salt", "concurrency")
    out: dict[str, object] = {
        "definitions": DEFINITIONS_VERSION,
        "prompts": fingerprint(list(prompts.texts)) if prompts.texts else "made-up words",
        "seed": study.seed,
        "temperature": study.temperature,
        "shape": "closed loop" if shape == "closed" else shape,
        "requests": cell.requests(study),
        "warm_up": study.repeats.warm_up,
        **{name: cell.settings[name] for name in names},
    }
    # Only what is there: a workload without it keeps the fingerprint it always had.
    if prompts.recorded:
        out["prompts"] = fingerprint([asdict(r) for r in prompts.recorded])
    if cell.settings["task"] is not None:
        name = str(cell.settings["task"])
        out["task"], out["prompts"] = name, fingerprint(list(prompts.tasks.get(name, ())))
    for name, lengths in (("lengths", prompts.lengths), ("outputs", prompts.outputs)):
        if lengths is not None:
            out[name] = asdict(lengths)
    if shape == "open":
        out["arrivals"] = [load.arrivals, cell.settings["rate"], fingerprint(list(load.times_s))]
    if shape == "conversation":
        out["turns"] = turns_of(study, cell)
    if load.think_s:
        out["think_s"] = load.think_s
    if study.retry.times:
        out["retry"] = asdict(study.retry)
    return out


def axes(study: Study) -> tuple[str | None, str | None]:
    """Which factors span the map: rows and columns.

    What names a configuration (model, quantization) goes down, what has a scale goes across; a third and further
    factors become slices.
    """
    names = [name for name, levels in study.vary.items() if len(levels) > 1] or list(study.vary)
    words = [n for n in names if FACTORS[n].type is str]
    scales = [n for n in names if n not in words]
    if words and scales:
        return words[-1], scales[0]
    if len(names) > 1:
        return names[0], names[1]
    return (names[0], None) if words else (None, names[0] if names else None)


def rigs_of(study: Study) -> list[str]:
    """Names of the other machines a study runs on, in the order they are named."""
    named = [*study.vary.get("rig", ()), *([study.hold["rig"]] if "rig" in study.hold else [])]
    return [str(name) for name in named]


def to_plain(study: Study) -> dict[str, object]:
    """A study as JSON-like values, for keeping."""
    return asdict(study)


def from_plain(value: dict[str, Any]) -> Study:
    """A study from what `to_plain` gave, also after a trip through JSON.

    Raises:
        KeyError, TypeError: The value is no such study.
    """
    endpoint = value["endpoint"]
    load, retry = value.get("load", {}), value.get("retry", {})
    return Study(
        name=value["name"],
        question=value["question"],
        vary={name: tuple(levels) for name, levels in value["vary"].items()},
        hold=dict(value["hold"]),
        endpoint=None if endpoint is None else Endpoint(**endpoint),
        prompts=_prompts(value["prompts"]),
        repeats=Repeats(**value["repeats"]),
        limits=Limits(**value["limits"]),
        seed=value["seed"],
        temperature=value["temperature"],
        load=Load(**{**load, "times_s": tuple(load.get("times_s", ()))}),
        retry=RetryPolicy(**{**retry, "on": tuple(retry.get("on", RetryPolicy().on))}),
    )


def _prompts(value: dict[str, Any]) -> Prompts:
    recorded = tuple(
        Recorded(tuple((str(role), str(text)) for role, text in r["messages"]), r["output_tokens"], r["extra"])
        for r in value.get("recorded", ())
    )
    return Prompts(
        tuple(value["files"]), tuple(value["texts"]), recorded,
        {name: tuple(texts) for name, texts in value.get("tasks", {}).items()}, value.get("sample"),
        _lengths(value.get("lengths")), _lengths(value.get("outputs")),
    )  # fmt: skip


def _lengths(value: dict[str, Any] | None) -> Lengths | None:
    if value is None:
        return None
    return Lengths(**{**value, "table": tuple((int(n), float(w)) for n, w in value["table"])})
