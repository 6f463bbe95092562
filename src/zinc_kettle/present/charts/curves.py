"""Curves over a factor that is a number: scaling, waiting over prompt length, decode over depth, load, memory."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

from zinc_kettle.core.chart import Axis, Chart, Line, Mark, Panel, Points, Rule, Scale
from zinc_kettle.core.compare.reported import series as reported_series
from zinc_kettle.core.lengths import families
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.record.repeat import Missing
from zinc_kettle.core.record.value import Value
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.core.search.capacity import WORDS, CapacityResult, capacities
from zinc_kettle.core.stats import fit_line
from zinc_kettle.core.units import digits, scale
from zinc_kettle.present.answer import main_measure
from zinc_kettle.present.capacity import capacity_answer, interval_text, whole
from zinc_kettle.present.charts.kinds import ChartKind, Subject
from zinc_kettle.present.charts.subtitle import measure_line, notes
from zinc_kettle.present.lengths import slope_text

LEAST_LEVELS = 2
RATES = ("tokens/s", "requests/s")
LOADS = ("rate", "concurrency")
STREAMS = ("concurrency", "slots", "batch")
"""More of these serves more at once: what scales is the throughput of all."""
SCALING = ("threads", "prefill_threads", *STREAMS, "micro_batch")
CONTEXT = ("context", "depth", "prompt_tokens", "slots", "concurrency")
Point = tuple[float, CellResults]


@dataclass(frozen=True, slots=True)
class Curve:
    """Cells that are equal but for one factor, in ascending order of its levels."""

    title: str
    points: tuple[Point, ...]


def numbers(results: StudyResults, among: Sequence[str] = ()) -> list[str]:
    """The factors that vary, are numbers, and have two levels or more."""
    study = results.study
    return [
        name
        for name in among or study.leading
        if len(study.vary.get(name, ())) >= LEAST_LEVELS and study.factors[name].type == "number"
    ]


def curves(results: StudyResults, factor: str) -> list[Curve]:
    """The curves of a study over a factor."""
    tied = results.study.design.tie(factor)
    groups: dict[str, list[Point]] = {}
    for cell in results.cells:
        rest = [cell.cell.factors[n].says(v) for n, v in cell.cell.levels.items() if n not in tied]
        groups.setdefault(" · ".join(rest), []).append((float(cell.cell.levels[factor]), cell))
    return [Curve(title, tuple(sorted(points, key=lambda p: p[0]))) for title, points in groups.items()]


def _levels(subject: Subject, factor: str) -> tuple[float, ...]:
    return tuple(float(level) for level in subject.results.study.vary.get(factor, ()) if isinstance(level, int))


def _figures(curve: Curve, name: str) -> list[tuple[float, Value]]:
    return [(x, v) for x, cell in curve.points if cell.done and isinstance(v := cell.value(name), Value)]


def _keys(curve: Curve, name: str) -> tuple[str, ...]:
    return tuple(c.cell.key for _, c in curve.points if c.done and isinstance(c.value(name), Value))


def factor_of(subject: Subject, among: Sequence[str]) -> str:
    """The factor a curve runs over: the one that was asked for, else the first of these that varies; empty for none."""
    found = numbers(subject.results, among)
    return subject.factor if subject.factor in found else (found[0] if found else "")


def _lacks(subject: Subject, among: Sequence[str], name: str) -> str:
    """Why there is no such curve."""
    factor = factor_of(subject, among)
    if not factor:
        words = [f.replace("_", " ") for f in among]
        return f"none of {', '.join(words)} has two levels in this study"
    if sum(len(_figures(c, name)) for c in curves(subject.results, factor)) < LEAST_LEVELS:
        return f"{MEASURES[name].title} is not measured at two levels yet"
    return ""


def over(
    subject: Subject,
    factor: str,
    name: str,
    *,
    x_scale: Scale = "linear",
    y_scale: Scale = "linear",
    more: Callable[[Curve, float, int], Sequence[Mark]] = lambda _curve, _factor, _series: (),
) -> Panel:
    """A measure over a factor, a line for each combination of the others; others' figures beside them.

    Args:
        subject: What is drawn.
        factor: Along the x axis.
        name: The measure.
        x_scale: Of the x axis.
        y_scale: Of the y axis.
        more: Further marks of a curve, given the factor to the shown unit and its series.
    """
    found = [(curve, _figures(curve, name)) for curve in curves(subject.results, factor)]
    found = [(curve, figures) for curve, figures in found if figures]
    top = max((v.value for _, figures in found for _, v in figures), default=1.0)
    _, unit, times = scale(top, MEASURES[name].unit)
    marks: list[Mark] = []
    for series, (curve, figures) in enumerate(found):
        x, y = tuple(x for x, _ in figures), tuple(v.value * times for _, v in figures)
        low, high = tuple(v.low * times for _, v in figures), tuple(v.high * times for _, v in figures)
        title = curve.title or ("measured" if len(found) == 1 else "")
        marks += [
            Line(x, y, title, series),
            Points(x, y, low, high, title, series, keys=_keys(curve, name)),
            *more(curve, times, series),
        ]
    marks += _others(subject, factor, name, times, len(found))
    axis = subject.results.study.factors[factor]
    low_x = None if x_scale == "log" else 0.0
    return Panel(
        Axis(axis.heading, x_scale, low=low_x, levels=_levels(subject, factor)),
        Axis(f"{MEASURES[name].title} ({unit})", y_scale, low=None if y_scale == "log" else 0.0),
        tuple(marks),
    )


def _others(subject: Subject, factor: str, name: str, times: float, first: int) -> list[Mark]:
    """Somebody else's figures over the same factor, dashed and hollow."""
    out: list[Mark] = []
    for series, (title, points) in enumerate(reported_series(subject.others, name, factor).items(), start=first):
        x, y = tuple(at for at, _ in points), tuple(r.value * times for _, r in points)
        out += [
            Line(x, y, title, series, dashed=True),
            Points(x, y, name=title, series=series, hollow=frozenset(range(len(x)))),
        ]
    return out


def _chart(subject: Subject, name: str, panels: Sequence[Panel], *more: str) -> Chart:
    results = subject.results
    said = [f"{name} are reported, not measured here" for name in dict.fromkeys(r.source for r in subject.others)]
    return Chart(results.study.question, measure_line(results, name), tuple(panels), (*notes(results), *more, *said))


def _waits(subject: Subject) -> str:
    return subject.measure if MEASURES[subject.measure].unit == "s" else "ttft"


# scaling
def _scaled_measure(subject: Subject) -> str:
    if factor_of(subject, SCALING) in STREAMS:
        return "throughput"
    return subject.measure if MEASURES[subject.measure].unit in RATES else "decode"


def _scaling(subject: Subject) -> Chart:
    """Speed with the ideal line through each curve's first level, and how much of the ideal is reached."""
    factor, name = factor_of(subject, SCALING), _scaled_measure(subject)

    def ideal(curve: Curve, times: float, series: int) -> Sequence[Mark]:
        figures = _figures(curve, name)
        (x0, first), x1 = figures[0], figures[-1][0]
        ends = (first.value * times, first.value * times * x1 / x0)
        return (Line((x0, x1), ends, "ideal", series, "faint", dashed=True),)

    speed = over(subject, factor, name, x_scale="log", y_scale="log", more=ideal)
    marks: list[Mark] = []
    for series, curve in enumerate(c for c in curves(subject.results, factor) if _figures(c, name)):
        figures = _figures(curve, name)
        x0, first = figures[0]
        x = tuple(x for x, _ in figures)
        y = tuple(100 * v.value / first.value * x0 / at for at, v in figures)
        marks += [
            Line(x, y, curve.title or "measured", series),
            Points(x, y, name=curve.title or "measured", series=series),
        ]
    share = Panel(
        replace(speed.x, title=speed.x.title),
        Axis("efficiency (% of ideal)", low=0.0),
        (Rule(100.0, "y", tone="faint"), *marks),
    )
    return _chart(
        subject, name, (speed, share), "ideal: as many times the first level's speed as there are more of them"
    )


SCALING_KIND = ChartKind(
    "scaling",
    "scaling",
    "What do more threads, streams or slots bring, and how much of the ideal is that?",
    "study",
    lambda s: _lacks(s, SCALING, _scaled_measure(s)),
    _scaling,
)


# waiting over prompt length
STRETCHES = 16
"""Of which a fitted curve is drawn."""


def _ttft(subject: Subject) -> Chart:
    """TTFT over prompt length, with the line of each family: its slope is the prefill speed."""
    fits = {f.title: f.slope for f in families(subject.results) if f.varied == "prompt_tokens"}

    def fitted(curve: Curve, times: float, series: int) -> Sequence[Mark]:
        slope = fits.get(curve.title)
        if slope is None or isinstance(slope, Missing):
            return ()
        first, last = slope.line.x_low, slope.line.x_high
        at = tuple(first + (last - first) * i / STRETCHES for i in range(STRETCHES + 1))
        heights = tuple(slope.seconds(x) * times for x in at)
        return (Line(at, heights, "fit", series, "muted", dashed=True),)

    panel = over(subject, "prompt_tokens", _waits(subject), more=fitted)
    said = [f"{title}: {slope_text(s)}".strip(": ") for title, s in fits.items() if not isinstance(s, Missing)]
    return _chart(subject, _waits(subject), (panel,), *said[:2])


TTFT_KIND = ChartKind(
    "ttft-length",
    "wait over length",
    "How does the wait grow with the prompt, and what does a token of it cost?",
    "study",
    lambda s: _lacks(s, ("prompt_tokens",), _waits(s)),
    _ttft,
)


# decode over depth
DEPTHS = ("depth", "prompt_tokens")


def _depth(subject: Subject) -> Chart:
    return _chart(subject, "decode", (with_pace(subject, over(subject, factor_of(subject, DEPTHS), "decode")),))


def with_pace(subject: Subject, panel: Panel) -> Panel:
    """A panel of decode speeds with the pace a person needs drawn through."""
    if subject.pace is None:
        return panel
    return replace(panel, marks=(*panel.marks, Rule(subject.pace.rate, "y", subject.pace.name, "muted")))


DEPTH_KIND = ChartKind(
    "depth",
    "decode over depth",
    "How much slower does decoding get, the more is in the context?",
    "study",
    lambda s: _lacks(s, DEPTHS, "decode"),
    _depth,
)


# load
def load_measure(subject: Subject) -> str:
    """What a load makes worse: the measure asked about where it is a time, else the study's own, else TTFT p95."""
    own = main_measure(subject.results.study)
    return next((name for name in (subject.measure, own) if MEASURES[name].unit == "s"), "ttft_p95")


def _load(subject: Subject) -> Chart:
    """A wait over the load, with what was promised, and where the promise breaks."""
    factor, name = factor_of(subject, LOADS), load_measure(subject)
    if factor == subject.results.study.capacity.factor:
        return _searched(subject, factor)
    promise = subject.results.study.promise
    panel = over(subject, factor, name, y_scale="log")
    limit = promise.ttft_s if name.startswith("ttft") else promise.tpot_s if name == "tpot" else None
    marks: list[Mark] = [*panel.marks]
    if limit is not None:
        _, _, times = scale(
            max((v.value for c in curves(subject.results, factor) for _, v in _figures(c, name)), default=1.0), "s"
        )
        marks.append(Rule(limit * times, "y", f"promised: {digits(limit)} s", "caution"))
    panels = [replace(panel, marks=tuple(marks))]
    said = []
    if promise.made:
        kept = over(subject, factor, "promise_kept")
        promised = Rule(promise.percentile, "y", f"promised: {promise.percentile:g}%", "caution")
        panels.append(replace(kept, y=replace(kept.y, high=100.0), marks=(*kept.marks, promised)))
        said = [words for c in curves(subject.results, factor) if (words := breaks(c, promise.percentile))]
    return _chart(subject, name, panels, *said)


def _searched(subject: Subject, factor: str) -> Chart:
    """The curve a search for the limit walked: what was promised as a share of its limit, and the throughput."""
    results, promise = subject.results, subject.results.study.promise
    found = capacities(results)
    rules = [Rule(f.load, "x", _limit_label(f, factor), "best") for f in found.values() if f.load and f.first]
    marks: list[Mark] = [Rule(100.0, "y", "the limit that is promised", "caution"), *rules]
    for place, (title, of) in enumerate(found.items()):
        for nth, limit in enumerate(sorted({limit for t in of.trials for limit in t.over})):
            rows = [(t.load, 100 * math.exp(t.over[limit])) for t in of.trials if limit in t.over]
            x, y = tuple(load for load, _ in rows), tuple(share for _, share in rows)
            name, series = " · ".join(word for word in (title, WORDS[limit]) if word), 2 * place + nth
            marks += [Line(x, y, name, series), Points(x, y, name=name, series=series)]
    axis = results.study.factors[factor]
    share = Panel(
        Axis(axis.heading, low=0.0, levels=_levels(subject, factor)),
        Axis(f"p{promise.percentile:g} (% of its limit)", "log"),
        tuple(marks),
    )
    speed = over(subject, factor, "throughput")
    speed = replace(speed, marks=(*speed.marks, *(replace(rule, label="") for rule in rules)))
    said = f"p{promise.percentile:g} of the requests in full load: without those that meet it filling or draining"
    return _chart(subject, "throughput", (share, speed), capacity_answer(results), said)


def _limit_label(found: CapacityResult, factor: str) -> str:
    assert found.load is not None
    bounds = interval_text(found, factor)
    return f"limit {whole(found.load, factor)}{f' ({bounds})' if bounds else ''}"


def breaks(curve: Curve, percentile: float) -> str:
    """Between which levels a promise breaks; empty where it is not known, or never does."""
    kept = [(x, v.value * 100 >= percentile) for x, v in _figures(curve, "promise_kept")]
    first = next((i for i, (_, good) in enumerate(kept) if not good), None)
    if first is None:
        return ""
    name = f"{curve.title}: " if curve.title else ""
    if first == 0:
        return f"{name}the promise is broken from {kept[0][0]:g} on"
    return f"{name}the promise breaks between {kept[first - 1][0]:g} and {kept[first][0]:g}"


LOAD_KIND = ChartKind(
    "load",
    "load",
    "How does the wait grow with the load, and where does the promise break?",
    "study",
    lambda s: _lacks(s, LOADS, load_measure(s)),
    _load,
)


# memory
def _memory(subject: Subject) -> Chart:
    """Peak memory over what fills it, with a line through each curve: what one more of it costs."""
    factor = factor_of(subject, CONTEXT)
    noun = subject.results.study.factors[factor].noun or subject.results.study.factors[factor].heading
    said: list[str] = []

    def fitted(curve: Curve, times: float, series: int) -> Sequence[Mark]:
        figures = _figures(curve, "memory")
        line = fit_line([x for x, _ in figures], [v.value for _, v in figures])
        if line is None:
            return ()
        said.append(f"{curve.title + ': ' if curve.title else ''}{digits(line.slope / 1e3)} kB for each {noun}")
        ends = (line.x_low, line.x_high)
        return (
            Line(
                ends,
                tuple((line.intercept + line.slope * x) * times for x in ends),
                "fit",
                series,
                "muted",
                dashed=True,
            ),
        )

    panel = over(subject, factor, "memory", more=fitted)
    return _chart(subject, "memory", (panel,), *said[:3])


MEMORY_KIND = ChartKind(
    "memory",
    "memory",
    "How much memory does more context, or do more streams, take?",
    "study",
    lambda s: _lacks(s, CONTEXT, "memory"),
    _memory,
)
