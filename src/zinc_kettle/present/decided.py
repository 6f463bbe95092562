"""What a study decides, in words, as rows and as JSON."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from zinc_kettle.core.checks.conditions import Condition
from zinc_kettle.core.compare.cells import MIN_REPEATS
from zinc_kettle.core.compare.choice import Candidate, Choice, choice, to_decide
from zinc_kettle.core.compare.conditions import Held, Tested
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.measures.kinds import Measure
from zinc_kettle.core.plan.decide import PRICE
from zinc_kettle.core.plan.factors import Level
from zinc_kettle.core.plan.study import Study
from zinc_kettle.core.results import StudyResults
from zinc_kettle.core.units import duration, percent, plain, plural, scale, with_unit
from zinc_kettle.present.ratio_words import ONE_SIDED, SUPERLATIVES, kind_of, listed, times_text
from zinc_kettle.present.values import interval_json, rounded, whole_text

MOST_NAMED = 3
"""That are named one by one."""


def candidate_title(results: StudyResults, candidate: Candidate) -> str:
    """Its levels as people say them."""
    return _levels(results.study, tuple(candidate.levels.items()))


def choice_text(results: StudyResults, found: Choice, *, brief: bool) -> str:
    """What a study decides, in one sentence; no full stop.

    Args:
        results: The run.
        found: What it decides.
        brief: Without what would settle what is open.
    """
    best = found.best
    if best is None:
        return _none_fits(results, found)
    measure = MEASURES[found.measure]
    name = candidate_title(results, best)
    if found.by_price:
        return _cheapest_text(results, found)
    failed = _failed_text(results, found)
    if found.too_early:
        return _so_far(results, found) + failed
    if len(found.ranked) == 1 and not found.unfit:
        only = f"only {name} could be measured" if failed else f"so far only {name} is measured"
        return f"{only}: {measure.title} {_figure(best, found.measure)}{failed}"
    if found.within_percent is not None:
        said = _alike_text(results, found, found.within_percent)
    elif found.tied:
        said = _open_text(results, found, brief=brief)
    else:
        head = _superlative(name, measure, plural=_several(results, best))
        said = f"{head}: {_figure(best, found.measure)}{_ahead_text(results, found)}"
    return said + _but(results, found) + _conditions_text(results, found) + _spilled_text(results, found) + failed


PLURALS = {"is": "are", "has": "have"}


def _several(results: StudyResults, candidate: Candidate) -> bool:
    """True for `8 threads`, of which one says that they are."""
    (name, level), *others = candidate.levels.items()
    factor = results.study.factors[name]
    return not others and bool(factor.noun) and not factor.suffix and level != 1


def _superlative(name: str, measure: Measure, *, plural: bool = False) -> str:
    kind = kind_of(measure)
    said = SUPERLATIVES[kind]
    if plural:
        verb, rest = said.split(maxsplit=1)
        said = f"{PLURALS[verb]} {rest}"
    return f"{name} {said}" + (f" in {measure.title}" if kind == "speed" else f" {measure.title}")


def _figure(candidate: Candidate, measure: str) -> str:
    """Its headline with bounds; of several conditions the mean of them."""
    if len(candidate.cells) == 1:
        return whole_text(candidate.cells[0].value(measure))
    return f"{with_unit(candidate.value, MEASURES[measure].unit)} in the mean"


def _ahead_text(results: StudyResults, found: Choice) -> str:
    """By how much the best is ahead; empty where that carries no claim."""
    held, other = found.ratio, found.against
    if held is None or other is None or held.bound != "interval95" or held.low <= 1:
        return ""
    kind = kind_of(MEASURES[found.measure])
    name = candidate_title(results, other) + (", what you have now" if found.baseline else "")
    who = (", which takes" if kind == "time" else ", which needs") if kind in ONE_SIDED else ":"
    return f" against {_plain(other, found.measure)} of {name}{who} {times_text(held, kind)}"


def _now_text(results: StudyResults, found: Choice) -> str:
    """How the first of several stands to what one has now; empty where that carries no claim."""
    held, other = found.ratio, found.against
    if not found.baseline or held is None or other is None or held.bound != "interval95" or held.low <= 1:
        return ""
    name = f"{candidate_title(results, other)} ({_plain(other, found.measure)}), what you have now,"
    kind = kind_of(MEASURES[found.measure])
    if kind in ONE_SIDED:
        return f"; {name} {'takes' if kind == 'time' else 'needs'} {times_text(held, kind)} as the first"
    return f"; against {name} the first is {times_text(held, kind)}"


def _plain(candidate: Candidate, measure: str) -> str:
    return with_unit(candidate.value, MEASURES[measure].unit)


def _alike_text(results: StudyResults, found: Choice, within: float) -> str:
    measure, most = MEASURES[found.measure], f"more than {within:g}% behind"
    assert found.best is not None
    if not found.others:
        many = len(found.ranked) > MOST_NAMED
        who = f"the {len(found.ranked)}" if many else listed([candidate_title(results, c) for c in found.ranked])
        figures = (
            _figure(found.best, found.measure) if many else listed([_plain(c, found.measure) for c in found.ranked])
        )
        return f"{who} differ by no more than {within:g}% in {measure.title}: {figures}"
    names = _names(results, found.tied)
    are = "is" if len(found.tied) == 1 else "are"
    head = _superlative(candidate_title(results, found.best), measure, plural=_several(results, found.best))
    head = f"{head}: {_figure(found.best, found.measure)}"
    return f"{head}; {names} {are} not {most}"


def _open_text(results: StudyResults, found: Choice, *, brief: bool) -> str:
    assert found.best is not None
    measure = MEASURES[found.measure]
    effort = "" if brief else effort_text(results, found.measure)
    more = f"; {effort}" if effort else ""
    first, *rest = (f"{candidate_title(results, c)} ({_plain(c, found.measure)})" for c in (found.best, *found.tied))
    if not found.others:
        if len(found.ranked) > MOST_NAMED:
            many = len(found.ranked)
            return f"{first} leads in {measure.title}, but not clearly when all {many} are held against it{more}"
        return f"no clear difference in {measure.title} between {listed([first, *rest])}{more}"
    if len(rest) > MOST_NAMED - 1:
        rest = [*rest[: MOST_NAMED - 2], f"{len(rest) - MOST_NAMED + 2} more"]
    superlative = SUPERLATIVES[kind_of(measure)].split(maxsplit=1)[1]
    which = f"{superlative} in {measure.title}" if kind_of(measure) == "speed" else f"{superlative} {measure.title}"
    have = "are" if kind_of(measure) == "speed" else "have"
    ahead = _now_text(results, found)
    return f"{listed([first, *rest])} {have} {which}, with no clear difference between them{ahead}{more}"


def _so_far(results: StudyResults, found: Choice) -> str:
    assert found.best is not None
    measure, kind = MEASURES[found.measure], kind_of(MEASURES[found.measure])
    looks = (
        "looks fastest" if kind == "speed" else f"seems to have the {SUPERLATIVES[kind].split()[-1]} {measure.title}"
    )
    head = f"so far {candidate_title(results, found.best)} {looks}: {_plain(found.best, found.measure)}"
    named = f" {measure.title}" if kind == "speed" else ""
    against = f" against {_plain(found.others[0], found.measure)}" if found.others else ""
    least = min(c.done for candidate in (*found.ranked, *found.unfit) for c in candidate.cells)
    return f"{head}{named}{against}; {plural(least, 'repeat')} of each can only hint, an answer needs {MIN_REPEATS}"


def _but(results: StudyResults, found: Choice) -> str:
    """Where another one is ahead."""
    if not found.elsewhere:
        return ""
    study = results.study
    named = [
        f"{_levels(study, study.candidate(top.cell))} at {_levels(study, study.condition(top.cell))}"
        for top in found.elsewhere[:MOST_NAMED]
    ]
    more = len(found.elsewhere) - len(named)
    return f"; but {listed([*named, *([f'{more} more'] if more else [])])} {'is' if len(named) == 1 else 'are'} ahead"


def _failed_text(results: StudyResults, found: Choice) -> str:
    """Who could not be measured at all."""
    study = results.study
    there = {tuple(c.levels.items()) for c in (*found.ranked, *found.unfit)}
    failed = dict.fromkeys(study.candidate(c.cell) for c in results.cells if c.state == "failed")
    gone = [_levels(study, levels) for levels in failed if levels not in there]
    if not gone:
        return ""
    named = [*gone[:MOST_NAMED], *([f"{len(gone) - MOST_NAMED} more"] if len(gone) > MOST_NAMED else [])]
    return f"; {listed(named)} could not be measured"


def _spilled_text(results: StudyResults, found: Choice) -> str:
    """Who lies in slower memory than it should."""
    spilled = [c for c in (*found.ranked, *found.unfit) if any(cell.spilled for cell in c.cells)]
    if not spilled:
        return ""
    return f"; with {_names(results, spilled)} the model lies partly in main memory (spilled)"


def _levels(study: Study, levels: Sequence[tuple[str, Level]]) -> str:
    return " · ".join(study.factors[name].says(level) for name, level in levels)


# conditions
def condition_text(condition: Condition) -> str:
    """`a decode of at least 7 tok/s`, `the promise kept`, `80% of its decode kept throughout`."""
    if condition.kind == "promise":
        return "the promise kept"
    title = MEASURES[condition.measure].title if condition.measure in MEASURES else condition.measure
    if condition.kind == "keeps":
        return f"{_limit(condition)} of its {title} kept throughout"
    return f"a {title} of {_at(condition)} {_limit(condition)}"


def _at(condition: Condition) -> str:
    return "at most" if condition.kind == "most" else "at least"


def _limit(condition: Condition) -> str:
    """What is wanted, as it was typed."""
    if condition.measure == PRICE:
        return plain(condition.limit)
    unit = "share" if condition.kind == "keeps" else MEASURES[condition.measure].unit
    scaled, label, _ = scale(condition.limit, unit)
    return f"{plain(scaled)}{'' if label == '%' else ' '}{label}"


def _seen(tested: Tested) -> str:
    """What was measured in place of what was wanted."""
    condition, value = tested.condition, tested.value
    title = MEASURES[condition.measure].title if condition.measure in MEASURES else condition.measure
    if value is None:
        return f"its {title}, which is not known"
    if condition.kind == "promise":
        return f"the {percent(value)} of its requests that keep the promise"
    if condition.kind == "keeps":
        return f"the {percent(value)} of its {title} that it keeps"
    said = plain(value) if condition.measure == PRICE else with_unit(value, MEASURES[condition.measure].unit)
    return f"its {title} of {said}"


def _wanted(condition: Condition) -> str:
    return f"{_at(condition)} {_limit(condition)} wanted"


def _conditions_text(results: StudyResults, found: Choice) -> str:
    """Who may not be chosen, and of what it is not known yet."""
    out, said = [], None
    for candidate in found.unfit[:MOST_NAMED]:
        test = candidate.unfit
        assert test is not None
        wanted = "" if test.condition == said else f" ({_wanted(test.condition)})"
        out.append(f"{candidate_title(results, candidate)} is ruled out by {_seen(test)}{wanted}")
        said = test.condition
    if len(found.unfit) > MOST_NAMED:
        out.append(f"so are {len(found.unfit) - MOST_NAMED} more")
    now = found.against if found.baseline else None
    if now is not None and now.tests and all(t.held == "met" for t in now.tests):
        has = listed([condition_text(t.condition) for t in now.tests])
        out.append(f"{candidate_title(results, now)} has {has}, too")
    doubt = None if found.best is None else found.best.doubtful
    if doubt is not None:
        out.append(f"{_seen(doubt)} does not settle whether it has {condition_text(doubt.condition)}")
    return "".join(f"; {words}" for words in out)


def _none_fits(results: StudyResults, found: Choice) -> str:
    first = found.unfit[0]
    test = first.unfit
    assert test is not None
    same = [c for c in found.unfit if c.unfit is not None and c.unfit.condition == test.condition]
    pick = min if test.condition.kind == "most" else max
    near = pick(same, key=lambda c: c.unfit.value or 0.0 if c.unfit is not None else 0.0)
    assert near.unfit is not None
    nearest = f"{candidate_title(results, near)} with {_seen(near.unfit)}"
    return f"none of the {len(found.unfit)} has {condition_text(test.condition)}; the nearest is {nearest}"


def _cheapest_text(results: StudyResults, found: Choice) -> str:
    best = found.best
    assert best is not None and best.price is not None
    said = f"{candidate_title(results, best)} is the cheapest"
    conditions = [condition_text(t.condition) for t in best.tests if t.held == "met" and t.condition.measure != PRICE]
    said += f" with {listed(conditions)}" if conditions else ""
    said += f": {plain(best.price)}"
    dearer = [c for c in found.others if c.price is not None][:MOST_NAMED]
    if dearer:
        named = [f"{plain(c.price or 0)} for {candidate_title(results, c)}" for c in dearer]
        said += f" against {listed(named)}"
    return said + _conditions_text(results, found)


def _names(results: StudyResults, candidates: Sequence[Candidate]) -> str:
    named = [candidate_title(results, c) for c in candidates[:MOST_NAMED]]
    more = len(candidates) - len(named)
    return listed([*named, *([f"{more} more"] if more else [])])


def effort_text(results: StudyResults, name: str) -> str:
    """What would tell the best from the next best, in words; empty where nothing is open, or nothing can be said."""
    needed = to_decide(results, choice(results, name), name)
    if needed is None:
        return ""
    takes = "" if needed.seconds is None else f" ({duration(needed.seconds)})"
    many = f"{needed.repeats:,} more repeats" if needed.repeats > 1 else "one more repeat"
    return f"about {many} of both{takes} would tell a difference of {percent(needed.share)}"


def decide_rows(results: StudyResults, name: str) -> tuple[list[str], list[list[str]]]:
    """Headings and one row for each that can be chosen: its figure, how the best stands to it, and its conditions."""
    found = choice(results, name)
    conditions = [t.condition for t in (*found.ranked, *found.unfit)[0].tests] if found.ranked or found.unfit else []
    heads = ["", MEASURES[name].title, "stands", *(condition_text(c) for c in conditions)]
    stands = {id(found.best): "best", **{id(c): "no clear difference" for c in found.tied}}
    stands |= {id(c): "behind" for c in found.others} | {id(c): "ruled out" for c in found.unfit}
    if found.too_early:
        stands = {id(c): "too early" for c in (*found.ranked, *found.unfit)}
    rows = [
        [
            candidate_title(results, c),
            _figure(c, name),
            stands[id(c)],
            *(f"{HELD[t.held]}: {_seen(t)}" for t in c.tests),
        ]
        for c in (*found.ranked, *found.unfit)
    ]
    return heads, rows


HELD: dict[Held, str] = {"met": "met", "unmet": "not met", "open": "not settled"}


def decide_json(results: StudyResults, name: str, said: str) -> dict[str, Any]:
    """What a study decides as one JSON object, with the sentence that says it."""
    found, decide = choice(results, name), results.study.decide
    held = found.ratio
    return {
        "study": results.study.name,
        "run": results.run.number or None,
        "question": results.study.question,
        "answer": said,
        "choose": list(results.study.chosen),
        "conditions": list(results.study.conditions),
        "by": PRICE if decide.by == PRICE else name,
        "baseline": dict(decide.baseline),
        "provided": list(decide.provided),
        "too_early": found.too_early,
        "best": None if found.best is None else _candidate_json(found.best, name),
        "tied": [_candidate_json(c, name) for c in found.tied],
        "behind": [_candidate_json(c, name) for c in found.others],
        "ruled_out": [_candidate_json(c, name) for c in found.unfit],
        "within_percent": found.within_percent,
        "against": None if found.against is None else dict(found.against.levels),
        "times": None if held is None else interval_json(held),
    }


def _candidate_json(candidate: Candidate, name: str) -> dict[str, Any]:
    return {
        "levels": dict(candidate.levels),
        "value": rounded(candidate.value),
        "unit": MEASURES[name].unit,
        "cells": len(candidate.cells),
        "price": candidate.price,
        "conditions": [_tested_json(t) for t in candidate.tests],
    }


def _tested_json(tested: Tested) -> dict[str, Any]:
    value = None if tested.value is None else rounded(tested.value)
    return {"kind": tested.condition.kind, "of": tested.condition.measure, "held": tested.held, "value": value}
