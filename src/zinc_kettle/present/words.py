"""Plain sentences: a value with its spread, the answer so far, what is worth knowing."""

from __future__ import annotations

import itertools

from zinc_kettle.core.catalogue import MEASURES
from zinc_kettle.core.cautions import BUSY_CORES
from zinc_kettle.core.cell import CellFigure, Value
from zinc_kettle.core.factors import Level, level_name
from zinc_kettle.core.plan import Study, shape_of
from zinc_kettle.core.stats import Interval, median
from zinc_kettle.core.units import digits, plural, scale
from zinc_kettle.present.families import family_sentences
from zinc_kettle.present.sentence import Sentence
from zinc_kettle.present.view import MIN_REPEATS, CellView, StudyView

LOPSIDED = 1.5
"""Bounds are shown as low–high where one side is this many times the other."""
MAX_SENTENCES = 6


def value_text(figure: CellFigure) -> tuple[str, str]:
    """A value and its unit as text; a dash and the reason where it is missing."""
    if not isinstance(figure, Value):
        return "–", figure.reason
    scaled, unit, factor = scale(figure.value, figure.unit)
    if figure.unit == "tokens" and scaled == round(scaled):
        return f"{scaled:,.0f}", unit
    return digits(scaled, spread=_half(figure) * factor), unit


def bounds_text(figure: CellFigure) -> str:
    """`±0.2`, or `12.1–13.0` where it is lopsided; empty for one repeat or a missing value.

    A percentile with too few requests beyond it is called thin first.
    """
    if not isinstance(figure, Value) or figure.n < 2:
        return "thin" if isinstance(figure, Value) and figure.thin else ""
    if figure.thin:
        return f"thin {_bounds(figure)}".strip()
    return _bounds(figure)


def _bounds(figure: Value) -> str:
    _, _, factor = scale(figure.value, figure.unit)
    below, above = (figure.value - figure.low) * factor, (figure.high - figure.value) * factor
    half = max(below, above)
    if half <= 0:
        return ""
    if min(below, above) * LOPSIDED < half:
        low, high = figure.low * factor, figure.high * factor
        return f"{digits(low, spread=half)}–{digits(high, spread=half)}"
    return f"±{digits(half, significant=2)}"


def _half(figure: Value) -> float:
    return max(figure.high - figure.value, figure.value - figure.low)


def bound_name(figure: CellFigure) -> str:
    """What the bounds are: `95% interval` or `range`, with the number behind them."""
    if not isinstance(figure, Value):
        return ""
    noun = figure.of
    if figure.n == 1:
        return f"one {noun.removesuffix('es') if noun == 'launches' else noun.removesuffix('s')}, no bounds"
    kind = "95% interval" if figure.bound == "interval95" else "range"
    return f"{kind} of {figure.n} {noun}"


def best(view: StudyView, name: str) -> list[CellView]:
    """The best cell for a measure, then all that cannot be told apart from it, so that none is ranked by noise.

    Empty while a measured cell has only one repeat: one repeat carries no conclusion, about itself or the others.
    """
    measured = [c for c in view.cells if isinstance(c.value(name), Value)]
    if not measured or MEASURES[name].better == "neither":
        return []
    if any(len(c.series(name)) < MIN_REPEATS for c in measured):
        return []
    pick = max if MEASURES[name].better == "more" else min
    top = pick(measured, key=lambda c: median(c.series(name)))
    return [top, *(c for c in measured if c is not top and _level(c.ratio(top, name)))]


def _level(interval: Interval | None) -> bool:
    return interval is None or interval.low <= 1.0 <= interval.high


def main_measure(study: Study) -> str:
    """The measure a study is first read by: speed, or the wait where many ask at once or a conversation grows."""
    shapes = {shape_of(study, cell) for cell in study.cells}
    shape = shapes.pop() if len(shapes) == 1 else study.load.shape
    first = {"open": "latency_p95", "burst": "ttft_p95", "batch": "batch_wall", "conversation": "ttft"}
    return first.get(shape, "decode")


def answer(view: StudyView, name: str | None = None) -> str:
    """The answer so far in one sentence, by a measure; by the study's own where none is named."""
    name = name or main_measure(view.study)
    top = best(view, name)
    measure = MEASURES[name]
    if not top:
        early = "too early to tell: an answer wants two repeats of every cell"
        return early if view.done_repeats else "nothing measured yet"
    text, unit = value_text(top[0].value(name))
    bounds = bounds_text(top[0].value(name))
    superlative = {"tokens/s": "fastest", "s": "shortest", "bytes": "smallest"}.get(measure.unit, "best")
    head = f"{superlative} {measure.title}: {top[0].title}"
    figure = f"{text}{' ' + bounds if bounds.startswith('±') else ''} {unit}"
    if len(top) == 1:
        return f"{head}, {figure}"
    if len(top) == len(view.cells):
        return f"no cell is told apart from the others in {measure.title} yet"
    others = ", ".join(c.title for c in top[1:3]) + (" …" if len(top) > 3 else "")
    return f"{head}, {figure}; not told apart from {others}"


def worth_knowing(view: StudyView, name: str | None = None) -> list[Sentence]:
    """What a person should know of a study: failures, findings, cautions; the most telling first."""
    name = name or main_measure(view.study)
    out: list[Sentence] = []
    out += _failures(view)
    out += _busy_before(view)
    out += _gains(view, name)
    out += family_sentences(view)
    out += _cautions(view)
    return out[:MAX_SENTENCES]


def _failures(view: StudyView) -> list[Sentence]:
    return [
        Sentence("failure", f"{cell.title} could not be measured: {cell.failures[-1].failure}")
        for cell in view.cells
        if cell.state == "failed"
    ][:2]


def _busy_before(view: StudyView) -> list[Sentence]:
    """Rigs that others were using just before the run."""
    rigs = {"this machine": view.record.facts, **(view.record.facts.get("rigs") or {})}
    out = []
    for name, facts in rigs.items():
        busy = facts.get("busy") or {}
        if busy.get("cores", 0.0) > BUSY_CORES:
            who = ", ".join(str(pair[0]) for pair in busy.get("top", ()))
            used = digits(busy["cores"], significant=2)
            out.append(
                Sentence("caution", f"{name} was busy before the run: {used} cores{f' ({who})' if who else ''}.")
            )
    return out


def _gains(view: StudyView, name: str) -> list[Sentence]:
    """For each varied factor with two or more levels: what its levels bought, all else equal."""
    out = []
    for factor, levels in view.study.vary.items():
        for low, high in itertools.pairwise(levels):
            sentence = _gain(view, name, factor, low, high)
            if sentence is not None:
                out.append(sentence)
    return out[:3]


def _gain(view: StudyView, name: str, factor: str, low: Level, high: Level) -> Sentence | None:
    ratios = []
    for cell in view.cells:
        if cell.cell.levels[factor] == low:
            wanted = {**cell.cell.levels, factor: high}
            other = next(c for c in view.cells if c.cell.levels == wanted)
            ratios.append(other.ratio(cell, name))
    known = [r for r in ratios if r is not None]
    if not known:
        return None
    title = MEASURES[name].title
    pair = f"{level_name(factor, high)} against {level_name(factor, low)}"
    apart = [r for r in known if not _level(r)]
    if not apart:
        return Sentence("hint", f"{pair}: not told apart in {title}.")
    least, most = min(r.value for r in apart), max(r.value for r in apart)
    times = f"{least:.2f}" if round(least, 2) == round(most, 2) else f"{least:.2f} to {most:.2f}"
    how = "told apart" if all(r.bound == "interval95" for r in apart) else "ranges apart"
    where = f" ({how} in {len(apart)} of {len(known)})" if len(known) > 1 else f" ({how})"
    return Sentence("finding", f"{pair}: {times} times the {title}{where}.")


def _cautions(view: StudyView) -> list[Sentence]:
    seen: dict[str, list[CellView]] = {}
    for cell in view.cells:
        for caution in cell.cautions:
            seen.setdefault(caution.code, []).append(cell)
    out = []
    for code, cells in sorted(seen.items(), key=lambda item: -len(item[1])):
        first = next(c for c in cells[0].cautions if c.code == code)
        where = plural(len(cells), "cell") if len(cells) > 1 else cells[0].title
        out.append(Sentence("caution", f"{code} in {where}: {first.evidence}."))
    return out
