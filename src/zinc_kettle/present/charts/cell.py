"""Charts of a single cell: its repeats as dots, its requests on one clock, gaps, memory and power over time."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import replace

from zinc_kettle.core.cautions import QUIET_CODES
from zinc_kettle.core.chart import Axis, Chart, Label, Line, Mark, Panel, Points, Rule, Spans, Steps
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.measures.machine import device_before
from zinc_kettle.core.measures.power import UNTOLD
from zinc_kettle.core.record.repeat import Repeat
from zinc_kettle.core.record.telemetry import Trace
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.core.remarks import marks_of
from zinc_kettle.core.results import CellResults
from zinc_kettle.core.stats import flukes, median, quantile
from zinc_kettle.core.units import NS_PER_MS, NS_PER_S, digits
from zinc_kettle.present.charts.kinds import ChartKind, Subject
from zinc_kettle.present.charts.subtitle import notes
from zinc_kettle.present.values import CAUTION_MARK

SHOWN_REQUESTS = 8
LEAST_SPAN = 0.1
"""A strip that zooms into a tremble would make it look like a storm: at least a tenth of the median is shown."""
GAP_SCALE = 0.98
"""One stall would flatten all the rest: the scale ends at this quantile, and what is beyond touches the top."""


def repeats_panel(cell: CellResults, name: str) -> Panel:
    """Each repeat as a dot on one axis, the median marked; a fluke is hollow."""
    values = cell.series(name)
    measure = MEASURES[name]
    y = Axis(hidden=True, low=-1.0, high=1.0)
    if not values:
        return Panel(Axis(unit=measure.unit), y, title=f"repeats, {measure.title}", empty="no repeat has this measure")
    middle = median(list(values))
    room = max(max(values) - min(values), LEAST_SPAN * abs(middle)) or 1.0
    start = (min(values) + max(values)) / 2 - room / 2
    far = frozenset(flukes(list(values)))
    dots = Points(tuple(values), (0.0,) * len(values), hollow=far, tone="ink")
    return Panel(
        Axis(unit=measure.unit, low=start, high=start + room),
        y,
        (Rule(middle, "x"), dots),
        title=f"repeats, {measure.title}",
    )


def last_requests(cell: CellResults) -> tuple[Timeline, ...]:
    """The requests of the last repeat that counts, or of the last there is."""
    measured = cell.repeats
    last = measured[-1] if measured else (cell.kept_repeats[-1].repeat if cell.kept_repeats else None)
    return () if last is None else last.timelines


def requests_panel(cell: CellResults) -> Panel:
    """Requests of the last repeat under each other, on one clock: waiting for the first token, then decode.

    Of many, some from the first to the last, so that the shape of the whole load is seen.
    """
    title = "last repeat, request by request"
    there = [t for t in last_requests(cell) if t.end_ns > t.sent_ns]
    if not there:
        return Panel(Axis(unit="s"), Axis(scale="categories"), title=title, empty="no request was answered")
    step = max(1.0, (len(there) - 1) / (SHOWN_REQUESTS - 1))
    shown = [there[i] for i in sorted({min(len(there) - 1, round(k * step)) for k in range(SHOWN_REQUESTS)})]
    zero = min(t.sent_ns for t in shown)
    rows = tuple(range(len(shown)))
    sent = tuple((t.sent_ns - zero) / NS_PER_S for t in shown)
    first = tuple((t.sent_ns - zero + (t.ttft_ns or t.end_ns - t.sent_ns)) / NS_PER_S for t in shown)
    end = tuple((t.end_ns - zero) / NS_PER_S for t in shown)
    good = [i for i in rows if shown[i].usable]
    bad = [i for i in rows if not shown[i].usable]
    marks: list[Mark] = [Spans(rows, sent, first, "waiting", "until the first token")]
    for some, tone, name in ((good, "busy", "decode"), (bad, "failure", "failed")):
        if some:
            starts, ends = tuple(first[i] for i in some), tuple(end[i] for i in some)
            marks.append(Spans(tuple(some), starts, ends, tone, name))  # type: ignore[arg-type]
    for i, t in enumerate(shown):
        codes = [c.code for c in cell.request_cautions(t) if c.code not in QUIET_CODES]
        said = f"{digits((t.end_ns - t.sent_ns) / NS_PER_S)} s" if t.usable else "✕"
        warned = [f"{CAUTION_MARK} {', '.join(codes)}"] if codes else []
        given = marks_of(cell.decisions, t.request_id)
        beside = " ".join([*warned, *([f"“{', '.join(given)}”"] if given else [])])
        marks.append(Label(end[i], float(i), said, "caution" if codes else "muted", beside))
    names = tuple(_name(t) for t in shown)
    more = len(there) - len(shown)
    return Panel(
        Axis(unit="s", low=0.0),
        Axis(scale="categories", labels=names),
        tuple(marks),
        title=title + (f", {more:,} more not shown" if more else ""),
    )


def _name(t: Timeline) -> str:
    if t.cold or t.role == "warmup":
        return "cold" if t.cold else "warm-up"
    if t.conversation is not None:
        return f"turn {t.turn + 1}"
    return f"request {t.stream + 1}" if t.due_ns is not None else f"stream {t.stream + 1}"


def gaps_panel(cell: CellResults) -> Panel:
    """The gaps between chunks of the last measured request, in milliseconds."""
    title = "gaps between chunks, last request"
    counted = [t for t in last_requests(cell) if t.role == "measured" and len(t.chunk_ns) > 2]
    gaps = [float(g) / NS_PER_MS for g in counted[-1].chunk_gaps_ns] if counted else []
    top = quantile(gaps, GAP_SCALE) if gaps else 0.0
    if top <= 0:
        why = "all its chunks arrived in one read" if gaps else "no request had three chunks or more"
        return Panel(Axis(hidden=True), Axis(unit="ms"), title=title, empty=why)
    line = Line(tuple(float(i) for i in range(len(gaps))), tuple(min(g, top) for g in gaps), tone="ink")
    return Panel(
        Axis("gaps, counted from the first", hidden=True), Axis(unit="ms", low=0.0, high=top), (line,), title=title
    )


def _last_traced(cell: CellResults) -> tuple[Repeat, Trace] | None:
    traced = [(r, r.trace) for r in cell.repeats if r.trace is not None and len(r.trace.at_ns) > 1]
    return traced[-1] if traced else None


def _seconds(trace: Trace) -> list[float]:
    return [float(at) / NS_PER_S for at in trace.at_ns - trace.at_ns[0]]


def memory_panel(cell: CellResults) -> Panel:
    """Memory of the engine over the last repeat, the launcher included: main memory, and that of devices where they
    tell it."""
    title, last = "memory of the engine, last repeat", _last_traced(cell)
    if last is None or last[1].resident_bytes.max() <= 0:
        unseen = "the engine's memory cannot be seen from here"
        why = "this rig does not report the engine's memory" if last else unseen
        return Panel(Axis(unit="s"), Axis(unit="bytes"), title=title, empty=why)
    repeat, trace = last
    values = [float(v) for v in trace.resident_bytes]
    if trace.device_bytes is not None:
        before, title = device_before(repeat), "memory of the engine and on devices, last repeat"
        values = [v + max(0.0, float(d) - before) for v, d in zip(values, trace.device_bytes, strict=True)]
    line = Line(tuple(_seconds(trace)), tuple(values), tone="ink")
    return Panel(
        Axis(unit="s", hidden=True), Axis(unit="bytes", low=0.0, high=max(values) * 1.05), (line,), title=title
    )


def power_panel(cell: CellResults) -> Panel:
    """Power of the rig over the last repeat, from its energy; empty where nothing told it."""
    title, last = "power of the rig, last repeat", _last_traced(cell)
    trace = None if last is None else last[1]
    if trace is None or trace.energy_uj is None or len(trace.at_ns) < 3:
        return Panel(Axis(unit="s"), Axis(unit="W"), title=title, empty=UNTOLD.reason)
    at, energy = trace.at_ns, trace.energy_uj
    steps = [
        (float(t0 - at[0]) / NS_PER_S, float(e1 - e0) * 1e3 / float(t1 - t0))
        for (t0, t1), (e0, e1) in zip(itertools.pairwise(at), itertools.pairwise(energy), strict=True)
        if t1 > t0
    ]
    top = max((watts for _, watts in steps), default=0.0) * 1.05 or 1.0
    mark = Steps(tuple(x for x, _ in steps), tuple(w for _, w in steps), tone="ink")
    return Panel(Axis(unit="s", hidden=True), Axis(unit="W", low=0.0, high=top), (mark,), title=title)


def _chart(subject: Subject, panels: Sequence[Panel], *more: str) -> Chart:
    assert subject.cell is not None
    return Chart(subject.results.study.question, subject.cell.title, tuple(panels), (*notes(subject.results), *more))


def _traces(subject: Subject) -> Chart:
    """Each with its own x axis; what there is nothing of is a note, not a panel."""
    assert subject.cell is not None
    panels = [gaps_panel(subject.cell), memory_panel(subject.cell), power_panel(subject.cell)]
    shown = [replace(p, x=replace(p.x, hidden=False, title=p.x.title or "time")) for p in panels if not p.empty]
    return _chart(subject, shown, *(p.empty for p in panels if p.empty)) if shown else _chart(subject, panels)


def _needs(subject: Subject) -> str:
    if subject.cell is None:
        return "it shows one cell: name it with --cell factor=level,…"
    return "" if subject.cell.kept_repeats else "this cell is not measured yet"


REPEATS = ChartKind(
    "repeats",
    "repeats",
    "Do the repeats of a cell agree?",
    "cell",
    _needs,
    lambda s: _chart(s, [repeats_panel(s.cell, s.measure)] if s.cell else []),
)
REQUESTS = ChartKind(
    "requests",
    "requests",
    "Where did the time of each request go, in a cell's last repeat?",
    "cell",
    _needs,
    lambda s: _chart(s, [requests_panel(s.cell)] if s.cell else []),
)
TRACES = ChartKind(
    "traces",
    "traces",
    "How even were the gaps, the memory and the power of a cell's last repeat?",
    "cell",
    _needs,
    _traces,
)
