"""What is wrong with a plan: every problem, each with the path of what it is about and what to try.

A study file maps paths to lines, an editor to fields.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence

from zinc_kettle.core.checks.sections import section_problems
from zinc_kettle.core.names import NAME_HINT, is_name
from zinc_kettle.core.plan.design import baseline, combinations, count_before
from zinc_kettle.core.plan.factors import FACTORS, TYPES, Factor, Level, LevelType, label
from zinc_kettle.core.plan.recipe import Engine, Setting, factors_of
from zinc_kettle.core.plan.study import Cell, Study, shape_of, turns_of
from zinc_kettle.core.problem import Problem, nearest

MAX_CELLS = 100_000
"""At a second each they would take more than a day; a plan of more is a slip of the keyboard."""
TYPE_WORDS: dict[LevelType, str] = {
    "text": "text",
    "number": "a whole number",
    "switch": "true or false",
    "model": "a model's name",
}


def validate(study: Study, known: Mapping[str, Engine]) -> list[Problem]:
    """Every problem of a plan, in the order in which a person reads it; none where it can be measured.

    Args:
        study: Its values have their types and bounds; what they mean together is not checked yet.
        known: All engines there are recipes for, by name.
    """
    problems = [*_unknown_engines(study, known), *factor_problems(study.vary, study.hold, study.engines)]
    problems += [*_whole(study, known), *section_problems(study), *_design(study), *_shapes(study)]
    problems += [*_question(study), *_capacity(study)]
    if problems:
        return problems
    return list(_cells(study)) or [*_cold(study), *_lengths(study)]


def _capacity(study: Study) -> Iterator[Problem]:
    """A search for a limit needs a load to raise and a promise to keep."""
    factor = study.capacity.factor
    if not factor:
        return
    if factor not in study.vary:
        yield Problem(
            ("capacity", "factor"),
            f"{factor} does not vary, so there is no load to raise",
            remedy=f"[vary] {factor} = [4], where the search is to begin",
        )
    if not study.promise.made:
        yield Problem(
            ("capacity",), "nothing is promised, so no load can break it", remedy="[promise] ttft_s = 2, tpot_s = 0.2"
        )
    if study.design.kind != "all" or any(factor in tie for tie in study.design.ties):
        yield Problem(
            ("capacity", "factor"),
            f"{factor} is tied to other factors, and cannot be raised by itself",
            remedy="leave the design to every combination",
        )
    if study.repeats.adaptive:
        yield Problem(
            ("capacity",), "the search decides what is measured, and so does [repeats]", remedy="give [repeats] a count"
        )
    if max([level for level in study.vary.get(factor, ()) if isinstance(level, int)], default=0) > study.capacity.most:
        yield Problem(
            ("capacity", "most"), f"a level of {factor} is larger than the largest load to try", remedy="raise most"
        )


def _unknown_engines(study: Study, known: Mapping[str, Engine]) -> Iterator[Problem]:
    for name in study.engine_names:
        if name not in known:
            yield Problem(
                study.place("engine"),
                f"there is no engine {name!r}",
                why="no recipe has that name",
                remedy=nearest(name, known),
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


def _whole(study: Study, known: Mapping[str, Engine]) -> Iterator[Problem]:
    if not is_name(study.name):
        yield Problem(("name",), f"{study.name[:80]!r} is no name for a study", remedy=NAME_HINT)
    if not study.vary:
        yield Problem(("vary",), "nothing varies", remedy="vary at least one factor, such as threads = [1, 2]")
    if math.prod(len(levels) for levels in study.vary.values()) > MAX_CELLS and _count(study) > MAX_CELLS:
        yield Problem(("vary",), f"the study has more than {MAX_CELLS:,} cells", remedy="vary less")
    if study.endpoint is not None:
        yield from _endpoint(study)
    elif not study.names("model") and any(e not in known or known[e].started for e in study.engine_names):
        yield Problem(("hold",), "no model is named", remedy='[hold] model = "brine-60m"')
    named = study.names("prompt_tokens") or study.names("task")
    if not named and not study.prompts.files and study.prompts.lengths is None:
        yield Problem((), "no prompts are named", remedy="[hold] prompt_tokens = 512, or [prompts] files = […]")
    if study.prompts.texts and study.prompts.recorded:
        yield Problem(
            ("prompts", "files"), "plain text files and files of many prompts cannot be mixed", remedy="use one kind"
        )
    if study.prompts.sample is not None and not study.prompts.recorded:
        yield Problem(("prompts", "sample"), "there is nothing to sample", remedy="add a .jsonl or .csv file")
    if study.names("prompt"):
        yield from _named_prompts(study)


def _named_prompts(study: Study) -> Iterator[Problem]:
    """Prompts that are compared by their names need names, each its own."""
    prompts, path = study.prompts, study.place("prompt")
    count, withheld = max(len(prompts.texts), len(prompts.recorded)), bool(prompts.withheld)
    if not prompts.names:
        yield Problem(path, "the study has no prompts of its own", remedy="[prompts] files = […]")
    elif len(prompts.names) != count and not withheld:
        what = f"{len(prompts.names):,} names are given for {count:,} prompts"
        yield Problem(("prompts", "names"), what, remedy="give each a name, or remove names")
    elif len(set(prompts.names)) < len(prompts.names):
        twice = next(name for name in prompts.names if prompts.names.count(name) > 1)
        yield Problem(("prompts", "names"), f"two prompts are called {twice}", remedy="names = […], each its own")
    else:
        strange = [n for n in study.vary.get("prompt", (study.hold.get("prompt"),)) if n not in prompts.names]
        for name in strange[:1]:
            yield Problem(path, f"there is no prompt {name!r}", remedy=nearest(str(name), prompts.names))
    if study.names("task"):
        yield Problem(path, "a task brings its own prompts", remedy="keep prompt or task")


def _count(study: Study) -> int:
    """Cells before any are left out."""
    return count_before(study.vary, study.design)


def _design(study: Study) -> Iterator[Problem]:
    """Ties, combinations left out and the baseline must name what varies."""
    design, vary = study.design, study.vary
    yield from _ties(study)
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
                given = ", ".join(label(v) for v in vary[name])
                yield Problem(path, f"{name} has no level {label(strange)} here", remedy=f"one of: {given}")


def _ties(study: Study) -> Iterator[Problem]:
    path, tied = ("design", "ties"), [name for tie in study.design.ties for name in tie]
    if len(set(tied)) < len(tied):
        yield Problem(path, "a factor is tied twice", remedy="name each factor in one tie")
    for tie in study.design.ties:
        strange = next((name for name in tie if name not in study.vary), None)
        if strange is not None:
            yield Problem(path, f"this study does not vary {strange}", remedy=nearest(strange, study.vary))
        elif len(tie) < 2:
            yield Problem(path, "a tie needs two factors or more", remedy='ties = [["concurrency", "slots"]]')
        elif len({len(study.vary[name]) for name in tie}) > 1:
            counts = ", ".join(f"{name} {len(study.vary[name])}" for name in tie)
            yield Problem(
                path,
                f"{' and '.join(tie)} are tied and have different numbers of levels ({counts})",
                why="each level of one goes with one of the other",
                remedy="give both as many",
            )


def _cells(study: Study) -> Iterator[Problem]:
    """What is left once combinations are left out."""
    if study.design.without and next(combinations(study.vary, study.design), None) is None:
        yield Problem(("design", "without"), "every cell is left out", remedy="leave out less")
    base = baseline(study.vary, study.design)
    if study.design.kind != "all" and study.design.leaves_out(base):
        yield Problem(("design", "without"), "the baseline itself is left out", remedy="choose another baseline")


def _endpoint(study: Study) -> Iterator[Problem]:
    settings = {s.name: s for engine in study.engines for s in engine.settings}
    for name in (*study.vary, *study.hold):
        factor: Factor | None = FACTORS.get(name) or settings.get(name)
        on_launch = factor.on_launch if isinstance(factor, Setting) else factor is not None and factor.kind == "launch"
        if on_launch and not (name == "engine" and name in study.hold):
            yield Problem(
                study.place(name),
                f"{name} cannot be set on an endpoint",
                why="that engine already runs; its launch settings cannot be changed from here",
                remedy=f"remove {name}, or let Zinc Kettle start the engine",
            )


def _question(study: Study) -> Iterator[Problem]:
    """What is to be answered must be something the study varies."""
    asked, path = study.repeats.until_answered, ("repeats", "until_answered")
    if asked is None:
        return
    if asked != "best" and asked not in study.vary:
        yield Problem(
            path,
            f"{asked!r} is neither best nor a factor this study varies",
            remedy=nearest(asked, ["best", *study.vary]),
        )
    if study.repeats.order == "by-launch":
        yield Problem(
            path,
            "until_answered needs the interleaved order",
            why="cells are compared block by block",
            remedy='order = "interleaved"',
        )


def _shapes(study: Study) -> Iterator[Problem]:
    """Shape of the load and factors must go together."""
    is_open, prompts = study.load.shape == "open", study.prompts
    if study.names("rate") and not is_open:
        remedy = '[load] shape = "open", or remove rate'
        yield Problem(study.place("rate"), "rate only applies to an open loop", remedy=remedy)
    if is_open and not study.names("rate") and study.load.arrivals != "recorded":
        yield Problem(("load", "shape"), "an open loop needs a rate", remedy="[hold] rate = 60 (requests per minute)")
    if is_open and study.names("concurrency"):
        yield Problem(
            study.place("concurrency"), "an open loop does not set concurrency", remedy="hold slots, and vary rate"
        )
    if prompts.recorded and study.names("prompt_tokens"):
        yield Problem(
            study.place("prompt_tokens"),
            "recorded prompts have a fixed length",
            remedy="remove prompt_tokens, or use plain text files",
        )
    if study.names("depth") and (prompts.recorded or study.load.shape == "conversation" or study.names("task")):
        yield Problem(
            study.place("depth"),
            "depth goes with single prompts",
            why="conversations have a depth of their own",
            remedy="remove depth, or use made-up or plain prompts in another shape",
        )
    for given, section, factor in (
        (prompts.lengths, "lengths", "prompt_tokens"),
        (prompts.outputs, "outputs", "output_tokens"),
    ):
        if given is not None and study.names(factor):
            yield Problem(study.place(factor), f"{factor} and prompts.{section} both set the length", remedy="keep one")


def _cold(study: Study) -> Iterator[Problem]:
    """The first request after a launch does not count: where it is the only one of a repeat, nothing would."""
    if study.endpoint is None and not study.repeats.warm_up and any(c.requests(study) == 1 for c in study.cells):
        yield Problem(
            ("repeats", "warm_up"),
            "a repeat of one request has nothing that counts without a warm-up",
            why="the first request after a launch is cold, and left out",
            remedy="warm_up = 1, or requests = 2",
        )


def _lengths(study: Study) -> Iterator[Problem]:
    """Prompt and answer must fit the context; the first cell where they do not stands for all."""
    over = None if study.endpoint is not None else unfitting(study)
    if over is not None:
        prompt, output, context = over
        yield Problem(
            study.place("context"),
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


def decode_depth(study: Study, cell: Cell) -> float | None:
    """Tokens in context in the middle of an answer; None where the length of prompts is not known before."""
    prompt, output = most_tokens(study, cell)
    return None if prompt is None else prompt + output / 2


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
