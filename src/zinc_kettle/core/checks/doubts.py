"""What a plan allows but a careful person would question: each with its place and what to try.

A problem keeps a study from being measured; a doubt only says what its figures will not carry.
"""

from __future__ import annotations

from collections.abc import Iterator

from zinc_kettle.core.cautions.answers import TINY_PROMPT_TOKENS
from zinc_kettle.core.checks.validate import most_tokens
from zinc_kettle.core.plan.decide import chosen_factors
from zinc_kettle.core.plan.design import combinations
from zinc_kettle.core.plan.study import BEST, Cell, Study, shape_of
from zinc_kettle.core.plan.templates import TEMPLATES
from zinc_kettle.core.problem import Problem

SLOPE_TOKENS = 128
"""A few milliseconds of fixed overhead are under 3% of what such a prompt takes on a slow machine."""
FEW_REPEATS = 6
"""Fewer carry no 95% interval of the median."""
SHORT_ANSWER_TOKENS = 16
"""Fewer steps than this and one late token shows in the decode speed."""
TAIL_REQUESTS = 20
"""With fewer, the 95th percentile is the slowest request."""
MANY_CELLS = 2_000
"""Of a larger plan not each cell is looked at."""


def doubts(study: Study, cores: int | None = None) -> list[Problem]:
    """What is doubtful about a study, in the order a person reads it.

    Args:
        study: A study without problems.
        cores: Physical cores of the machine it runs on; None where that is not known or there are several.
    """
    cells = study.cells[:MANY_CELLS]
    return [
        *_question(study),
        *_design(study),
        *_threads(study, cells, cores),
        *_without_effect(study, cells),
        *_lengths(study, cells),
        *_load(study, cells),
        *_repeats(study),
    ]


def _place(study: Study, name: str) -> tuple[str, ...]:
    if name in study.vary:
        return ("vary", name)
    return ("hold", name)


def _question(study: Study) -> Iterator[Problem]:
    """A question that came from a template whose factors do not vary any more, or that asks for the best condition."""
    asked = next((t for t in TEMPLATES.values() if t.question == study.question), None)
    gone = [name for name in asked.vary if name not in study.vary] if asked is not None else []
    if gone:
        yield Problem(
            ("question",),
            f"the question is about {gone[0].replace('_', ' ')}, which does not vary",
            why="the answer will be about what does",
            remedy="ask what this plan can answer, or vary it",
        )
    if study.repeats.until_answered == BEST and not study.decide.choose and not _choosable(study):
        names = " and ".join(study.factors[name].heading for name in study.leading)
        yield Problem(
            ("repeats", "until_answered"),
            f"it is repeated until the best {names} is known",
            why="these say how an engine is used, and nobody chooses them for speed",
            remedy=f'until_answered = "{study.leading[0]}" repeats until it is known what it changes',
        )


def _choosable(study: Study) -> bool:
    return bool(chosen_factors(study.decide, study.vary, study.leading, study.factors))


def _design(study: Study) -> Iterator[Problem]:
    for tie in study.design.ties:
        yield Problem(
            ("design", "ties"),
            f"{' and '.join(tie)} always change together",
            why="what one of them does cannot be told from what the other does",
            remedy="untie them if that is the question",
        )
    for name, levels in study.vary.items():
        seen = {levels_of[name] for levels_of in combinations(study.vary, study.design)} if study.design.without else ()
        gone = [level for level in levels if seen and level not in seen]
        if len(levels) == 1 and name != study.capacity.factor:
            yield Problem(
                ("vary", name),
                f"{name} has one level",
                why="nothing is compared by it",
                remedy="add a level, or hold it",
            )
        elif gone:
            yield Problem(
                ("design", "without"),
                f"no cell is left with {study.factors[name].says(gone[0])}",
                remedy="remove the level, or leave out less",
            )


def _threads(study: Study, cells: tuple[Cell, ...], cores: int | None) -> Iterator[Problem]:
    most = max((cell for cell in cells), key=lambda cell: int(cell.level("threads") or 0), default=None)
    if most is None or cores is None or study.endpoint is not None:
        return
    threads = int(most.level("threads") or 0)
    setting = most.engine.setting("threads")
    if setting is not None and threads > cores:
        yield Problem(
            _place(study, setting.name),
            f"{threads} threads on {cores} cores",
            why="threads that share a core slow each other down",
            remedy=f"{cores} at most",
        )


def _without_effect(study: Study, cells: tuple[Cell, ...]) -> Iterator[Problem]:
    """Micro-batches that the engine cuts to the same size, so that cells are measured which cannot differ."""
    alike: dict[tuple[object, ...], set[int]] = {}
    for cell in cells:
        level, setting = cell.level("micro-batch"), cell.engine.setting("micro-batch")
        if level is None or setting is None or setting.name not in study.vary:
            continue
        asked, streams = int(level), int(cell.settings["concurrency"] or 1)
        prompt, _ = most_tokens(study, cell)
        most = min(asked, int(cell.level("batch") or asked), asked if prompt is None else prompt * streams)
        rest = tuple((name, level) for name, level in cell.levels.items() if name != setting.name)
        same = alike.setdefault((*rest, most), set())
        same.add(asked)
        if len(same) > 1:
            low, high = sorted(same)[:2]
            yield Problem(
                ("vary", setting.name),
                f"micro-batches of {low:,} and {high:,} will do the same",
                why=f"never more than {most:,} tokens go through at once: by the batch, or by the length of the prompt",
                remedy="leave one out, or use a larger batch or a longer prompt",
            )
            return


def _lengths(study: Study, cells: tuple[Cell, ...]) -> Iterator[Problem]:
    prompts = [int(c.settings["prompt_tokens"] or 0) for c in cells if c.settings["prompt_tokens"]]
    shortest = min(prompts, default=None)
    if shortest is not None and shortest < SLOPE_TOKENS:
        worst = "mostly fixed overhead" if shortest < TINY_PROMPT_TOKENS else "partly fixed overhead"
        yield Problem(
            _place(study, "prompt_tokens"),
            f"{shortest} prompt tokens are few for a prefill speed",
            why=f"their prefill is {worst}",
            remedy=f"{SLOPE_TOKENS} or more",
        )
    answers = [int(c.settings["output_tokens"] or 0) for c in cells]
    if study.prompts.outputs is None and answers and min(answers) < SHORT_ANSWER_TOKENS:
        yield Problem(
            _place(study, "output_tokens"),
            f"{min(answers)} output tokens are few for a decode speed",
            why="one late token shows in it",
            remedy=f"{SHORT_ANSWER_TOKENS} or more",
        )
    if any(c.settings["salt"] is False for c in cells):
        yield Problem(
            _place(study, "salt"),
            "prompts are sent without a salt",
            why="an engine that keeps earlier prompts answers from them, and prefill looks too fast",
            remedy="leave salt on, unless cached prefill is the question",
        )


def _load(study: Study, cells: tuple[Cell, ...]) -> Iterator[Problem]:
    for cell in cells:
        streams, slots = int(cell.settings["concurrency"] or 1), cell.level("slots")
        setting = cell.engine.setting("slots")
        if setting is not None and slots is not None and streams > int(slots):
            yield Problem(
                _place(study, setting.name),
                f"{streams} streams share {slots} slots",
                why="the others queue in the engine, and their wait is in the TTFT",
                remedy="leave slots out, and each stream has one",
            )
            break
    many = [c for c in cells if shape_of(study, c) == "open" or int(c.settings["concurrency"] or 1) > 1]
    fewest = min((c.requests(study) for c in many), default=None)
    if fewest is not None and fewest * study.repeats.count < TAIL_REQUESTS:
        yield Problem(
            ("repeats", "requests"),
            f"{fewest * study.repeats.count} requests carry no 95th percentile",
            why="it would be the slowest of them",
            remedy=f"{TAIL_REQUESTS} or more in all",
        )


def _repeats(study: Study) -> Iterator[Problem]:
    repeats = study.repeats
    if not repeats.adaptive and repeats.count < FEW_REPEATS and not study.capacity.factor:
        few = "one repeat says" if repeats.count == 1 else f"{repeats.count} repeats say"
        yield Problem(
            ("repeats", "count"),
            f"{few} little of the spread",
            why="fewer than six carry no 95% interval",
            remedy="six, or until it is known",
        )
    if repeats.order == "by-launch" and len(study.cells) > 1:
        yield Problem(
            ("repeats", "order"),
            "cells are measured one after another",
            why="what the machine does meanwhile hits them unequally",
            remedy="interleave them",
        )
    if repeats.warm_up == 0:
        yield Problem(
            ("repeats", "warm_up"),
            "nothing warms up",
            why="the first request after a load is slower, and is kept apart",
            remedy="warm_up = 1",
        )
