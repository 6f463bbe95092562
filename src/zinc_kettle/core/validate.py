"""What is wrong with a draft of a study: every problem, each with the path of what it is about and what to try.

A study file maps paths to lines, an editor to fields. A draft without problems becomes a study.
"""

from __future__ import annotations

import difflib
import math
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from zinc_kettle.core.design import Design, baseline, combinations, count_before
from zinc_kettle.core.factors import FACTORS, TYPES, Factor, Level, LevelType, label
from zinc_kettle.core.names import NAME_HINT, is_name
from zinc_kettle.core.plan import Cell, Limits, Prompts, Repeats, Study, engine_name, shape_of, turns_of
from zinc_kettle.core.recipe import Endpoint, Engine, Setting, factors_of
from zinc_kettle.core.traffic import CapacitySearch, Load, Promise, RetryPolicy

MAX_CELLS = 100_000
"""At a second each they would take more than a day; a plan of more is a slip of the keyboard."""
TYPE_WORDS: dict[LevelType, str] = {
    "text": "text",
    "number": "a whole number",
    "switch": "true or false",
    "model": "a model's name",
}


@dataclass(frozen=True, slots=True)
class Problem:
    """One thing that is wrong."""

    path: tuple[str, ...]
    """What it is about, as a study file nests it: `("vary", "threads")`."""
    what: str
    why: str = ""
    remedy: str = ""


@dataclass(frozen=True)
class Draft:
    """A study that is still being written: as a study, but nothing is known about its levels."""

    name: str
    question: str
    vary: Mapping[str, Sequence[object]]
    hold: Mapping[str, object] = field(default_factory=dict)
    endpoint: Endpoint | None = None
    prompts: Prompts = field(default_factory=Prompts)
    repeats: Repeats = field(default_factory=Repeats)
    limits: Limits = field(default_factory=Limits)
    seed: int = 1
    temperature: float = 0.0
    load: Load = field(default_factory=Load)
    retry: RetryPolicy = field(default_factory=RetryPolicy)
    promise: Promise = field(default_factory=Promise)
    capacity: CapacitySearch = field(default_factory=CapacitySearch)
    design: Design = field(default_factory=Design)
    known: Mapping[str, Engine] = field(default_factory=dict)
    """All engines there are recipes for, by name."""
    rig_engines: Mapping[str, str] = field(default_factory=dict)
    """What rigs speak whose engine already runs, by rig."""

    @property
    def engines(self) -> list[str]:
        """Names of the engines its cells mean, each once."""
        named = {"engine": self.hold.get("engine"), "rig": self.hold.get("rig")}
        engines, rigs = self.vary.get("engine", (named["engine"],)), self.vary.get("rig", (named["rig"],))
        found = [
            engine_name({"engine": engine, "rig": rig}, self.rig_engines, on_endpoint=self.endpoint is not None)
            for engine in engines
            for rig in rigs
        ]
        return list(dict.fromkeys(found))

    def names(self, name: str) -> bool:
        """True where a factor is varied or held."""
        return name in self.vary or name in self.hold

    def place(self, name: str) -> tuple[str, str]:
        """The path of a factor that is named."""
        return ("vary" if name in self.vary else "hold", name)


def validate(draft: Draft) -> list[Problem]:
    """Every problem of a draft, in the order in which a person reads it; none where it can be measured."""
    engines = [draft.known[name] for name in draft.engines if name in draft.known]
    problems = [*_unknown_engines(draft), *factor_problems(draft.vary, draft.hold, engines), *_whole(draft)]
    problems += [*_design(draft), *_shapes(draft), *_question(draft), *_capacity(draft)]
    if problems:
        return problems
    return list(_cells(draft)) or list(_lengths(draft))


def _capacity(draft: Draft) -> Iterator[Problem]:
    """A search for a limit needs a load to raise and a promise to keep."""
    factor = draft.capacity.factor
    if not factor:
        return
    if factor not in draft.vary:
        yield Problem(
            ("capacity", "factor"),
            f"{factor} does not vary, so there is no load to raise",
            remedy=f"[vary] {factor} = [4], where the search is to begin",
        )
    if not draft.promise.made:
        yield Problem(
            ("capacity",), "nothing is promised, so no load can break it", remedy="[promise] ttft_s = 2, tpot_s = 0.2"
        )
    if draft.design.kind != "all" or any(factor in tie for tie in draft.design.ties):
        yield Problem(
            ("capacity", "factor"),
            f"{factor} is tied to other factors, and cannot be raised by itself",
            remedy="leave the design to every combination",
        )
    if draft.repeats.adaptive:
        yield Problem(
            ("capacity",), "the search decides what is measured, and so does [repeats]", remedy="give [repeats] a count"
        )
    if max([level for level in draft.vary.get(factor, ()) if isinstance(level, int)], default=0) > draft.capacity.most:
        yield Problem(
            ("capacity", "most"), f"a level of {factor} is larger than the largest load to try", remedy="raise most"
        )


def draft_of(study: Study) -> Draft:
    """A study as a draft again, to be checked once more: one that comes from elsewhere was checked by nobody."""
    return Draft(
        name=study.name,
        question=study.question,
        vary=study.vary,
        hold=study.hold,
        endpoint=study.endpoint,
        prompts=study.prompts,
        repeats=study.repeats,
        limits=study.limits,
        seed=study.seed,
        temperature=study.temperature,
        load=study.load,
        retry=study.retry,
        promise=study.promise,
        capacity=study.capacity,
        design=study.design,
        known={engine.name: engine for engine in study.engines},
        rig_engines=study.rig_engines,
    )


def study_of(draft: Draft) -> Study:
    """The study of a draft that has no problems."""
    return Study(
        name=draft.name,
        question=draft.question,
        vary={name: tuple(_known(level) for level in levels) for name, levels in draft.vary.items()},
        hold={name: _known(level) for name, level in draft.hold.items()},
        endpoint=draft.endpoint,
        prompts=draft.prompts,
        repeats=draft.repeats,
        limits=draft.limits,
        seed=draft.seed,
        temperature=draft.temperature,
        load=draft.load,
        retry=draft.retry,
        promise=draft.promise,
        design=draft.design,
        capacity=draft.capacity,
        engines=tuple(draft.known[name] for name in draft.engines if name in draft.known),
        rig_engines={rig: engine for rig, engine in draft.rig_engines.items() if rig in _rigs(draft)},
    )


def _rigs(draft: Draft) -> set[object]:
    return {*draft.vary.get("rig", ()), draft.hold.get("rig")}


def _known(level: object) -> Level:
    assert isinstance(level, (str, int))
    return level


def nearest(name: str, known: Iterable[str]) -> str:
    """What was probably meant, else all there is."""
    names = list(known)
    near = difflib.get_close_matches(name, names, n=2, cutoff=0.5)
    return " or ".join(near) if near else "one of: " + ", ".join(names)


def _unknown_engines(draft: Draft) -> Iterator[Problem]:
    for name in draft.engines:
        if name not in draft.known:
            yield Problem(
                draft.place("engine"),
                f"there is no engine {name!r}",
                why="no recipe has that name",
                remedy=nearest(name, draft.known),
            )


def factor_problems(
    vary: Mapping[str, Sequence[object]], hold: Mapping[str, object], engines: Sequence[Engine]
) -> list[Problem]:
    """Problems of the factors and their levels alone, for the engines of a study."""
    out: list[Problem] = []
    for name, levels in vary.items():
        found = [problem for level in levels if (problem := level_problem("vary", name, level, engines)) is not None]
        out += found[:1]  # one word on a list is enough
        if not levels:
            out.append(Problem(("vary", name), f"vary.{name} has no levels", remedy=f"{name} = [1, 2], for instance"))
        elif len(set(map(repr, levels))) < len(levels):
            out.append(Problem(("vary", name), f"vary.{name} has a level twice", remedy="give each level once"))
    for name, level in hold.items():
        found_one = level_problem("hold", name, level, engines)
        if name in vary:
            out.append(Problem(("hold", name), f"{name} is both varied and held", remedy="keep it in one of the two"))
        elif found_one is not None:
            out.append(found_one)
    return out


def level_problem(section: str, name: str, level: object, engines: Sequence[Engine]) -> Problem | None:
    """What is wrong with one level of a factor, for any of the engines."""
    path = (section, name)
    known = factors_of(engines)
    if name not in known:
        return Problem(path, f"{name} is not a factor", remedy=nearest(name, known))
    for factor in [FACTORS[name]] if name in FACTORS else [engine.named(name) for engine in engines]:
        found = _strange(path, name, engines) if factor is None else _level_problem(path, factor, level)
        if found is not None:
            return found
    return None


def _strange(path: tuple[str, ...], name: str, engines: Sequence[Engine]) -> Problem:
    """A setting that not every engine of the study has."""
    without = next(engine for engine in engines if engine.named(name) is None)
    return Problem(
        path,
        f"{name} cannot be set on {without.name}",
        why=f"the recipe of {without.name} has no such setting",
        remedy=f"remove {name}, or give {without.name} a study of its own",
    )


def _level_problem(path: tuple[str, ...], factor: Factor, level: object) -> Problem | None:
    if type(level) is not TYPES[factor.type]:
        why = f"{factor.name} is: {factor.meaning}"
        return Problem(path, f"{factor.name} should be {TYPE_WORDS[factor.type]}, not {level!r}", why=why)
    if factor.type == "number" and isinstance(level, int) and not factor.low <= level <= factor.high:
        return Problem(path, f"{factor.name} = {level} is out of range", remedy=f"{factor.low:,} to {factor.high:,}")
    if factor.choices and level not in factor.choices:
        return Problem(path, f"{factor.name} = {level!r} is not known", remedy=", ".join(factor.choices))
    return None


def _whole(draft: Draft) -> Iterator[Problem]:
    if not is_name(draft.name):
        yield Problem(("name",), f"{draft.name[:80]!r} is no name for a study", remedy=NAME_HINT)
    if not draft.vary:
        yield Problem(("vary",), "nothing varies", remedy="vary at least one factor, such as threads = [1, 2]")
    if math.prod(len(levels) for levels in draft.vary.values()) > MAX_CELLS and _count(draft) > MAX_CELLS:
        yield Problem(("vary",), f"the study has more than {MAX_CELLS:,} cells", remedy="vary less")
    if draft.endpoint is not None:
        yield from _endpoint(draft)
    elif not draft.names("model") and any(e not in draft.known or draft.known[e].started for e in draft.engines):
        yield Problem(("hold",), "no model is named", remedy='[hold] model = "brine-60m"')
    named = draft.names("prompt_tokens") or draft.names("task")
    if not named and not draft.prompts.files and draft.prompts.lengths is None:
        yield Problem((), "no prompts are named", remedy="[hold] prompt_tokens = 512, or [prompts] files = […]")
    if draft.prompts.texts and draft.prompts.recorded:
        yield Problem(
            ("prompts", "files"), "plain text files and files of many prompts cannot be mixed", remedy="use one kind"
        )
    if draft.prompts.sample is not None and not draft.prompts.recorded:
        yield Problem(("prompts", "sample"), "there is nothing to sample", remedy="add a .jsonl or .csv file")


def _count(draft: Draft) -> int:
    """Cells before any are left out."""
    vary = {name: [_known(level) for level in levels] for name, levels in draft.vary.items()}
    return count_before(vary, draft.design)


def _design(draft: Draft) -> Iterator[Problem]:
    """Ties, combinations left out and the baseline must name what varies."""
    design, vary = draft.design, draft.vary
    yield from _ties(draft)
    rules: list[tuple[str, Mapping[str, tuple[Level, ...]]]] = [("without", rule) for rule in design.without]
    rules.append(("baseline", {name: (level,) for name, level in design.baseline.items()}))
    for section, named in rules:
        path = ("design", section)
        for name, levels in named.items():
            if name not in vary:
                yield Problem(path, f"this study does not vary {name}", remedy=nearest(name, vary))
                continue
            strange = next((v for v in levels if not any(v == w and type(v) is type(w) for w in vary[name])), None)
            if strange is not None:
                given = ", ".join(label(_known(v)) for v in vary[name])
                yield Problem(path, f"{name} has no level {label(strange)} here", remedy=f"one of: {given}")


def _ties(draft: Draft) -> Iterator[Problem]:
    path, tied = ("design", "ties"), [name for tie in draft.design.ties for name in tie]
    if len(set(tied)) < len(tied):
        yield Problem(path, "a factor is tied twice", remedy="name each factor in one tie")
    for tie in draft.design.ties:
        strange = next((name for name in tie if name not in draft.vary), None)
        if strange is not None:
            yield Problem(path, f"this study does not vary {strange}", remedy=nearest(strange, draft.vary))
        elif len(tie) < 2:
            yield Problem(path, "a tie needs two factors or more", remedy='ties = [["concurrency", "slots"]]')
        elif len({len(draft.vary[name]) for name in tie}) > 1:
            counts = ", ".join(f"{name} {len(draft.vary[name])}" for name in tie)
            yield Problem(
                path,
                f"{' and '.join(tie)} are tied and have different numbers of levels ({counts})",
                why="each level of one goes with one of the other",
                remedy="give both as many",
            )


def _cells(draft: Draft) -> Iterator[Problem]:
    """What is left once combinations are left out."""
    study = study_of(draft)
    if draft.design.without and next(combinations(study.vary, study.design), None) is None:
        yield Problem(("design", "without"), "every cell is left out", remedy="leave out less")
    base = baseline(study.vary, study.design)
    if draft.design.kind == "one-at-a-time" and draft.design.leaves_out(base):
        yield Problem(("design", "without"), "the baseline itself is left out", remedy="choose another baseline")


def _endpoint(draft: Draft) -> Iterator[Problem]:
    settings = {s.name: s for name in draft.engines if name in draft.known for s in draft.known[name].settings}
    for name in (*draft.vary, *draft.hold):
        factor: Factor | None = FACTORS.get(name) or settings.get(name)
        on_launch = factor.on_launch if isinstance(factor, Setting) else factor is not None and factor.kind == "launch"
        if on_launch and not (name == "engine" and name in draft.hold):
            yield Problem(
                draft.place(name),
                f"{name} cannot be set on an endpoint",
                why="that engine already runs; its launch settings cannot be changed from here",
                remedy=f"remove {name}, or let Zinc Kettle start the engine",
            )


def _question(draft: Draft) -> Iterator[Problem]:
    """What is to be answered must be something the study varies."""
    asked, path = draft.repeats.until_answered, ("repeats", "until_answered")
    if asked is None:
        return
    if asked != "best" and asked not in draft.vary:
        yield Problem(
            path,
            f"{asked!r} is neither best nor a factor this study varies",
            remedy=nearest(asked, ["best", *draft.vary]),
        )
    if draft.repeats.order == "by-launch":
        yield Problem(
            path,
            "until_answered needs the interleaved order",
            why="cells are compared block by block",
            remedy='order = "interleaved"',
        )


def _shapes(draft: Draft) -> Iterator[Problem]:
    """Shape of the load and factors must go together."""
    is_open, prompts = draft.load.shape == "open", draft.prompts
    if draft.names("rate") and not is_open:
        remedy = '[load] shape = "open", or remove rate'
        yield Problem(draft.place("rate"), "rate only applies to an open loop", remedy=remedy)
    if is_open and not draft.names("rate") and draft.load.arrivals != "recorded":
        yield Problem(("load", "shape"), "an open loop needs a rate", remedy="[hold] rate = 60 (requests per minute)")
    if is_open and draft.names("concurrency"):
        yield Problem(
            draft.place("concurrency"), "an open loop does not set concurrency", remedy="hold slots, and vary rate"
        )
    if prompts.recorded and draft.names("prompt_tokens"):
        yield Problem(
            draft.place("prompt_tokens"),
            "recorded prompts have a fixed length",
            remedy="remove prompt_tokens, or use plain text files",
        )
    if draft.names("depth") and (prompts.recorded or draft.load.shape == "conversation" or draft.names("task")):
        yield Problem(
            draft.place("depth"),
            "depth goes with single prompts",
            why="conversations have a depth of their own",
            remedy="remove depth, or use made-up or plain prompts in another shape",
        )
    for given, section, factor in (
        (prompts.lengths, "lengths", "prompt_tokens"),
        (prompts.outputs, "outputs", "output_tokens"),
    ):
        if given is not None and draft.names(factor):
            yield Problem(draft.place(factor), f"{factor} and prompts.{section} both set the length", remedy="keep one")


def _lengths(draft: Draft) -> Iterator[Problem]:
    """Prompt and answer must fit the context; the first cell where they do not stands for all."""
    over = None if draft.endpoint is not None else unfitting(study_of(draft))
    if over is not None:
        prompt, output, context = over
        yield Problem(
            draft.place("context"),
            f"{prompt:,} prompt tokens and {output:,} output tokens do not fit a context of {context:,}",
            why="the engine would silently cut answers short",
            remedy=f"context = {prompt + output} or more",
        )


def unfitting(study: Study) -> tuple[int, int, int] | None:
    """Prompt, output and context of the first cell whose context is too small; None where all fit."""
    if study.endpoint is not None:
        return None
    for cell in study.cells:
        prompt, output = most_tokens(study, cell)
        context = cell.level("context")
        if prompt is not None and context is not None and prompt + output > int(context):
            return prompt, output, int(context)
    return None


def most_tokens(study: Study, cell: Cell) -> tuple[int | None, int]:
    """The longest prompt of a cell, None where it is not known before, and the longest answer; in tokens."""
    lengths, outputs = study.prompts.lengths, study.prompts.outputs
    given = cell.settings["prompt_tokens"]
    prompt = lengths.most if lengths is not None else (None if given is None else int(given))
    output = outputs.most if outputs is not None else int(cell.settings["output_tokens"] or 0)
    if prompt is not None:
        prompt += int(cell.settings["depth"] or 0)
    if prompt is not None and shape_of(study, cell) == "conversation":
        prompt += (turns_of(study, cell) - 1) * (prompt + output)
    return prompt, output
