"""Plain sentences about a study: the answer so far, and what else a person should know of it."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Literal

from zinc_kettle.core.breakdown import TimeSplit, time_split
from zinc_kettle.core.cautions.machine import BUSY_CORES
from zinc_kettle.core.checks.steering import by_person
from zinc_kettle.core.compare.cells import DENSITY, RepeatsNeeded, other_tokenizers, standing, to_settle
from zinc_kettle.core.compare.gains import Gain, gain_effort, gains
from zinc_kettle.core.facts import BusyFacts, MachineFacts
from zinc_kettle.core.family import PrefillSlope
from zinc_kettle.core.lengths import families
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.plan.factors import Factor, Level
from zinc_kettle.core.plan.study import Study, shape_of
from zinc_kettle.core.problem import nearest
from zinc_kettle.core.record.value import Value
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.core.stats import Interval, median
from zinc_kettle.core.text import capitalised
from zinc_kettle.core.units import digits, duration, percent, plural
from zinc_kettle.errors import UsageError
from zinc_kettle.present.breakdown import sentence as split_sentence
from zinc_kettle.present.capacity import capacity_answer
from zinc_kettle.present.dates import time_of_day
from zinc_kettle.present.lengths import slope_text
from zinc_kettle.present.values import whole_text

Tone = Literal["finding", "caution", "failure", "hint"]
MOST_FINDINGS = 6
MOST_GAINS = 3
MOST_SLOPES = 2
MOST_FAILURES = 2
MOST_DECISIONS = 3
WORDING = 11
"""Version of the sentences: an answer that was kept in other words is found again."""
SUPERLATIVES = {"tokens/s": "fastest", "s": "shortest", "bytes": "smallest"}
FIRST_MEASURE = {"open": "latency_p95", "burst": "ttft_p95", "batch": "batch_wall", "conversation": "ttft"}
"""What a study of this shape of load is first read by; the others by decode."""


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


def known_measure(name: str) -> str:
    """A name somebody gave, if it is a measure's.

    Raises:
        UsageError: No measure has that name.
    """
    if name not in MEASURES:
        raise UsageError(f"there is no measure {name!r}", remedy=nearest(name, MEASURES))
    return name


def main_measure(study: Study) -> str:
    """The measure a study is first read by: speed, or the wait where many ask at once or a conversation grows."""
    if study.capacity.factor:
        return "throughput"
    some = study.cells if "task" in study.vary else study.cells[:1]
    shapes = {shape_of(study, cell) for cell in some}
    shape = shapes.pop() if len(shapes) == 1 else study.load.shape
    return FIRST_MEASURE.get(shape, "decode")


def answer(results: StudyResults, name: str | None = None, *, brief: bool = False) -> str:
    """The answer so far in one sentence, by a measure; by the study's own where none is named. No full stop.

    Args:
        results: The run.
        name: Of the measure.
        brief: Without what would settle what is open.
    """
    if results.study.capacity.factor and results.done_repeats:
        return capacity_answer(results)
    name = name or main_measure(results.study)
    rank, measure = standing(results, name), MEASURES[name]
    if rank.best is None:
        early = "too early to tell: an answer needs three repeats of every cell"
        return early if results.done_repeats else "nothing measured yet"
    head = f"{SUPERLATIVES.get(measure.unit, 'best')} {measure.title}: {rank.best.title}"
    figure = whole_text(rank.best.value(name))
    if not rank.tied:
        return f"{head}, {figure}"
    others = ", ".join(c.title for c in rank.tied[:2]) + (" …" if len(rank.tied) > 2 else "")
    if rank.within_percent is not None:
        most = f"more than {rank.within_percent:g}% behind"
        if len(rank.all) == len(results.cells):
            return f"no cell is {most} the best in {measure.title}"
        return f"{head}, {figure}; {others} {'is' if len(rank.tied) == 1 else 'are'} not {most}"
    effort = "" if brief else effort_text(results, name)
    more = f"; {effort}" if effort else ""
    if len(rank.all) == len(results.cells):
        return f"no cell shows a clear difference from the others in {measure.title} yet{more}"
    return f"{head}, {figure}; no clear difference from {others}{more}"


def effort_text(results: StudyResults, name: str) -> str:
    """What would tell the best from the next best, in words; empty where nothing is open, or nothing can be said."""
    rank = standing(results, name)
    if rank.best is None or not rank.tied:
        return ""
    count = sum(1 for c in results.cells if c.done)
    pick = max if MEASURES[name].better == "more" else min
    rival = pick(rank.tied, key=lambda c: median(c.series(name)))
    effort = to_settle(rank.best, rival, name, smallest=_smallest(results), pairs=count * (count - 1) // 2)
    return "" if effort is None else _effort(effort, "for the two")


def _smallest(results: StudyResults) -> float:
    """The smallest difference worth knowing, as a share."""
    return results.study.repeats.smallest_percent / 100


def _effort(effort: RepeatsNeeded, of: str) -> str:
    takes = "" if effort.seconds is None else f" ({duration(effort.seconds)} {of})"
    many = f"{effort.repeats:,} more repeats" if effort.repeats > 1 else "one more repeat"
    return f"about {many}{takes} would tell a difference of {percent(effort.share)}"


def findings(results: StudyResults, name: str | None = None) -> list[Finding]:
    """Failures, findings and cautions, the most telling first."""
    name = name or main_measure(results.study)
    out = [
        *_failures(results),
        *_gains(results, name),
        *_tokenizers(results),
        *_decided(results),
        *_order(results),
        *_busy_before(results),
        *_time(results, name),
        *_slopes(results),
        *_cautions(results),
    ]
    return out[:MOST_FINDINGS]


def _failures(results: StudyResults) -> list[Finding]:
    if not results.failed_cells:
        return []
    failed = [c for c in results.cells if c.state == "failed"][:MOST_FAILURES]
    why = [c.kept.failure.what if c.kept.failure else "no reason was kept" for c in failed]
    return [
        Finding("cell-failed", "failure", f"{c.title} could not be measured: {what}", c.cell.key)
        for c, what in zip(failed, why, strict=True)
    ]


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
    title, smallest = MEASURES[name].title, _smallest(results)
    out = []
    # Loads of a search were chosen to find the limit; what each brought over the one before is no question.
    told = [g for g in gains(results, name) if g.factor != results.study.capacity.factor]
    for gain in told[:MOST_GAINS]:
        effort = gain_effort(results, gain, smallest=smallest)
        said = _gain(gain, results.study.factors, title, effort, smallest=smallest)
        sides = {gain.factor: gain.low}, {gain.factor: gain.high}
        out.append(replace(said, cell=_where(results, gain), sides=sides))
    return out


def _where(results: StudyResults, gain: Gain) -> str:
    """The cell where a step is largest."""
    place = max(range(len(gain.ratios)), key=lambda i: abs(math.log(gain.ratios[i].value)))
    levels = {**gain.where[place], gain.factor: gain.high}
    found = (c.cell.key for c in results.cells if all(c.cell.levels.get(n) == v for n, v in levels.items()))
    return next(found, "")


def _gain(
    gain: Gain, factors: Mapping[str, Factor], title: str, effort: RepeatsNeeded | None, *, smallest: float
) -> Finding:
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
    return Finding("step", "finding", f"{pair}: {_times(gain.ratios)} times the {title}{how}.")


def _times(ratios: Sequence[Interval]) -> str:
    least, most = min(r.value for r in ratios), max(r.value for r in ratios)
    return f"{least:.2f}" if round(least, 2) == round(most, 2) else f"{least:.2f} to {most:.2f}"


def _by_level(factor: Factor, groups: Sequence[tuple[Level, int, Sequence[Interval]]], title: str, nothing: str) -> str:
    """What the ratios are at each level of the factor that decides; levels with no clear difference come last."""
    clear = [f"{_times(ratios)} times with {factor.says(level)}" for level, said, ratios in groups if said]
    clear[0] = clear[0].replace(" times with", f" times the {title} with", 1)
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
        out.append(Finding("caution", "caution", f"{code} in {where}: {first.evidence}.{known}", cells[0].cell.key))
    return out
