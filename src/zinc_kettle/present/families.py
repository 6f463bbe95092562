"""Families of cells that differ in prompt length only: prefill as a slope, decode over depth; and turns of one cell."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass

from zinc_kettle.core.factors import level_name
from zinc_kettle.core.family import DepthFall, PrefillSlope, depth, depth_fall, prefill_slope
from zinc_kettle.core.repeat import Missing
from zinc_kettle.core.stats import median
from zinc_kettle.core.units import NS_PER_S, digits, plural
from zinc_kettle.present.sentence import Sentence
from zinc_kettle.present.view import CellView, StudyView

FACTOR = "prompt_tokens"
MOST_SENTENCES = 2


@dataclass(frozen=True)
class Family:
    """Cells that are equal but for their prompt length."""

    title: str
    """The levels they share; empty where nothing else varies."""
    cells: tuple[CellView, ...]
    slope: PrefillSlope | Missing
    fall: DepthFall | Missing


@dataclass(frozen=True, slots=True)
class Turn:
    """A turn of conversations: medians over all of them."""

    turn: int
    requests: int
    depth: float | None
    """Tokens in context in the middle of the answer."""
    ttft_s: float | None
    decode: float | None


def families(view: StudyView) -> list[Family]:
    """The families of a study, kept by its view; none where the prompt length does not vary."""
    if "families" not in view.kept:
        view.kept["families"] = _families(view)
    found: list[Family] = view.kept["families"]
    return found


def _families(view: StudyView) -> list[Family]:
    if len(view.study.vary.get(FACTOR, ())) < 2:
        return []
    groups: dict[tuple[object, ...], list[CellView]] = defaultdict(list)
    for cell in view.cells:
        groups[tuple(level for name, level in cell.cell.levels.items() if name != FACTOR)].append(cell)
    return [_family(tuple(members)) for members in groups.values()]


def family_of(view: StudyView, cell: CellView) -> Family | None:
    """The family a cell belongs to."""
    return next((f for f in families(view) if cell in f.cells), None)


def _family(cells: tuple[CellView, ...]) -> Family:
    shared = [level_name(n, v) for n, v in cells[0].cell.levels.items() if n != FACTOR]
    repeats = {int(c.cell.settings[FACTOR] or 0): c.repeats for c in cells}
    requests = [t for c in cells for r in c.repeats if r.alone for t in r.measured]
    return Family(" · ".join(shared), cells, prefill_slope(repeats), depth_fall(requests))


def slope_text(slope: PrefillSlope) -> str:
    """Prefill speed with its bounds, the overhead, the range, and whether a line is the truth."""
    line = slope.line
    high = "not determined" if slope.rate_high is None else digits(slope.rate_high)
    curve = ""
    if line.curved:
        curve = f"; the line is curved (up to {line.curve_share:.0%}): speed changes with length"
    elif line.curve_p is not None:
        curve = "; no curvature told"
    return (
        f"prefill {digits(slope.rate)} tok/s by slope (95%: {digits(slope.rate_low)} to {high}), overhead "
        f"{digits(line.intercept * 1e3, significant=2)} ms, over {line.x_low:,.0f} to {line.x_high:,.0f} tokens{curve}"
    )


def fall_text(fall: DepthFall) -> str:
    """Decode at both ends and the loss for 1,000 tokens."""
    line = fall.line
    return (
        f"decode falls from {digits(fall.speed(line.x_low))} tok/s at {line.x_low:,.0f} tokens in context to "
        f"{digits(fall.speed(line.x_high))} at {line.x_high:,.0f}: {fall.loss:.1%} for 1,000 tokens "
        f"(95%: {fall.loss_low:.1%} to {fall.loss_high:.1%})"
    )


def family_sentences(view: StudyView) -> list[Sentence]:
    """What families tell, for those that can tell it."""
    out = []
    for family in families(view):
        head = f"{family.title}: " if family.title else ""
        if isinstance(family.slope, PrefillSlope):
            text = slope_text(family.slope)
            out.append(Sentence("finding", f"{head}{text if head else text[:1].upper() + text[1:]}."))
    return out[:MOST_SENTENCES]


def turns(cell: CellView) -> list[Turn]:
    """The turns of a cell's conversations; none where its requests are no conversations."""
    requests = [t for r in cell.repeats for t in r.measured if t.conversation is not None]
    out = []
    for number in sorted({t.turn for t in requests}):
        mine = [t for t in requests if t.turn == number]
        depths = [d for t in mine if (d := depth(t)) is not None]
        waits = [t.ttft_ns / NS_PER_S for t in mine if t.ttft_ns is not None]
        speeds = [t.decode_tokens * NS_PER_S / t.decode_ns for t in mine if t.decode_ns > 0 and t.decode_tokens > 0]
        out.append(Turn(number, len(mine), *(median(values) if values else None for values in (depths, waits, speeds))))
    return out


def turn_lines(cell: CellView) -> list[str]:
    """The turns as lines of a small table, two of heading first; empty where there are none."""
    rows = turns(cell)
    if not rows:
        return []
    out = [f"turn by turn, medians over {plural(rows[0].requests, 'conversation')}"]
    out.append(f"{'turn':>4} {'depth':>8} {'TTFT':>10} {'decode':>12}")
    for row in rows:
        deep = "–" if row.depth is None else f"{row.depth:,.0f}"
        wait = "–" if row.ttft_s is None else f"{digits(row.ttft_s * 1e3)} ms"
        speed = "–" if row.decode is None else f"{digits(row.decode)} tok/s"
        out.append(f"{row.turn + 1:>4} {deep:>8} {wait:>10} {speed:>12}")
    return out
