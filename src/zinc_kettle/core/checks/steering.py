"""Decisions about a run, checked before they enter its log: what a person may say of a plan that is being measured."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

from zinc_kettle.core.checks.validate import level_problem, unfitting
from zinc_kettle.core.plan.factors import Level, label
from zinc_kettle.core.plan.ranges import read_level
from zinc_kettle.core.problem import Problem, nearest
from zinc_kettle.core.results import StudyResults
from zinc_kettle.core.run.decisions import POLICY_WORDS, AddLevel, Decision, More, OnFailure, Step, said
from zinc_kettle.core.run.schedule import widened

MOST_MORE = 1_000


def steer(
    results: StudyResults,
    wish: type[Decision],
    levels: Mapping[str, Level],
    *,
    count: int,
    at_s: float,
    step: Step | None,
    text: str = "",
) -> Decision | Problem:
    """A decision for the log of a run, or what is wrong with it.

    Args:
        results: The run, with the decisions there are.
        wish: What is wanted.
        levels: Cells that are meant: all that have these levels. Of `add-level` the one new level.
        count: Of `more`: how many further repeats of each.
        at_s: Now, in seconds since 1970.
        step: What is being measured, or was last.
        text: Of `on-failure`: what is to happen then.
    """
    if issubclass(wish, OnFailure):
        policy = next((known for known in POLICY_WORDS if known == text), None)
        if policy is None:
            why = f"{text!r} is nothing that can happen when a cell fails"
            return Problem((), why, remedy=nearest(text, POLICY_WORDS))
        return wish(at_s, {}, step, policy=policy)
    if wish.about_run:
        wrong = Problem((), f"{wish.kind} is about the whole run", remedy="leave the cells out")
        return wrong if levels else wish(at_s, step=step)
    decision = wish(at_s, levels, step)
    if isinstance(decision, AddLevel):
        return _new_level(results, levels) or decision
    if not levels:
        return Problem((), f"which cells are meant by {wish.kind}?", remedy=f"name a level, as in {_example(results)}")
    if not any(decision.means(cell.levels) for cell in results.study.cells):
        return Problem((), f"no cell has {said(levels)}", remedy=f"name a level, as in {_example(results)}")
    if isinstance(decision, More):
        if not 1 <= count <= MOST_MORE:
            return Problem((), f"{count} more repeats make no sense", remedy=f"1 to {MOST_MORE:,}")
        return replace(decision, count=count)
    return decision


def _new_level(results: StudyResults, levels: Mapping[str, Level]) -> Problem | None:
    study = results.study
    if len(levels) != 1:
        return Problem((), "one level is added at a time", remedy=f"as in {_example(results)}")
    (name, level), *_ = levels.items()
    if name not in study.vary:
        return Problem(("vary", name), f"this study does not vary {name}", remedy=nearest(name, study.vary))
    if len(study.design.tie(name)) > 1:
        return Problem(
            ("vary", name),
            f"{name} is tied to another factor",
            why="a new level would have no partner",
            remedy="make another study with the longer lists",
        )
    if level in study.vary[name]:
        return Problem(("vary", name), f"{said(levels)} is there already", remedy="more repeats its cells further")
    found = level_problem("vary", name, level, study.engines)
    if found is not None:
        return found
    over = unfitting(widened(study, [AddLevel(0.0, levels)]))
    if over is not None:
        prompt, output, context = over
        return Problem(
            ("vary", name),
            f"{prompt:,} prompt tokens and {output:,} output tokens do not fit a context of {context:,}",
            remedy="add a smaller level, or make another study",
        )
    return None


def parse_levels(results: StudyResults, text: str) -> dict[str, Level] | Problem:
    """Levels of `factor=level,…`; a problem where a factor is not varied, or a level is not of its kind."""
    out: dict[str, Level] = {}
    for part in filter(None, (part.strip() for part in text.split(","))):
        name, equals, said = (piece.strip() for piece in part.partition("="))
        if not equals or name not in results.study.vary:
            return Problem((), f"{part!r} names no level", remedy=f"as in {_example(results)}")
        level = read_level(results.study.factors[name], said.replace(",", ""))
        if level is None:
            return Problem((), f"{said!r} is no level of {name}", remedy=f"as in {_example(results)}")
        out[name] = level
    return out


def place_of(results: StudyResults, levels: Mapping[str, Level]) -> str:
    """How cells with these levels are named: `STUDY:RUN@factor=level,…`; the opposite of `parse_levels`."""
    said = ",".join(f"{name}={label(v).replace(',', '') if isinstance(v, int) else v}" for name, v in levels.items())
    return f"{results.run.place}{results.study.name}:{results.run.number}" + (f"@{said}" if said else "")


def told_of_run(decisions: Sequence[Decision]) -> list[str]:
    """What was decided about the measuring of a run, in words, the newest last."""
    return [decision.told for decision in decisions if by_person(decision)]


def by_person(decision: Decision) -> bool:
    """True for a decision about the measuring that is no part of the plan, nor of its search."""
    return decision.steers and decision.by != "search"


def _example(results: StudyResults) -> str:
    name, level = next(iter(results.study.cells[0].levels.items()))
    return f"{name}={label(level).replace(',', '')}"
