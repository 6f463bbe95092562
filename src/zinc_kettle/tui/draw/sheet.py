"""Drawings of the cell sheet: repeats as dots, requests as a waterfall, gaps and memory as traces."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Sequence

from rich.text import Text

from zinc_kettle.core.caution_kinds import Caution
from zinc_kettle.core.cell import per_repeat
from zinc_kettle.core.measures import Repeat
from zinc_kettle.core.stats import flukes, median, quantile
from zinc_kettle.core.timeline import Timeline
from zinc_kettle.core.units import NS_PER_S, byte_size, digits, with_unit
from zinc_kettle.present.view import QUIET_CODES
from zinc_kettle.tui.draw.canvas import trace
from zinc_kettle.tui.theme import Palette

WATERFALL_ROWS = 8


def repeat_strip(repeats: Sequence[Repeat], name: str, unit: str, width: int, palette: Palette) -> Text:
    """Each repeat as a dot on one axis, the median marked; a fluke is hollow."""
    values = per_repeat(repeats, name)
    if not values:
        return Text("no repeat has this figure", palette.muted)
    low, high = min(values), max(values)
    # A strip that zooms into a tremble would make it look like a storm: at least a tenth of the median is shown.
    room = max(high - low, 0.1 * abs(median(values))) or 1.0
    start = (low + high) / 2 - room / 2
    far = set(flukes(values))
    row: list[tuple[str, str]] = [("·", palette.faint)] * width
    at = min(width - 1, round((median(values) - start) / room * (width - 1)))
    row[at] = ("│", palette.ink)
    counts: dict[int, int] = {}
    for i, value in enumerate(values):
        column = round((value - start) / room * (width - 1))
        counts[column] = counts.get(column, 0) + 1
        mark = "○" if i in far else ("●" if counts[column] == 1 else str(min(9, counts[column])))
        row[column] = (mark, palette.caution if i in far else palette.ink)
    out = Text(no_wrap=True)
    for char, colour in row:
        out.append(char, colour)
    left, right = with_unit(start, unit), with_unit(start + room, unit)
    out.append("\n" + left + right.rjust(max(1, width - len(left))), palette.muted)
    return out


def waterfall(
    timelines: Sequence[Timeline], cautions: Callable[[Timeline], list[Caution]], width: int, palette: Palette
) -> Text:
    """Requests under each other, on one clock: waiting for the first token, then decode."""
    there = [t for t in timelines if t.end_ns > t.sent_ns]
    if not there:
        return Text("no request was answered", palette.muted)
    # Of many, some from the first to the last, so that the shape of the whole load is seen.
    step = max(1.0, (len(there) - 1) / (WATERFALL_ROWS - 1))
    shown = [there[i] for i in sorted({min(len(there) - 1, round(k * step)) for k in range(WATERFALL_ROWS)})]
    start = min(t.sent_ns for t in shown)
    span = max(t.end_ns for t in shown) - start
    label = 9
    room = max(10, width - label - 9)
    out = Text(no_wrap=True)
    for t in shown:
        before = round((t.sent_ns - start) / span * room)
        first = (t.ttft_ns if t.ttft_ns is not None else t.end_ns - t.sent_ns) or 0
        prefill = max(1, round(first / span * room))
        decode = max(0, round((t.end_ns - t.sent_ns - first) / span * room))
        name = "cold" if t.cold else ("warm-up" if t.role == "warmup" else _name(t))
        out.append(name.ljust(label), palette.muted)
        out.append(" " * before)
        out.append("▒" * prefill, palette.muted)
        out.append("█" * decode, palette.ink if t.usable else palette.failure)
        tail = f" {digits((t.end_ns - t.sent_ns) / NS_PER_S)} s"
        out.append(tail if t.usable else " ✕", palette.muted if t.usable else palette.failure)
        codes = [c.code for c in cautions(t) if c.code not in QUIET_CODES]
        out.append(f" ▲ {', '.join(codes)}" if codes else "", palette.caution)
        out.append("\n")
    out.append("▒ until the first token  █ decode", palette.muted)
    if len(timelines) > len(shown):
        out.append(f"  · {len(timelines) - len(shown):,} more", palette.muted)
    return out


def _name(t: Timeline) -> str:
    if t.conversation is not None:
        return f"turn {t.turn + 1}"
    if t.due_ns is not None:
        return f"ask {t.stream + 1}"
    return f"strm {t.stream + 1}" if t.stream >= 99 else f"stream {t.stream + 1}"


def gap_trace(timelines: Sequence[Timeline], width: int, rows: int, palette: Palette) -> Text:
    """The gaps between chunks of the last measured request, in milliseconds."""
    counted = [t for t in timelines if t.role == "measured" and len(t.chunk_ns) > 2]
    if not counted:
        return Text("no request with three chunks or more", palette.muted)
    gaps = [float(g) / 1e6 for g in counted[-1].chunk_gaps_ns]
    # One stall would flatten all the rest: the scale ends at p98, what is beyond touches the top.
    top = quantile(gaps, 0.98)
    if top <= 0:
        return Text("all its chunks came in one read", palette.muted)
    plot = trace([min(g, top) for g in gaps], width - 9, rows, low=0.0, high=top)
    return _labelled(plot, f"{digits(top, significant=2)} ms", "0 ms", palette)


def memory_trace(repeats: Sequence[Repeat], width: int, rows: int, palette: Palette) -> Text:
    """Resident memory of the engine over the last repeat, launcher included."""
    traces = [r.trace for r in repeats if r.trace is not None and len(r.trace.at_ns) > 1]
    if not traces:
        return Text("the engine's memory cannot be seen from here", palette.muted)
    values = [float(v) for v in traces[-1].resident_bytes]
    if max(values) <= 0:
        return Text("this rig does not tell the engine's memory", palette.muted)
    top = max(values) * 1.05
    return _labelled(trace(values, width - 9, rows, low=0.0, high=top), byte_size(top), "0 B", palette)


def power_trace(repeats: Sequence[Repeat], width: int, rows: int, palette: Palette) -> Text | None:
    """Power of the rig over the last repeat, from its energy; None where nothing told it."""
    told = [r.trace for r in repeats if r.trace is not None and r.trace.energy_uj is not None]
    if not told or len(told[-1].at_ns) < 3 or told[-1].energy_uj is None:
        return None
    at, energy = told[-1].at_ns, told[-1].energy_uj
    watts = [
        float(e1 - e0) * 1e3 / float(t1 - t0)
        for (t0, t1), (e0, e1) in zip(itertools.pairwise(at), itertools.pairwise(energy), strict=True)
        if t1 > t0
    ]
    top = max(watts, default=0.0) * 1.05 or 1.0
    plot = trace(watts, width - 9, rows, low=0.0, high=top)
    return _labelled(plot, f"{digits(top, significant=2)} W", "0 W", palette)


def _labelled(plot: list[str], top: str, bottom: str, palette: Palette) -> Text:
    out = Text(no_wrap=True)
    for i, line in enumerate(plot):
        label = top if i == 0 else (bottom if i == len(plot) - 1 else "")
        out.append(label.rjust(8) + " ", palette.muted)
        out.append(line, palette.ink)
        if i < len(plot) - 1:
            out.append("\n")
    return out
