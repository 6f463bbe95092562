"""How a measure changes along what varies, in a sentence."""

from __future__ import annotations

from collections.abc import Sequence

from zinc_kettle.core.compare.cells import MIN_REPEATS
from zinc_kettle.core.compare.choice import mean_of, ratio_of
from zinc_kettle.core.compare.loads import LoadVerdict, load_verdicts
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.record.value import Value
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.core.search.capacity import WORDS
from zinc_kettle.core.units import percent, plural, with_unit
from zinc_kettle.present.capacity import noun
from zinc_kettle.present.ratio_words import change_words
from zinc_kettle.present.values import whole_text

MOST_LISTED = 5


def loads_text(results: StudyResults) -> str:
    """Up to which load a promise is kept; empty where none is made, or no load varies."""
    out = []
    for title, verdict in load_verdicts(results).items():
        head = f"{title}: " if title else ""
        if verdict.kept is None and verdict.broken is None:
            out.append(f"{head}whether the promise is kept is not settled at any load")
            continue
        said = []
        if verdict.kept is not None:
            last = verdict.broken is None and verdict.unsettled is None
            more = ", the largest load that was tried" if last else ""
            said.append(f"the promise is kept up to {_load(verdict, verdict.kept)}{more}")
        if verdict.unsettled is not None:
            said.append(f"at {_load(verdict, verdict.unsettled)} this is not settled")
        if verdict.broken is not None:
            broken = verdict.broken
            share = "" if broken.share is None else f" ({percent(broken.share)} of the requests keep it)"
            at = f"at {_load(verdict, broken.load)}"
            said.append(f"{at} it is broken{share}" if said else f"the promise is broken {at}{share}")
            said += [f"{WORDS[broken.first]} breaks it first"] if broken.first is not None else []
        out.append(head + "; ".join(said))
    return "; ".join(out)


def _load(verdict: LoadVerdict, load: int) -> str:
    return f"{load:,} {noun(verdict.factor, load)}"


def change_text(results: StudyResults, measured: Sequence[CellResults], name: str) -> str:
    """How a measure changes along what varies."""
    measure, study = MEASURES[name], results.study
    if len(measured) == 1:
        return f"{measure.title} {whole_text(measured[0].value(name))}"
    factor = next((n for n in study.leading if study.factors[n].type == "number" and len(study.vary[n]) > 1), None)
    if factor is None:
        return _list_text(measured, name)
    levels = [level for level in study.vary[factor] if any(c.cell.levels[factor] == level for c in measured)]
    levels.sort(key=int)
    first, last = ([c for c in measured if c.cell.levels[factor] == level] for level in (levels[0], levels[-1]))
    rest = [n for n in study.leading if n != factor]
    low, high = _same_rest(first, last, rest)
    if not low or len(levels) < 2:
        return _list_text(measured, name)
    a, b = mean_of(low, name), mean_of(high, name)
    ends = [study.factors[factor].says(level) for level in (levels[0], levels[-1])]
    found, few = ratio_of(high, low, name), min(c.done for c in (*low, *high)) < MIN_REPEATS
    figures = [with_unit(value, measure.unit) for value in (a, b)]
    if few:
        verb = "falls" if b < a else "rises"
        least = min(c.done for c in measured)
        said = f"so far {measure.title} {verb} from {figures[0]} at {ends[0]} to {figures[1]} at {ends[1]}"
        return f"{said}; {plural(least, 'repeat')} of each can only hint, an answer needs {MIN_REPEATS}"
    if found is None or found.bound != "interval95" or found.low <= 1 <= found.high:
        return f"no clear difference in {measure.title} between {ends[0]} and {ends[1]} ({figures[0]} and {figures[1]})"
    verb = "falls" if found.value < 1 else "rises"
    return f"{measure.title} {verb} from {figures[0]} at {ends[0]} to {figures[1]} at {ends[1]}, {change_words(found)}"


IN_THE_MEAN = {
    "latency": "an answer in {}",
    "ttft": "its first token after {}",
    "prefill_client": "prefill {}",
    "decode": "decode {}",
}


def suite_text(measured: Sequence[CellResults]) -> str:
    """What one configuration reaches over the tasks of the suite: geometric means, each over the tasks that have it."""
    said = []
    for name, words in IN_THE_MEAN.items():
        known = [c for c in measured if isinstance(c.value(name), Value)]
        if known:
            said.append(words.format(with_unit(mean_of(known, name), MEASURES[name].unit)))
    return f"over {plural(len(measured), 'task')} in the mean: {', '.join(said)}"


def _same_rest(
    first: Sequence[CellResults], last: Sequence[CellResults], rest: Sequence[str]
) -> tuple[list[CellResults], list[CellResults]]:
    """The cells of both that are alike in all else."""
    of = {tuple(c.cell.levels[n] for n in rest): c for c in last}
    pairs = [(c, of[key]) for c in first if (key := tuple(c.cell.levels[n] for n in rest)) in of]
    return [a for a, _ in pairs], [b for _, b in pairs]


def _list_text(measured: Sequence[CellResults], name: str) -> str:
    more = MEASURES[name].better == "more"
    ordered = sorted(measured, key=lambda c: mean_of([c], name), reverse=more)
    named = [f"{c.title} {with_unit(mean_of([c], name), MEASURES[name].unit)}" for c in ordered[:MOST_LISTED]]
    rest = f" and {len(ordered) - MOST_LISTED} more" if len(ordered) > MOST_LISTED else ""
    return f"{MEASURES[name].title}: {', '.join(named)}{rest}"
