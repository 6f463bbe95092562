"""What goes together within one section of a plan, and what is meant where something is left out."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from zinc_kettle.core.checks.conditions import TYPED_AS, read_condition
from zinc_kettle.core.faults import is_fault
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.plan.decide import PRICE
from zinc_kettle.core.plan.recipe import Endpoint
from zinc_kettle.core.plan.study import Repeats, Study
from zinc_kettle.core.plan.traffic import MAX_TOKENS_DRAWN, NEEDED, CapacitySearch, Lengths
from zinc_kettle.core.problem import Problem, nearest
from zinc_kettle.core.stats.ratios import MIN_FOR_CLAIM

UNTIL_FLOOR = 6
"""Fewer repeats carry no 95% interval, and nothing to stop by."""
ANSWER_CEILING = 40
"""The most repeats of a cell where the question decides, and no ceiling is given."""


def fewest(repeats: Repeats) -> int:
    """The fewest repeats where what is measured decides how many; 0 where their number is fixed."""
    if repeats.until_answered is not None:
        return MIN_FOR_CLAIM
    return 0 if repeats.until_percent is None else UNTIL_FLOOR


def completed(repeats: Repeats, *, counted: bool, by: str = "") -> Repeats:
    """The same with the fewest and the most repeats that are meant where none are said.

    Args:
        repeats: As a file has them.
        counted: Whether the file has a count.
        by: The measure that a study decides by, where the file does not say which one decides how often to repeat.
    """
    if not repeats.adaptive:
        return repeats
    if by in MEASURES and repeats.until_answered is not None:
        repeats = replace(repeats, until_measure=by)
    count = repeats.count if counted else fewest(repeats)
    usual = ANSWER_CEILING if repeats.until_answered else 5 * count
    return replace(repeats, count=count, ceiling=repeats.ceiling or usual)


def section_problems(study: Study) -> Iterator[Problem]:
    """Problems of the sections, each taken by itself."""
    yield from _repeats(study.repeats)
    yield from _decide(study)
    for name, lengths in (("lengths", study.prompts.lengths), ("outputs", study.prompts.outputs)):
        if lengths is not None:
            yield from _lengths(("prompts", name), lengths)
    yield from _load(study)
    for code in [code for code in study.retry.on if not is_fault(code)][:1]:
        yield Problem(("retry", "on"), f"{code!r} is not a fault code", remedy="docs/faults.md lists them")
    if not study.capacity.factor and study.capacity != CapacitySearch():
        yield Problem(("capacity",), "capacity.factor is missing", remedy='factor = "concurrency", or factor = "rate"')
    if study.design.baseline and study.design.kind == "all":
        yield Problem(
            ("design", "baseline"),
            "a baseline is of one factor at a time, or of a chain",
            remedy='kind = "one-at-a-time"',
        )
    if not all(study.design.without):
        yield Problem(("design", "without"), "an empty combination would leave out every cell", remedy="remove it")
    if study.endpoint is not None:
        yield from endpoint_problems(study.endpoint)


def _decide(study: Study) -> Iterator[Problem]:
    decide = study.decide
    for name in decide.choose:
        if name not in study.vary:
            remedy = nearest(name, study.vary) if study.vary else "name a factor that varies"
            yield Problem(("decide", "choose"), f"{name} does not vary, so there is nothing to choose", remedy=remedy)
    if decide.by and decide.by != PRICE and decide.by not in MEASURES:
        yield Problem(("decide", "by"), f"{decide.by!r} is not a measure", remedy=nearest(decide.by, MEASURES))
    elif decide.by in MEASURES and MEASURES[decide.by].better == "neither":
        remedy = "decode and ttft are measures that have"
        yield Problem(("decide", "by"), f"{decide.by} has no better or worse", remedy=remedy)
    for name, level in decide.baseline.items():
        if level not in study.vary.get(name, ()):
            remedy = ", ".join(map(str, study.vary.get(name, ()))) or "name a factor that varies"
            yield Problem(("decide", "baseline"), f"{name} = {level!r} is not a level that varies", remedy=remedy)
    for text in decide.provided:
        try:
            condition = read_condition(text, percentile=study.promise.percentile)
        except ValueError as error:
            yield Problem(
                ("decide", "provided"), f"{text!r} is no condition", why=str(error), remedy=f"as in: {TYPED_AS}"
            )
            continue
        if condition.kind == "promise" and not study.promise.made:
            path, what = ("decide", "provided"), "nothing is promised, so no promise can hold"
            yield Problem(path, what, remedy="[promise] ttft_s = 2, tpot_s = 0.2")


def _repeats(repeats: Repeats) -> Iterator[Problem]:
    floor, by = fewest(repeats), "until_answered" if repeats.until_answered is not None else "until_percent"
    measure = MEASURES.get(repeats.until_measure)
    if measure is None:
        path = ("repeats", "until_measure")
        yield Problem(
            path, f"{repeats.until_measure!r} is not a measure", remedy=nearest(repeats.until_measure, MEASURES)
        )
    elif repeats.until_answered is not None and measure.better == "neither":
        yield Problem(
            ("repeats", "until_measure"),
            f"{repeats.until_measure} has no better or worse",
            remedy="decode and ttft are measures that have",
        )
    if repeats.until_answered is not None and repeats.until_percent is not None:
        yield Problem(("repeats", by), "until_percent and until_answered cannot both decide", remedy="keep one")
    if repeats.until_answered is None and repeats.smallest_percent != Repeats().smallest_percent:
        path = ("repeats", "smallest_percent")
        yield Problem(path, "smallest_percent only applies with until_answered", remedy="remove it")
    if not floor:
        if repeats.ceiling:
            path = ("repeats", "ceiling")
            yield Problem(path, "ceiling only applies with until_percent or until_answered", remedy="remove it")
        return
    if repeats.count < floor:
        yield Problem(
            ("repeats", "count"),
            f"{by} needs count = {floor} or more",
            why="fewer repeats carry no 95% interval",
            remedy=f"count = {floor}",
        )
    if repeats.ceiling < repeats.count:
        yield Problem(("repeats", "ceiling"), "ceiling is below count, the floor", remedy="raise it")


def _lengths(path: tuple[str, ...], lengths: Lengths) -> Iterator[Problem]:
    unsaid = {"tokens": 0, "high": MAX_TOKENS_DRAWN, "median": 0, "sigma": 0, "table": ()}
    needed = NEEDED[lengths.kind]
    missing = [name for name in needed if name in unsaid and getattr(lengths, name) == unsaid[name]]
    if missing:
        yield Problem(path, f"{lengths.kind} needs {', '.join(missing)}", remedy=f"give {', '.join(needed)}")
    if lengths.low > lengths.high:
        yield Problem(path, "low is above high", remedy="exchange them")


def _load(study: Study) -> Iterator[Problem]:
    load = study.load
    if (load.arrivals == "recorded") != (load.times_file is not None):
        yield Problem(
            ("load", "arrivals"),
            "recorded arrivals need a file of times, and no other arrivals use one",
            remedy='arrivals = "recorded" and times_file = "NAME.csv"',
        )
    if load.think_s and load.shape not in {"closed", "conversation"}:
        yield Problem(
            ("load", "think_s"),
            f"think_s does not apply to the shape {load.shape}",
            remedy="it goes with closed and conversation",
        )


def endpoint_problems(endpoint: Endpoint) -> Iterator[Problem]:
    """What does not go together in the address of an engine that already runs, with its place in a study file."""
    if endpoint.key_variable is not None and endpoint.key_file is not None:
        yield Problem(
            ("endpoint", "key_file"),
            "the key comes from key_variable or from key_file, not from both",
            remedy="keep one of them",
        )
