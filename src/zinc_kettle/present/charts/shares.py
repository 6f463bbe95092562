"""How requests spread, and where the time of a token goes."""

from __future__ import annotations

from collections.abc import Sequence

from zinc_kettle.core.breakdown import TimeSplit, time_split
from zinc_kettle.core.chart import Axis, Chart, Label, Mark, Panel, Rule, Spans, Steps
from zinc_kettle.core.record.repeat import Missing
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.core.results import CellResults
from zinc_kettle.core.units import NS_PER_S, digits, scale
from zinc_kettle.present.breakdown import NAMES, REST, part_lines
from zinc_kettle.present.charts.kinds import ChartKind, Subject
from zinc_kettle.present.charts.subtitle import notes

MOST_CURVES = 8
"""More lines than there are shapes cannot be told apart."""
MOST_ROWS = 24
LEAST_REQUESTS = 5


# latency
def _value(subject: Subject, t: Timeline) -> float | None:
    if subject.measure.startswith("ttft"):
        return None if t.ttft_ns is None else t.ttft_ns / NS_PER_S
    return (t.end_ns - t.sent_ns) / NS_PER_S


def _requests(subject: Subject, cell: CellResults) -> list[float]:
    found = (_value(subject, t) for repeat in cell.repeats for t in repeat.measured)
    return sorted(v for v in found if v is not None)


def _latency(subject: Subject) -> Chart:
    """The share of requests that had ended by a time; a curve for each cell, the one chosen first."""
    cells = [c for c in subject.results.cells if c.summary.blocks]
    cells.sort(key=lambda c: c is not subject.cell)
    found = [
        (cell, values) for cell in cells[: 3 * MOST_CURVES] if len(values := _requests(subject, cell)) >= LEAST_REQUESTS
    ][:MOST_CURVES]
    _, unit, times = scale(max(values[-1] for _, values in found), "s")
    marks: list[Mark] = []
    for series, (cell, values) in enumerate(found):
        x = tuple(v * times for v in values)
        y = tuple(100 * (i + 1) / len(values) for i in range(len(values)))
        marks.append(Steps((x[0], *x), (0.0, *y), cell.title, series))
    marks += [Rule(50.0, "y", "p50", "faint"), Rule(95.0, "y", "p95", "faint")]
    what = "TTFT" if subject.measure.startswith("ttft") else "latency"
    panel = Panel(Axis(f"{what} ({unit})", "log"), Axis("requests (%)", low=0.0, high=100.0), tuple(marks))
    more = [] if len(found) == len(cells) else [f"{len(found)} of {len(cells)} cells"]
    many = sum(len(values) for _, values in found)
    return Chart(
        subject.results.study.question,
        f"{what}, all {many:,} requests of all repeats",
        (panel,),
        (*notes(subject.results), *more),
    )


def _latency_needs(subject: Subject) -> str:
    many = [c for c in subject.results.cells if sum(1 for _ in c.summary.blocks)]
    if not many:
        return "nothing is measured yet"
    enough = any(len(_requests(subject, c)) >= LEAST_REQUESTS for c in many[:MOST_CURVES])
    return "" if enough else f"no cell has {LEAST_REQUESTS} requests yet"


LATENCY = ChartKind(
    "latency",
    "latencies",
    "How do the requests spread: the usual one, the slow ones?",
    "study",
    _latency_needs,
    _latency,
)


# where the time goes
def _splits(subject: Subject) -> list[tuple[CellResults, TimeSplit]]:
    found = ((cell, time_split(subject.results, cell)) for cell in subject.results.cells if cell.done)
    return [(cell, split) for cell, split in found if not isinstance(split, Missing)]


def _where(subject: Subject) -> Chart:
    """The parts of a token's time as bars, a row for each cell."""
    found = _splits(subject)
    shown = found[:MOST_ROWS]
    marks = [*_parts([split for _, split in shown])]
    tops = [max(split.step_s, sum(part.seconds for part in split.parts)) * 1e3 for _, split in shown]
    marks += [
        Label(top, float(row), f"{digits(split.step_s * 1e3)} ms")
        for row, (top, (_, split)) in enumerate(zip(tops, shown, strict=True))
    ]
    panel = Panel(
        Axis("milliseconds a token", low=0.0),
        Axis(scale="categories", labels=tuple(cell.title for cell, _ in shown)),
        tuple(marks),
    )
    more = [] if len(shown) == len(found) else [f"{len(shown)} of {len(found)} cells"]
    band = max(split.band for _, split in shown)
    return Chart(
        subject.results.study.question,
        "where the time of a token goes; the number is the time measured",
        (panel,),
        (*notes(subject.results), f"parts are computed from the probe and the model's bytes, ±{band:.0%}", *more),
    )


def _parts(splits: Sequence[TimeSplit]) -> list[Mark]:
    """The parts one behind the other, a mark for each part."""
    names = [*NAMES.values(), REST]
    ends = [0.0] * len(splits)
    rows: dict[str, list[tuple[int, float, float]]] = {}
    for name in names:
        for row, split in enumerate(splits):
            seconds = dict((n, s) for n, s, _ in part_lines(split)).get(name, 0.0)
            if seconds > 0:
                rows.setdefault(name, []).append((row, ends[row], ends[row] + seconds * 1e3))
                ends[row] += seconds * 1e3
    return [
        Spans(
            tuple(r for r, _, _ in parts),
            tuple(a for _, a, _ in parts),
            tuple(b for _, _, b in parts),
            "series",
            name,
            names.index(name),
        )
        for name, parts in rows.items()
    ]


def _where_needs(subject: Subject) -> str:
    if _splits(subject):
        return ""
    splits = (time_split(subject.results, c) for c in subject.results.cells if c.done)
    reasons = [s.reason for s in splits if isinstance(s, Missing)]
    return reasons[0] if reasons else "nothing is measured yet"


WHERE = ChartKind(
    "where", "where the time goes", "What takes the time of a token, cell by cell?", "study", _where_needs, _where
)
