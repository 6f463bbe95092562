"""Plain sentences: a value with its spread, the answer so far, what is worth knowing."""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from typing import Literal

from zinc_kettle.core.catalogue import MEASURES
from zinc_kettle.core.cell import CellFigure, Value
from zinc_kettle.core.plan import level_name
from zinc_kettle.core.units import digits, plural, scale
from zinc_kettle.present.view import CellView, StudyView

CLOSE_RATIO = 1.02
"""Bounds that overlap by less than this still overlap: nobody picks a setting for two percent."""
LOPSIDED = 1.5
"""Bounds are shown as low–high where one side is this many times the other."""
MAX_SENTENCES = 6

Tone = Literal["finding", "caution", "failure", "hint"]


@dataclass(frozen=True, slots=True)
class Sentence:
    """Something worth knowing, and of what kind."""

    tone: Tone
    text: str


def value_text(figure: CellFigure) -> tuple[str, str]:
    """A value and its unit as text; a dash and the reason where it is missing."""
    if not isinstance(figure, Value):
        return "–", figure.reason
    scaled, unit, factor = scale(figure.value, figure.unit)
    if figure.unit == "tokens" and scaled == round(scaled):
        return f"{scaled:,.0f}", unit
    return digits(scaled, spread=_half(figure) * factor), unit


def bounds_text(figure: CellFigure) -> str:
    """`±0.2`, or `12.1–13.0` where it is lopsided; empty for one repeat or a missing value."""
    if not isinstance(figure, Value) or figure.n < 2:
        return ""
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
    """What the bounds are: `95% interval` or `range`, with the number of repeats."""
    if not isinstance(figure, Value):
        return ""
    kind = "95% interval" if figure.bound == "interval95" else "range"
    return f"{kind} of {figure.n}"


def best(view: StudyView, name: str) -> list[CellView]:
    """The best cells for a measure: the first, and all whose bounds overlap it, so that none is ranked by noise."""
    measured = [(c, v) for c in view.cells if isinstance(v := c.value(name), Value)]
    if not measured:
        return []
    more = MEASURES[name].better == "more"
    measured.sort(key=lambda pair: pair[1].value, reverse=more)
    top = measured[0][1]
    together = [
        c for c, v in measured
        if (v.high * CLOSE_RATIO >= top.low if more else v.low <= top.high * CLOSE_RATIO)
    ]  # fmt: skip
    return together


def answer(view: StudyView, name: str = "decode") -> str:
    """The answer so far in one sentence."""
    top = best(view, name)
    if not top:
        return "nothing measured yet"
    measure = MEASURES[name]
    text, unit = value_text(top[0].value(name))
    bounds = bounds_text(top[0].value(name))
    head = f"{'fastest' if measure.unit == 'tokens/s' else 'best'} {measure.title}: {top[0].title}"
    figure = f"{text}{' ' + bounds if bounds.startswith('±') else ''} {unit}"
    if len(top) == 1:
        return f"{head}, {figure}"
    if len(top) == len(view.cells):
        return f"no cell is told apart from the others in {measure.title} yet"
    others = ", ".join(c.title for c in top[1:3]) + (" …" if len(top) > 3 else "")
    return f"{head}, {figure}; not told apart from {others}"


def worth_knowing(view: StudyView, name: str = "decode") -> list[Sentence]:
    """What a person should know of a study: failures, findings, cautions; the most telling first."""
    out: list[Sentence] = []
    out += _failures(view)
    out += _gains(view, name)
    out += _cautions(view)
    return out[:MAX_SENTENCES]


def _failures(view: StudyView) -> list[Sentence]:
    return [
        Sentence("failure", f"{cell.title} could not be measured: {cell.failures[-1].failure}")
        for cell in view.cells
        if cell.state == "failed"
    ][:2]


def _gains(view: StudyView, name: str) -> list[Sentence]:
    """For each varied factor with two or more levels: what its levels bought, all else equal."""
    out = []
    for factor, levels in view.study.vary.items():
        for low, high in itertools.pairwise(levels):
            sentence = _gain(view, name, factor, low, high)
            if sentence is not None:
                out.append(sentence)
    return out[:3]


def _gain(view: StudyView, name: str, factor: str, low: object, high: object) -> Sentence | None:
    ratios, apart = [], 0
    for cell in view.cells:
        if cell.cell.levels[factor] != low:
            continue
        wanted = {**cell.cell.levels, factor: high}
        other = next(c for c in view.cells if c.cell.levels == wanted)
        a, b = other.value(name), cell.value(name)
        if isinstance(a, Value) and isinstance(b, Value) and b.value > 0:
            ratios.append(a.value / b.value)
            apart += a.low > b.high or a.high < b.low
    if not ratios:
        return None
    title = MEASURES[name].title
    low_name, high_name = level_name(factor, low), level_name(factor, high)  # type: ignore[arg-type]
    if apart == 0:
        return Sentence("hint", f"{high_name} against {low_name}: not told apart in {title}.")
    least, most = min(ratios), max(ratios)
    times = f"{least:.2f}" if round(least, 2) == round(most, 2) else f"{least:.2f} to {most:.2f}"
    told = f", {apart} of {len(ratios)} told apart" if apart < len(ratios) else ""
    return Sentence("finding", f"{high_name} against {low_name}: {title} is {times} times{told}.")


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
