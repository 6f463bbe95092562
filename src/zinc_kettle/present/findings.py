"""Plain sentences about a study: what a person should know of it beside the answer."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Literal

from zinc_kettle.core.breakdown import TimeSplit, time_split
from zinc_kettle.core.cautions.machine import SPILLED
from zinc_kettle.core.checks.steering import by_person
from zinc_kettle.core.compare.cells import DENSITY, RepeatsNeeded, other_tokenizers, standing
from zinc_kettle.core.compare.choice import choice
from zinc_kettle.core.compare.gains import Gain, gain_effort, gains
from zinc_kettle.core.facts import BusyFacts, MachineFacts
from zinc_kettle.core.family import PrefillSlope
from zinc_kettle.core.lengths import families
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.plan.factors import Factor, Level
from zinc_kettle.core.plan.study import Study
from zinc_kettle.core.problem import nearest
from zinc_kettle.core.record.value import Value
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.core.rig import BUSY_CORES
from zinc_kettle.core.stats import Interval
from zinc_kettle.core.text import capitalised
from zinc_kettle.core.units import digits, duration, percent, plural
from zinc_kettle.errors import UsageError
from zinc_kettle.present.answer import main_measure
from zinc_kettle.present.breakdown import sentence as split_sentence
from zinc_kettle.present.dates import time_of_day
from zinc_kettle.present.lengths import slope_text
from zinc_kettle.present.ratio_words import PERCENT_BELOW, TIMES_FROM

Tone = Literal["finding", "caution", "failure", "hint"]
MOST_GAINS = 3
MOST_SLOPES = 2
MOST_FAILURES = 2
MOST_DECISIONS = 3
WORDING = 14
"""Version of the sentences: an answer that was kept in other words is found again."""


FindingCode = Literal[
    "cell-failed",
    "decided",
    "busy-before",
    "by-launch",
    "step-alike",
    "step-unclear",
    "step-depends",
    "step-mixed",
    "step",
    "different-tokenizer",
    "prefill-slope",
    "time",
    "caution",
]
"""What a finding is about, whatever its words are; a caution's own code stands with it."""


@dataclass(frozen=True, slots=True)
class Finding:
    """Something a person should know, and of what kind it is."""

    code: FindingCode
    tone: Tone
    text: str
    cell: str = ""
    """Key of the cell where it is seen; empty where it is of the whole run."""
    sides: tuple[Mapping[str, Level], ...] = ()
    """Levels of the two sides it compares, where it does."""
    caution: str = ""
    """The code of the caution it tells of."""


def known_measure(name: str) -> str:
    """A name somebody gave, if it is a measure's.

    Raises:
        UsageError: No measure has that name.
    """
    if name not in MEASURES:
        raise UsageError(f"there is no measure {name!r}", remedy=nearest(name, MEASURES))
    return name


def _smallest(results: StudyResults) -> float:
    """The smallest difference worth knowing, as a share."""
    return results.study.repeats.smallest_percent / 100


def _effort(effort: RepeatsNeeded, of: str) -> str:
    takes = "" if effort.seconds is None else f" ({duration(effort.seconds)} {of})"
    many = f"{effort.repeats:,} more repeats" if effort.repeats > 1 else "one more repeat"
    return f"about {many}{takes} would tell a difference of {percent(effort.share)}"


def findings(results: StudyResults, name: str | None = None) -> list[Finding]:
    """Failures, findings and cautions: what misleads most first, then what answers, then the rest."""
    name = name or main_measure(results.study)
    cautions = _cautions(results)
    loud = [f for f in cautions if f.caution == SPILLED.code]
    return [
        *_failures(results),
        *loud,
        *_gains(results, name),
        *_tokenizers(results),
        *_order(results),
        *_busy_before(results),
        *_time(results, name),
        *_slopes(results),
        *(f for f in cautions if f not in loud),
        *_decided(results),
    ]


def _failures(results: StudyResults) -> list[Finding]:
    if not results.failed_cells:
        return []
    failed = [c for c in results.cells if c.state == "failed"][:MOST_FAILURES]
    why = [c.kept.failure.what if c.kept.failure else "no reason was kept" for c in failed]
    return [
        Finding("cell-failed", "failure", f"{c.title} could not be measured: {what}{_since(results, c)}", c.cell.key)
        for c, what in zip(failed, why, strict=True)
    ]


def _since(results: StudyResults, failed: CellResults) -> str:
    """What is not as in the measured cell that is nearest to one that failed."""
    mine = failed.cell.levels
    changed = [[n for n, v in c.cell.levels.items() if v != mine[n]] for c in results.cells if c.done]
    if not changed:
        return ""
    nearest = min(changed, key=len)
    said = " and ".join(results.study.factors[name].heading for name in nearest)
    if len(nearest) == 1:
        return f"; what was measured differs from it in {said} alone"
    return f"; all that was measured differs from it in {len(nearest)} settings or more, such as {said}"


def _decided(results: StudyResults) -> list[Finding]:
    """What a person decided while it ran, the last of it."""
    mine = [d for d in results.run.decisions if by_person(d)][-MOST_DECISIONS:]
    said = [f"{time_of_day(d.at_s)} {d.told}" for d in mine]
    return [Finding("decided", "hint", f"Decided while it ran: {'; '.join(said)}.")] if said else []


def _busy_before(results: StudyResults) -> list[Finding]:
    """Rigs that others were using just before the run."""
    facts = results.run.facts
    out = []
    machines: dict[str, MachineFacts] = {"this machine": facts, **facts.get("rigs", {})}
    for name, known in machines.items():
        busy = known.get("busy") or BusyFacts()
        if busy.get("cores", 0.0) > BUSY_CORES:
            who = ", ".join(str(pair[0]) for pair in busy.get("top", ()))
            used = digits(busy["cores"], significant=2)
            out.append(
                Finding(
                    "busy-before",
                    "caution",
                    f"{name} was busy before the run: {used} cores{f' ({who})' if who else ''}.",
                )
            )
    return out


def _order(results: StudyResults) -> list[Finding]:
    """Of a run launch by launch nothing can tell a difference of cells from a change of the machine."""
    if results.study.repeats.order == "interleaved" or results.done_repeats == 0 or len(results.cells) < 2:
        return []
    told = "the cells ran launch by launch: a slow change of the machine looks like a difference between them"
    return [Finding("by-launch", "caution", f"{capitalised(told)}. Use the interleaved order to tell them apart.")]


def _gains(results: StudyResults, name: str) -> list[Finding]:
    smallest, out = _smallest(results), list[Finding]()
    # Loads of a search were chosen to find the limit; what each brought over the one before is no question.
    told = [g for g in gains(results, name) if g.factor != results.study.capacity.factor]
    best = choice(results, name).best
    most = MOST_GAINS if len({g.factor for g in told}) == 1 else MOST_GAINS - 1
    for factor in dict.fromkeys(g.factor for g in told):
        # Of a choice the best level says most, of a condition the one that is farthest from the first.
        mine = [g for g in told if g.factor == factor]
        if factor in results.study.conditions:
            mine.reverse()
        elif best is not None:
            mine.sort(key=lambda g: best.levels.get(g.factor) != g.high)
        for gain in mine[:most]:
            effort = gain_effort(results, gain, smallest=smallest)
            said = _gain(gain, results.study, MEASURES[name].title, effort, smallest=smallest)
            sides = {gain.factor: gain.low}, {gain.factor: gain.high}
            out.append(replace(said, cell=_where(results, gain), sides=sides))
    return out


def _where(results: StudyResults, gain: Gain) -> str:
    """The cell where a step is largest."""
    place = max(range(len(gain.ratios)), key=lambda i: abs(math.log(gain.ratios[i].value)))
    levels = {**gain.where[place], gain.factor: gain.high}
    found = (c.cell.key for c in results.cells if all(c.cell.levels.get(n) == v for n, v in levels.items()))
    return next(found, "")


def _gain(gain: Gain, study: Study, title: str, effort: RepeatsNeeded | None, *, smallest: float) -> Finding:
    factors = study.factors
    factor = factors[gain.factor]
    pair = f"{factor.says(gain.high)} against {factor.says(gain.low)}"
    least = f"no difference of more than {100 * smallest:g}%"
    if not gain.clear and gain.alike and all(gain.alike):
        return Finding("step-alike", "finding", f"{pair}: {least} in {title}.")
    if not gain.clear:
        more = "" if effort is None else f"; {_effort(effort, 'for all')}"
        return Finding("step-unclear", "hint", f"{pair}: no clear difference in {title}{more}.")
    flips = {1, -1} <= set(gain.signs)
    decides = gain.by_factor()
    if decides is not None:
        name, groups = decides
        depends = f": which is ahead depends on the {factors[name].heading}" if flips else ""
        open_pairs = [same for same, said in zip(gain.alike, gain.signs, strict=False) if not said]
        unclear = least if open_pairs and all(open_pairs) else "no clear difference"
        return Finding(
            "step-depends", "finding", f"{pair}: {_by_level(factors[name], groups, title, unclear)}{depends}."
        )
    looked = len(gain.ratios)
    if flips:
        ahead = sum(1 for said in gain.signs if said > 0)
        told = f"more {title} in {ahead} of {looked}, less in {gain.clear - ahead}; no single factor decides which"
        return Finding("step-mixed", "finding", f"{pair}: {told}.")
    how = f" (clear in {gain.clear} of {looked})" if looked > 1 else ""
    return Finding("step", "finding", f"{pair}: {_more(gain.ratios, title)}{how}.")


def _more(ratios: Sequence[Interval], title: str) -> str:
    """`1.28 to 1.49 times the decode`, `4 to 6% more decode`, `38% less decode`."""
    values = sorted(r.value for r in ratios)
    if values[0] >= PERCENT_BELOW or values[-1] >= TIMES_FROM:
        return f"{_span(values, _times)} times the {title}"
    if values[0] >= 1 or values[-1] <= 1:
        shares = [100 * (v - 1) for v in values] if values[0] >= 1 else sorted(100 * (1 - v) for v in values)
        return f"{_span(shares, lambda v: digits(v, significant=2))}% {'more' if values[0] >= 1 else 'less'} {title}"
    return f"{_span(values, _times)} times the {title}"


def _span(values: Sequence[float], said: Callable[[float], str]) -> str:
    least, most = said(values[0]), said(values[-1])
    return least if least == most else f"{least} to {most}"


def _times(value: float) -> str:
    return f"{value:.2f}" if value < 10 else digits(value)


def _by_level(factor: Factor, groups: Sequence[tuple[Level, int, Sequence[Interval]]], title: str, nothing: str) -> str:
    """What the ratios are at each level of the factor that decides; levels with no clear difference come last."""
    clear = [f"{_more(ratios, title)} with {factor.says(level)}" for level, said, ratios in groups if said]
    unclear = [factor.says(level) for level, said, _ in groups if not said]
    return ", ".join([*clear, *([f"{nothing} with {' and '.join(unclear)}"] if unclear else [])])


def _tokenizers(results: StudyResults) -> list[Finding]:
    """Cells that read other tokens, and which of them is best where tokens do not count."""
    pair = other_tokenizers(results)
    if pair is None:
        return []
    a, b = (c.value(DENSITY) for c in pair)
    assert isinstance(a, Value) and isinstance(b, Value)
    told = f"{pair[0].title} has {digits(a.value)} characters per prompt token, {pair[1].title} {digits(b.value)}"
    rank = standing(results, "chars_rate")
    best = "" if rank.best is None or rank.tied else f". In characters per second {rank.best.title} is the fastest"
    return [Finding("different-tokenizer", "caution", f"different-tokenizer: {told}{best}.", pair[0].cell.key)]


def _slopes(results: StudyResults) -> list[Finding]:
    out = []
    for family in families(results):
        if isinstance(family.slope, PrefillSlope):
            text = slope_text(family.slope)
            said = f"{family.title}: {text}" if family.title else capitalised(text)
            out.append(Finding("prefill-slope", "finding", f"{said}.", family.cells[0].cell.key))
    return out[:MOST_SLOPES]


def _time(results: StudyResults, name: str) -> list[Finding]:
    """Where the time of the best cell goes, or of the only one."""
    best = standing(results, name).best or (results.cells[0] if len(results.cells) == 1 else None)
    split = None if best is None else time_split(results, best)
    if best is None or not isinstance(split, TimeSplit):
        return []
    return [Finding("time", "finding", f"{best.title}: {split_sentence(split)}.", best.cell.key)]


def _cautions(results: StudyResults) -> list[Finding]:
    seen: dict[str, list[CellResults]] = {}
    for cell in results.cells:
        for caution in cell.cautions if cell.done or cell.kept.failed else ():
            seen.setdefault(caution.code, []).append(cell)
    out = []
    for code, cells in sorted(seen.items(), key=lambda item: -len(item[1])):
        first = next(c for c in cells[0].cautions if c.code == code)
        where = plural(len(cells), "cell") if len(cells) > 1 else cells[0].title
        answers = [results.acknowledged(c).get(code) for c in cells]
        known = "" if None in answers else f" Acknowledged: {', '.join(dict.fromkeys(a or '' for a in answers))}."
        out.append(
            Finding(
                "caution", "caution", f"{code} in {where}: {first.evidence}.{known}", cells[0].cell.key, caution=code
            )
        )
    return out
