"""The plan of a study: what is asked, which factors vary, and the cells they make.

Words: a factor is what varies, a level one value of it, a cell one combination, a repeat one load episode of a cell,
a block a stretch of the run that holds every cell once. The order in which cells run is in core.run.schedule.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Collection, Iterator, Mapping
from dataclasses import asdict, dataclass, field, replace
from functools import cached_property
from typing import Annotated, Literal

from annotated_types import Ge, Gt, Le, Len, Lt

from zinc_kettle.core.declared import About
from zinc_kettle.core.fingerprint import DEFINITIONS_VERSION, fingerprint
from zinc_kettle.core.plan.decide import Decide, chosen_factors
from zinc_kettle.core.plan.design import Design, baseline, combinations, moved
from zinc_kettle.core.plan.factors import FACTORS, Factor, Level
from zinc_kettle.core.plan.recipe import BUILT_IN, OPEN_PROTOCOL, Endpoint, Engine, SettingRole, factors_of
from zinc_kettle.core.plan.suite import SUITE
from zinc_kettle.core.plan.traffic import (
    DAY_S,
    CapacitySearch,
    Lengths,
    Load,
    Promise,
    Recorded,
    RetryPolicy,
    Shape,
    Time,
    Wait,
)

RunOrder = Literal["interleaved", "by-launch"]
ORDERS: dict[str, str] = {
    "interleaved": "block by block, all cells in a fresh order in each: drift hits all alike",
    "by-launch": "all repeats of a launch together: fewer reloads, and drift is not shared",
}
MOST_REPEATS = 10_000
BEST = "best"
"""What `until_answered` says where the question is which cell is best; otherwise it names a factor."""
DEFAULT_OPEN_REQUESTS = 48
ONE_PROMPT = "prompt "
"""Before a prompt's name: the key of its fingerprint, where its text was left out."""
KEY_DIGITS = 12
"""Hexadecimal digits of a cell's key: with a hundred thousand cells two alike are a chance of one in fifty thousand."""


@dataclass(frozen=True, slots=True)
class LaunchSpec:
    """All that an engine is started with; a change of any of it needs a reload."""

    engine: str
    model: str
    quantization: str | None
    rig: str | None = None
    """The machine; None for the one the tool runs on."""
    settings: tuple[tuple[str, Level], ...] = ()
    """Settings that have a level, as the engine's recipe declares them."""
    roles: Mapping[SettingRole, Level] = field(default_factory=dict, compare=False, hash=False)
    """The same by what they mean, of those that have a meaning here."""

    @property
    def levels(self) -> dict[str, Level]:
        """The settings by name."""
        return dict(self.settings)

    def number(self, role: SettingRole) -> int | None:
        """The level of a setting that is a number; None where it has none."""
        level = self.roles.get(role)
        return None if level is None else int(level)


ANSWERS = {
    "exact": "as long as was asked for, where the engine can be made to",
    "natural": "until the model ends, with that length as the most",
}


@dataclass(frozen=True, slots=True)
class Prompts:
    """Where prompts come from."""

    files: Annotated[
        tuple[Annotated[str, Len(1, 1_000)], ...],
        Len(0, 1_000),
        About(
            "files",
            "Prompt files beside the study file: plain text, .jsonl or .csv. Without any, prompts are made-up words. "
            "Plan also takes files from elsewhere, which it copies, and texts in quotation marks.",
            "night-log.txt, calls.jsonl",
        ),
    ] = ()
    texts: tuple[str, ...] = ()
    """Contents of text files, in their order; empty where prompts are made-up words or recorded."""
    recorded: tuple[Recorded, ...] = ()
    """Prompts and conversations of JSON Lines and CSV files, after sampling."""
    names: Annotated[
        tuple[Annotated[str, Len(1, 80)], ...],
        Len(0, 1_000),
        About(
            "prompt names",
            "Names of the prompts, in their order, where the factor prompt is used. By default those of their files "
            "and lines.",
            "tides, vessel-call",
            blank=True,
        ),
    ] = ()
    tasks: dict[str, tuple[str, ...]] = field(default_factory=dict)
    """Texts of the suite's tasks this study uses, by task."""
    sample: Annotated[
        Annotated[int, Ge(1), Le(1_000_000)] | None,
        About("sample", "How many prompts to draw from files of many, with the seed.", "20"),
    ] = None
    lengths: Annotated[
        Lengths | None,
        About(
            "prompt lengths",
            "Prompt lengths from a distribution, in place of prompt_tokens.",
            "lognormal 300 0.7 32..1500",
            kind="lengths",
        ),
    ] = None
    outputs: Annotated[
        Lengths | None,
        About(
            "answer lengths",
            "Answer lengths from a distribution, in place of output_tokens.",
            "128..512",
            kind="lengths",
        ),
    ] = None
    answers: Annotated[Literal["exact", "natural"], About("answers", "How long answers are.", "natural", ANSWERS)] = (
        "exact"
    )
    withheld: dict[str, str] = field(default_factory=dict)
    """Of texts that were left out when the study was passed on: their fingerprints, by `texts`, `recorded`, task, and
    `prompt NAME`."""

    def print_of(self, what: str, texts: object) -> str:
        """The fingerprint of some of its texts, also where these were left out."""
        return self.withheld.get(what) or fingerprint(texts)

    def only(self, name: str) -> Prompts:
        """The same with one prompt; all of them where it has none of that name."""
        if name not in self.names:
            return self
        at = self.names.index(name)
        return replace(
            self, texts=self.texts[at : at + 1], recorded=self.recorded[at : at + 1], names=(name,), withheld={}
        )


@dataclass(frozen=True, slots=True)
class Repeats:
    """How often, and in which order."""

    count: Annotated[
        int,
        Ge(1),
        Le(MOST_REPEATS),
        About("repeats", "Of each cell; the fewest where a rule decides how many.", "6"),
    ] = 3
    requests: Annotated[
        Annotated[int, Ge(1), Le(100_000)] | None,
        About("requests", "In one repeat; without it by the shape of the load.", "2"),
    ] = None
    warm_up: Annotated[int, Ge(0), Le(100), About("warm-up", "Requests before each repeat that do not count.", "1")] = 1
    order: Annotated[RunOrder, About("order", "In which order the repeats are measured.", "interleaved", ORDERS)] = (
        "interleaved"
    )
    until_answered: Annotated[
        str | None,
        About(
            "until answered",
            "Repeat until it is known which cell is best (best), or what each step of a factor brings (its name).",
            "best",
        ),
    ] = None
    until_percent: Annotated[
        Annotated[float, Gt(0), Le(100)] | None,
        About(
            "until within",
            "Repeat each cell until its 95% interval is at most so many percent to each side.",
            "2%",
            kind="percent",
        ),
    ] = None
    until_measure: Annotated[str, About("by", "The measure that decides how often to repeat.", "decode")] = "decode"
    smallest_percent: Annotated[
        float,
        Ge(0.1),
        Le(100),
        About(
            "smallest",
            "The smallest difference worth knowing, where the question decides how often to repeat.",
            "3%",
        ),
    ] = 3.0
    ceiling: Annotated[
        Annotated[int, Ge(1), Le(MOST_REPEATS)],
        About("at most", "Repeats of a cell where a rule decides how many.", "20", blank=True),
    ] = 0

    @property
    def adaptive(self) -> bool:
        """True where what is measured decides how many repeats there are."""
        return self.until_percent is not None or self.until_answered is not None

    @property
    def most(self) -> int:
        """Repeats a cell may have."""
        return max(self.count, self.ceiling) if self.adaptive else self.count


@dataclass(frozen=True, slots=True)
class Limits:
    """What bounds a wait, in seconds."""

    total_s: Annotated[
        float,
        Ge(0),
        Le(7 * DAY_S),
        About(
            "time in all",
            "A cap: the run begins no repeat that would end later. What it drops stands beside the map.",
            "30 min",
        ),
    ] = 0.0
    quiet_s: Annotated[
        Wait,
        About(
            "wait for quiet",
            "How long a repeat may wait until others leave the processor alone, and no hypervisor takes it.",
            "20 s",
        ),
    ] = 0.0
    request_s: Annotated[Time, About("a request", "A request may take so long.", "10 min")] = 600.0
    stall_s: Annotated[Time, About("a silence", "An engine may be silent so long in the middle.", "2 min")] = 120.0
    load_s: Annotated[Time, About("loading", "An engine may take so long to start.", "5 min")] = 300.0


@dataclass(frozen=True)
class Study:
    """A whole study as planned. Frozen: what ran is what was planned."""

    name: Annotated[
        str, About("name", "Name of the study and of its file: small letters, digits, hyphens.", "threads-here")
    ]
    question: Annotated[
        str,
        Len(1, 300),
        About("question", "What is to be answered, in one sentence.", "How many threads are the fastest?"),
    ]
    vary: dict[str, tuple[Level, ...]]
    hold: dict[str, Level] = field(default_factory=dict)
    endpoint: Endpoint | None = None
    prompts: Prompts = field(default_factory=Prompts)
    repeats: Repeats = field(default_factory=Repeats)
    limits: Limits = field(default_factory=Limits)
    seed: Annotated[
        int, Ge(0), Lt(1 << 31), About("seed", "Seed of the order, of made-up prompts and of salts.", "7")
    ] = 1
    temperature: Annotated[
        float, Ge(0), Le(5), About("temperature", "Sampling temperature that is sent with requests.", "0")
    ] = 0.0
    load: Load = field(default_factory=Load)
    retry: RetryPolicy = field(default_factory=RetryPolicy)
    promise: Promise = field(default_factory=Promise)
    design: Design = field(default_factory=Design)
    capacity: CapacitySearch = field(default_factory=CapacitySearch)
    decide: Decide = field(default_factory=Decide)
    engines: tuple[Engine, ...] = ()
    """The engines it names, with their settings as their recipes declared them then."""
    rig_engines: dict[str, str] = field(default_factory=dict)
    """What the rigs speak whose engine already runs, by rig."""

    @cached_property
    def factors(self) -> Mapping[str, Factor]:
        """What it may vary or hold, by name."""
        return factors_of(self.engines)

    @property
    def engine_names(self) -> list[str]:
        """Names of the engines its cells mean, each once."""
        named = {name: self.vary.get(name, (self.hold.get(name),)) for name in ("engine", "rig")}
        on_endpoint = self.endpoint is not None
        found = [
            engine_name({"engine": engine, "rig": rig}, self.rig_engines, on_endpoint=on_endpoint)
            for engine in named["engine"]
            for rig in named["rig"]
        ]
        return list(dict.fromkeys(found))

    def names(self, name: str) -> bool:
        """True where a factor is varied or held."""
        return name in self.vary or name in self.hold

    def place(self, name: str) -> tuple[str, str]:
        """The path of a factor that is named, as a study file nests it."""
        return ("vary" if name in self.vary else "hold", name)

    def engine_of(self, levels: Mapping[str, Level]) -> Engine:
        """The engine of a cell with these levels; one without settings where nothing is known of it."""
        found = engine_name({**self.hold, **levels}, self.rig_engines, on_endpoint=self.endpoint is not None)
        return next((engine for engine in self.engines if engine.name == found), Engine(found))

    @cached_property
    def cells(self) -> tuple[Cell, ...]:
        """The combinations its design asks for, the first factor slowest."""
        return tuple(_combined(self))

    @cached_property
    def by_key(self) -> Mapping[str, Cell]:
        """The cells by their keys, in the same order."""
        return {cell.key: cell for cell in self.cells}

    @property
    def leading(self) -> list[str]:
        """The factors that vary, without those that follow one they are tied to."""
        return [name for name in self.vary if self.design.leads(name)]

    @cached_property
    def chosen(self) -> tuple[str, ...]:
        """The factors whose levels are chosen among; none where it only asks how something changes."""
        found, asked = chosen_factors(self.decide, self.vary, self.leading, self.factors), self.repeats.until_answered
        if not found and asked == BEST:
            return tuple(self.leading)
        # Repeated until it is known what a condition does: that is the question.
        change = asked in self.leading and asked not in found and not self.decide.choose
        return () if change else found

    @property
    def ranked(self) -> bool:
        """True where a best is asked for."""
        return bool(self.chosen)

    @cached_property
    def conditions(self) -> tuple[str, ...]:
        """The other factors that vary, without those that follow one they are tied to."""
        return tuple(name for name in self.leading if name not in self.chosen)

    def candidate(self, cell: Cell) -> tuple[tuple[str, Level], ...]:
        """The levels of a cell that are chosen among."""
        return tuple((name, cell.levels[name]) for name in self.chosen)

    def condition(self, cell: Cell) -> tuple[tuple[str, Level], ...]:
        """The levels of a cell that are not."""
        return tuple((name, cell.levels[name]) for name in self.conditions)

    def steps(self, factor: str) -> list[tuple[Level, Level]]:
        """The levels of a factor that are compared: each with the one before it, or all with the baseline's."""
        levels = self.vary.get(factor, ())
        if self.design.kind == "all":
            return list(itertools.pairwise(levels))
        base = baseline(self.vary, self.design).get(factor)
        if self.design.kind == "chain":
            walk = [*([] if base is None else [base]), *(level for level in levels if level != base)]
            return list(itertools.pairwise(walk))
        return [(base, level) for level in levels if base is not None and level != base]

    def moved(self, levels: Mapping[str, Level], factor: str, level: Level) -> dict[str, Level]:
        """A cell's levels with another level of one factor, and of those that are tied to it."""
        return moved(self.vary, self.design, levels, factor, level)


@dataclass(frozen=True)
class Cell:
    """One combination of levels."""

    index: int
    """Its place in the plan as it stands now; what is kept of a cell is kept by its key."""
    levels: dict[str, Level]
    """Only the varied factors, in the order of the study."""
    settings: dict[str, Level | None]
    """Every factor of its engine, with what varies, what is held and what is default merged."""
    engine: Engine = field(default_factory=lambda: Engine(BUILT_IN), compare=False)
    factors: Mapping[str, Factor] = field(default_factory=lambda: FACTORS, compare=False, repr=False)
    """Those of its study."""

    @cached_property
    def key(self) -> str:
        """Its address: the same whenever its levels are the same."""
        return fingerprint(self.levels, length=KEY_DIGITS)

    @property
    def title(self) -> str:
        """Its levels, as people say them."""
        return " · ".join(self.factors[name].says(level) for name, level in self.levels.items())

    def level(self, role: SettingRole) -> Level | None:
        """What the setting with a role is set to; None where its engine has no such setting, or it is not set."""
        setting = self.engine.setting(role)
        return None if setting is None else self.settings.get(setting.name)

    @cached_property
    def launch(self) -> LaunchSpec:
        """The part of its settings that an engine is started with."""
        rig, quantization = self.settings["rig"], self.settings["quantization"]
        given = [(s, level) for s in self.engine.settings if (level := self.settings.get(s.name)) is not None]
        return LaunchSpec(
            self.engine.name,
            str(self.settings["model"] or ""),
            None if quantization is None else str(quantization),
            None if rig is None else str(rig),
            tuple((s.name, level) for s, level in given if s.kind == "launch"),
            {s.role: level for s, level in given if s.role is not None},
        )

    def requests(self, study: Study) -> int:
        """Measured requests in one repeat."""
        concurrency, shape = int(self.settings["concurrency"] or 1), shape_of(study, self)
        wanted = study.repeats.requests
        if shape == "conversation":
            turns = turns_of(study, self)
            return turns * (concurrency if wanted is None else -(-wanted // turns))
        if study.capacity.factor == "rate" and shape == "open":
            held = math.ceil(float(self.settings["rate"] or 0) / 60 * study.capacity.hold_s)
            return max(wanted or DEFAULT_OPEN_REQUESTS, held)
        if wanted is not None:
            return wanted
        if shape in {"burst", "batch"}:
            return concurrency
        if shape == "open":
            return DEFAULT_OPEN_REQUESTS
        return 1 if concurrency == 1 else max(8, 4 * concurrency)


def engine_name(levels: Mapping[str, object], rig_engines: Mapping[str, str], *, on_endpoint: bool) -> str:
    """The engine these levels mean: as they say, else what their rig speaks, else what is usual."""
    named = levels.get("engine") or rig_engines.get(str(levels.get("rig")))
    return str(named or (OPEN_PROTOCOL if on_endpoint else BUILT_IN))


def _combined(study: Study) -> Iterator[Cell]:
    top = _highest_concurrency(study)
    defaults: dict[str, tuple[Engine, dict[str, Level | None]]] = {}
    for index, levels in enumerate(combinations(study.vary, study.design)):
        found = engine_name({**study.hold, **levels}, study.rig_engines, on_endpoint=study.endpoint is not None)
        if found not in defaults:
            engine = study.engine_of(levels)
            defaults[found] = engine, _defaults(study, engine, top)
        engine, held = defaults[found]
        settings = {**held, **levels}
        task = SUITE.get(str(settings["task"]))
        if task is not None:
            settings["prompt_tokens"] = settings["prompt_tokens"] or task.prompt_tokens
            if "output_tokens" not in levels and "output_tokens" not in study.hold:
                settings["output_tokens"] = task.output_tokens
        yield Cell(index, levels, settings, engine, study.factors)


def _defaults(study: Study, engine: Engine, top: int) -> dict[str, Level | None]:
    """What every cell of an engine has where it does not vary."""
    own = [*FACTORS.values(), *engine.settings]
    out: dict[str, Level | None] = {factor.name: factor.default for factor in own}
    out.update(study.hold)
    slots = engine.setting("slots")
    if slots is not None and out[slots.name] is None:
        out[slots.name] = top
    return out


def _highest_concurrency(study: Study) -> int:
    levels = study.vary.get("concurrency") or (study.hold.get("concurrency") or 1,)
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
    recorded = study.prompts.only(str(cell.settings["prompt"])).recorded
    if recorded:
        return max(1, *(r.asks for r in recorded))
    return study.load.turns


def workload(study: Study, cell: Cell, apart_from: Collection[str] = ()) -> dict[str, object]:
    """What the engine is asked to do, apart from how it was started; its fingerprint decides what is comparable.

    Args:
        study: The plan.
        cell: One of its cells.
        apart_from: Factors whose levels are what is compared; what follows from them is left out.
    """
    prompts, load, shape = study.prompts, study.load, shape_of(study, cell)
    names = ("prompt_tokens", "output_tokens", "salt", "concurrency")
    out: dict[str, object] = {
        "definitions": DEFINITIONS_VERSION,
        **_asked(prompts, cell),
        "seed": study.seed,
        "temperature": study.temperature,
        "shape": "closed loop" if shape == "closed" else shape,
        "requests": cell.requests(study),
        "warm_up": study.repeats.warm_up,
        **{name: cell.settings[name] for name in names},
    }
    # Only what is there: a workload without it keeps the fingerprint it always had.
    if prompts.answers == "natural":
        out["output_tokens"] = f"up to {cell.settings['output_tokens']}"
    if cell.settings["depth"] is not None:
        out["depth"] = cell.settings["depth"]
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
    gone = {name for factor in apart_from for name in WORK_OF.get(factor, (factor,))}
    return {name: value for name, value in out.items() if name not in gone}


WORK_OF: Mapping[str, tuple[str, ...]] = {
    "concurrency": ("concurrency", "requests"),
    "rate": ("arrivals", "requests"),
    "prompt": ("prompts", "requests", "turns"),
    "task": ("task", "prompts", "prompt_tokens", "output_tokens", "requests", "turns", "shape"),
}
"""What of a workload follows from a factor, where that is more than the factor itself."""


def _asked(prompts: Prompts, cell: Cell) -> dict[str, object]:
    """Fingerprints of the texts of a cell."""
    if cell.settings["task"] is not None:
        name = str(cell.settings["task"])
        return {"task": name, "prompts": prompts.print_of(name, list(prompts.tasks.get(name, ())))}
    if cell.settings["prompt"] is not None:
        return {"prompts": _print_of_one(prompts, str(cell.settings["prompt"]))}
    if prompts.recorded:
        return {"prompts": prompts.print_of("recorded", [asdict(r) for r in prompts.recorded])}
    return {"prompts": prompts.print_of("texts", list(prompts.texts)) if _has_texts(prompts) else "made-up words"}


def _print_of_one(prompts: Prompts, name: str) -> str:
    """The fingerprint of one prompt, whatever its name."""
    one = prompts.only(name)
    return prompts.print_of(f"{ONE_PROMPT}{name}", [*one.texts, *(asdict(r) for r in one.recorded)])


def _has_texts(prompts: Prompts) -> bool:
    return bool(prompts.texts) or "texts" in prompts.withheld


def without_texts(prompts: Prompts) -> Prompts:
    """Prompts whose texts are left out, so that what was asked is still known to be the same, but not what it was."""
    prints = dict(prompts.withheld)
    if prompts.texts:
        prints["texts"] = fingerprint(list(prompts.texts))
    if prompts.recorded and "recorded" not in prints:
        prints["recorded"] = fingerprint([asdict(r) for r in prompts.recorded])
    prints |= {name: fingerprint(list(texts)) for name, texts in prompts.tasks.items() if texts}
    prints = {f"{ONE_PROMPT}{name}": _print_of_one(prompts, name) for name in prompts.names} | prints
    bare = tuple(replace(r, messages=tuple((role, "") for role, _ in r.messages), extra={}) for r in prompts.recorded)
    return replace(prompts, texts=(), recorded=bare, tasks=dict.fromkeys(prompts.tasks, ()), withheld=prints)


def rigs_of(study: Study) -> list[str]:
    """Names of the other machines a study runs on, in the order they are named."""
    named = [*study.vary.get("rig", ()), *([study.hold["rig"]] if "rig" in study.hold else [])]
    return [str(name) for name in named]


def to_plain(study: Study) -> dict[str, object]:
    """A study as JSON-like values, for keeping."""
    return asdict(study)
