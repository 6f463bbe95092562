"""The plan of a study: factors, levels, cells, and the order in which they run.

Words: a factor is what varies, a level one value of it, a cell one combination, a repeat one load episode of a cell,
a block a stretch of the run that holds every cell once. See docs/measures.md, section 'Order of runs'.
"""

from __future__ import annotations

import itertools
import random
from dataclasses import asdict, dataclass, field, fields
from typing import Any, Literal

from zinc_kettle.core.factors import FACTORS, Level
from zinc_kettle.core.fingerprint import DEFINITIONS_VERSION, fingerprint

RunOrder = Literal["interleaved", "by-launch"]


@dataclass(frozen=True, slots=True)
class LaunchSettings:
    """All that an engine is started with; a change of any of these needs a reload."""

    model: str
    quantization: str | None
    threads: int | None
    prefill_threads: int | None
    context: int
    slots: int
    batch: int
    micro_batch: int
    cache_precision: str
    prompt_cache: bool
    load_mode: str
    rig: str | None = None
    """The machine; None for the one the tool runs on."""


@dataclass(frozen=True, slots=True)
class Endpoint:
    """An engine that already runs."""

    url: str
    model: str = "default"
    key_variable: str | None = None


@dataclass(frozen=True, slots=True)
class Prompts:
    """Where prompts come from."""

    files: tuple[str, ...] = ()
    texts: tuple[str, ...] = ()
    """Contents of the files, in their order; empty where prompts are made-up words."""


@dataclass(frozen=True, slots=True)
class Repeats:
    """How often, and in which order."""

    count: int = 3
    requests: int | None = None
    """Requests in one repeat; None gives 1 alone, else max(8, 4n) at concurrency n."""
    warm_up: int = 1
    order: RunOrder = "interleaved"


@dataclass(frozen=True, slots=True)
class Limits:
    """What bounds a wait, in seconds."""

    request_s: float = 600.0
    stall_s: float = 120.0
    load_s: float = 300.0
    quiet_s: float = 0.0
    """How long a repeat may wait for the hypervisor to leave the machine alone; 0 does not wait."""


@dataclass(frozen=True, slots=True)
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


@dataclass(frozen=True, slots=True)
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

    def requests(self, repeats: Repeats) -> int:
        """Measured requests in one repeat."""
        if repeats.requests is not None:
            return repeats.requests
        concurrency = int(self.settings["concurrency"] or 1)
        return 1 if concurrency == 1 else max(8, 4 * concurrency)


@dataclass(frozen=True, slots=True)
class Run:
    """One step of the order: this cell's repeat in this block."""

    block: int
    cell: int


def cells(study: Study) -> list[Cell]:
    """All combinations of the levels, the first factor slowest."""
    names = list(study.vary)
    held: dict[str, Level | None] = {name: factor.default for name, factor in FACTORS.items()}
    held.update(study.hold)
    top = _highest_concurrency(study, held)
    out = []
    for index, combination in enumerate(itertools.product(*study.vary.values())):
        levels: dict[str, Level] = dict(zip(names, combination, strict=True))
        settings = {**held, **levels}
        if settings["slots"] is None:
            settings["slots"] = top
        out.append(Cell(index, levels, settings))
    return out


def _highest_concurrency(study: Study, held: dict[str, Level | None]) -> int:
    levels = study.vary.get("concurrency") or (held["concurrency"] or 1,)
    return max(int(level) for level in levels)


def launch_settings(cell: Cell) -> LaunchSettings:
    """The part of a cell's settings that an engine is started with."""
    known = {name: cell.settings[name] for name in (f.name for f in fields(LaunchSettings))}
    return LaunchSettings(**known)  # type: ignore[arg-type]


def order(study: Study) -> list[Run]:
    """The order of runs, the same for the same seed.

    Interleaved: each block is a fresh shuffle of all cells, so that drift of the machine hits all alike.
    By launch: all repeats of the cells that share a launch come together, launches shuffled. This saves reloads, and
    lets drift of the machine pass for a difference between launches.
    """
    all_cells = cells(study)
    rng = random.Random(study.seed)
    if study.repeats.order == "interleaved":
        return _interleaved(all_cells, study.repeats.count, rng)
    groups: dict[LaunchSettings, list[int]] = {}
    for cell in all_cells:
        groups.setdefault(launch_settings(cell), []).append(cell.index)
    launches = list(groups.values())
    rng.shuffle(launches)
    out = []
    for members in launches:
        for block in range(study.repeats.count):
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
    texts = fingerprint(list(study.prompts.texts)) if study.prompts.texts else "made-up words"
    names = ("prompt_tokens", "output_tokens", "salt", "concurrency")
    return {
        "definitions": DEFINITIONS_VERSION,
        "prompts": texts,
        "seed": study.seed,
        "temperature": study.temperature,
        "shape": "closed loop",
        "requests": cell.requests(study.repeats),
        "warm_up": study.repeats.warm_up,
        **{name: cell.settings[name] for name in names},
    }


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
    prompts = value["prompts"]
    return Study(
        name=value["name"],
        question=value["question"],
        vary={name: tuple(levels) for name, levels in value["vary"].items()},
        hold=dict(value["hold"]),
        endpoint=None if endpoint is None else Endpoint(**endpoint),
        prompts=Prompts(tuple(prompts["files"]), tuple(prompts["texts"])),
        repeats=Repeats(**value["repeats"]),
        limits=Limits(**value["limits"]),
        seed=value["seed"],
        temperature=value["temperature"],
    )
