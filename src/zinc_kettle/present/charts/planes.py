"""One measure against another, a point for each cell: the frontier, energy against speed, size, prediction."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
import numpy.typing as npt

from zinc_kettle.core.chart import Axis, Chart, Label, Line, Mark, Panel, Points, Rule
from zinc_kettle.core.compare.cells import by_block_of
from zinc_kettle.core.compare.reported import pairs as reported_pairs
from zinc_kettle.core.frontier import frontier, knee
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.record.value import Value
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.core.stats.blocks import in_blocks, shared_blocks
from zinc_kettle.core.units import digits, scale
from zinc_kettle.present.charts.curves import LOADS
from zinc_kettle.present.charts.kinds import ChartKind, Subject
from zinc_kettle.present.charts.subtitle import measure_line, notes
from zinc_kettle.present.fit_rows import FitRow

LEAST = 2


def _both(results: StudyResults, x: str, y: str) -> list[tuple[CellResults, Value, Value]]:
    """The measured cells that have both measures."""
    return [
        (cell, a, b)
        for cell in results.cells
        if cell.done and isinstance(a := cell.value(x), Value) and isinstance(b := cell.value(y), Value)
    ]


def _few(subject: Subject, x: str, y: str) -> str:
    found = _both(subject.results, x, y)
    if len(found) >= LEAST:
        return ""
    without = x if not any(isinstance(c.value(x), Value) for c in subject.results.cells) else y
    return f"it needs {MEASURES[without].title} of two cells or more"


def _names(cell: CellResults, apart: Sequence[str]) -> tuple[str, str]:
    """The series a cell belongs to, by what is not among some factors, and its label, by what is."""
    levels = cell.cell.levels
    said = {n: cell.cell.factors[n].says(v) for n, v in levels.items()}
    series = " · ".join(text for n, text in said.items() if n not in apart)
    return series, " · ".join(text for n, text in said.items() if n in apart)


def _apart(results: StudyResults, wanted: Sequence[str]) -> list[str]:
    """Factors that label a point: those wanted that vary, else all but the first."""
    leading = results.study.leading
    found = [n for n in leading if n in wanted]
    return found or leading[1:] or leading


def _plane(
    subject: Subject, x: str, y: str, apart: Sequence[str], *, lines: bool = False, muted: frozenset[str] = frozenset()
) -> tuple[list[Mark], float, float, str, str]:
    """Points of all cells by series, with labels; factors and units of both axes.

    Args:
        subject: What is drawn.
        x: Measure along the x axis.
        y: Along the y axis.
        apart: Factors that label a point.
        lines: Join the points of a series.
        muted: Keys of cells that are drawn dim.
    """
    found = _both(subject.results, x, y)
    _, x_unit, fx = scale(max(a.value for _, a, _ in found), MEASURES[x].unit)
    _, y_unit, fy = scale(max(b.value for _, _, b in found), MEASURES[y].unit)
    groups: dict[str, list[tuple[CellResults, Value, Value, str]]] = {}
    for cell, a, b in found:
        series, label = _names(cell, apart)
        groups.setdefault(series or "measured", []).append((cell, a, b, label))
    marks: list[Mark] = []
    labels: list[Label] = []
    for place, (name, members) in enumerate(groups.items()):
        if lines:
            at = tuple(a.value * fx for _, a, _, _ in members), tuple(b.value * fy for _, _, b, _ in members)
            marks.append(Line(*at, name, place, "faint"))
        for dim in (True, False):
            some = [m for m in members if (m[0].cell.key in muted) == dim]
            if some:
                marks.append(
                    Points(
                        tuple(a.value * fx for _, a, _, _ in some),
                        tuple(b.value * fy for _, _, b, _ in some),
                        tuple(b.low * fy for _, _, b, _ in some),
                        tuple(b.high * fy for _, _, b, _ in some),
                        name,
                        place,
                        "muted" if dim else "series",
                        keys=tuple(c.cell.key for c, *_ in some),
                    )
                )
        labels += [
            Label(a.value * fx, b.value * fy, label)
            for cell, a, b, label in members
            if label and cell.cell.key not in muted
        ]
    marks += _apart_labels(labels)
    for place, (name, both) in enumerate(reported_pairs(subject.others, x, y).items(), start=len(groups)):
        xs, ys = tuple(a.value * fx for a, _ in both), tuple(b.value * fy for _, b in both)
        marks.append(Points(xs, ys, name=name, series=place, hollow=frozenset(range(len(xs)))))
    return marks, fx, fy, x_unit, y_unit


NEAR = 0.045
"""Labels nearer to each other than this share of both axes would cover each other."""


def _apart_labels(labels: Sequence[Label]) -> list[Label]:
    """The labels that do not cover one before them."""
    wide = max((abs(m.x) for m in labels), default=1.0) or 1.0
    tall = max((abs(m.y) for m in labels), default=1.0) or 1.0
    kept: list[Label] = []
    for m in labels:
        if all(abs(m.y - k.y) > NEAR * tall or abs(m.x - k.x) > 4 * NEAR * wide for k in kept):
            kept.append(m)
    return kept


def _chart(subject: Subject, name: str, panel: Panel, *more: str) -> Chart:
    results = subject.results
    said = [f"{source}: reported, not measured here" for source in dict.fromkeys(r.source for r in subject.others)]
    return Chart(results.study.question, measure_line(results, name), (panel,), (*notes(results), *more, *said))


def _axis(name: str, unit: str) -> Axis:
    return Axis(f"{MEASURES[name].title} ({unit})", low=0.0)


# the frontier
def _frontier(subject: Subject) -> Chart:
    """Throughput of all streams against the speed each user sees; what another point beats in both is dim."""
    x, y = "decode", "throughput"
    found = _both(subject.results, x, y)
    best = frontier([(a.value, b.value) for _, a, b in found])
    dim = frozenset(cell.cell.key for i, (cell, _, _) in enumerate(found) if i not in best)
    apart = _apart(subject.results, (*LOADS, "slots", "batch"))
    marks, fx, fy, x_unit, y_unit = _plane(subject, x, y, apart, muted=dim)
    edge = [(found[i][1].value * fx, found[i][2].value * fy) for i in best]
    marks.insert(0, Line(tuple(a for a, _ in edge), tuple(b for _, b in edge), "frontier", tone="ink"))
    said = []
    bend = knee(_by_block([found[i][0] for i in best], (x, y)))
    if bend is not None:
        cell, (each, together) = found[best[bend.at]][0], edge[bend.at]
        marks.append(Points((each,), (together,), name="knee", tone="best"))
        said.append(f"knee: {cell.title}, {digits(together)} {y_unit} together at {digits(each)} for each")
        if bend.low < bend.high:
            ends = (found[best[place]][0].title for place in (bend.low, bend.high))
            said.append(f"it may lie anywhere from {' to '.join(ends)}")
    elif len(best) > 2:
        said.append("no knee: the frontier is not clearly bent")
    if subject.pace is not None:
        marks.append(Rule(subject.pace.rate, "x", subject.pace.name, "muted"))
        said.append(f"{subject.pace.name}: {digits(subject.pace.rate)} tok/s, {subject.pace.origin}")
    panel = Panel(
        Axis(f"decode, each user ({x_unit})", low=0.0), Axis(f"throughput, all ({y_unit})", low=0.0), tuple(marks)
    )
    return _chart(subject, y, panel, *said)


def _by_block(cells: Sequence[CellResults], names: Sequence[str]) -> npt.NDArray[np.float64]:
    """Measures of cells in the blocks that all of them have; shape (blocks, cells, measures)."""
    taken = [by_block_of(cells, name) for name in names]
    rows = [mine.get(cell.cell.key, {}) for cell in cells for mine in taken]
    shared = shared_blocks(rows)
    return in_blocks(rows, shared).T.reshape(len(shared), len(cells), len(names))


def _frontier_needs(subject: Subject) -> str:
    varied = [n for n in (*LOADS, "slots", "batch") if len(subject.results.study.vary.get(n, ())) > 1]
    if not varied:
        return "no load varies in this study (concurrency, rate, slots or batch)"
    return _few(subject, "decode", "throughput")


FRONTIER = ChartKind(
    "frontier",
    "frontier",
    "How much can it serve in all, and what does that leave for each user?",
    "study",
    _frontier_needs,
    _frontier,
)


# energy
def _energy(subject: Subject) -> Chart:
    marks, _, _, x_unit, y_unit = _plane(subject, "energy_token", "decode", _apart(subject.results, ()))
    panel = Panel(_axis("energy_token", x_unit), _axis("decode", y_unit), tuple(marks))
    return _chart(subject, "energy_token", panel, "upper left is better: faster, and less energy for each token")


ENERGY = ChartKind(
    "energy",
    "energy",
    "What does speed cost in energy for each token?",
    "study",
    lambda s: _few(s, "energy_token", "decode"),
    _energy,
)


# size
def _size(subject: Subject) -> Chart:
    """Decode over the size of the model file: what is bound by bandwidth falls with it."""
    apart = [n for n in subject.results.study.leading if n in {"model", "quantization"}]
    marks, _, _, x_unit, y_unit = _plane(subject, "file_size", "decode", apart, lines=True)
    pace = [Rule(subject.pace.rate, "y", subject.pace.name, "caution")] if subject.pace is not None else []
    by_size = Panel(_axis("file_size", x_unit), _axis("decode", y_unit), (*marks, *pace))
    stored = {v.value for _, v, _ in _both(subject.results, "bits_per_weight", "decode")}
    if not _few(subject, "bits_per_weight", "decode") and max(stored) > 1.02 * min(stored):
        marks, _, _, x_unit, y_unit = _plane(subject, "bits_per_weight", "decode", apart, lines=True)
        bits = Panel(_axis("bits_per_weight", x_unit), _axis("decode", y_unit), tuple(marks))
        chart = _chart(subject, "decode", by_size)
        return Chart(chart.title, chart.subtitle, (by_size, bits), chart.notes)
    return _chart(subject, "decode", by_size)


def _size_needs(subject: Subject) -> str:
    few = _few(subject, "file_size", "decode")
    sizes = {v.value for _, v, _ in _both(subject.results, "file_size", "decode")}
    return few or ("" if len(sizes) >= LEAST else "all its cells run the same model file")


SIZE = ChartKind(
    "size",
    "size",
    "How does speed fall with the size of the model, and with its bits per weight?",
    "study",
    _size_needs,
    _size,
)


# prediction
def _predictions(subject: Subject) -> Mapping[str, FitRow]:
    return {} if subject.predicted is None else subject.predicted()


def _predicted_needs(subject: Subject) -> str:
    if subject.predicted is None:
        return "nothing is predicted here"
    return "" if len(_pairs(subject)) >= LEAST else "it needs measured cells of which model and rig are known"


def _pairs(subject: Subject) -> list[tuple[CellResults, FitRow, Value]]:
    rows = _predictions(subject)
    return [
        (cell, row, v)
        for cell in subject.results.cells
        if (row := rows.get(cell.cell.key)) is not None
        and row.decode is not None
        and cell.done
        and isinstance(v := cell.value("decode"), Value)
    ]


def _predicted(subject: Subject) -> Chart:
    """Measured over predicted decode, with the line where both agree."""
    found = _pairs(subject)
    apart = _apart(subject.results, ())
    groups: dict[str, list[tuple[float, Value, str]]] = {}
    for cell, row, value in found:
        series, label = _names(cell, apart)
        assert row.decode is not None
        groups.setdefault(series or "measured", []).append((row.decode.value, value, label))
    ends = [v.value for _, _, v in found] + [x for rows in groups.values() for x, _, _ in rows]
    low, high = min(ends), max(ends)
    marks: list[Mark] = [Line((low, high), (low, high), "as predicted", tone="muted", dashed=True)]
    labels: list[Label] = []
    for place, (name, rows) in enumerate(groups.items()):
        marks.append(
            Points(
                tuple(x for x, _, _ in rows),
                tuple(v.value for _, v, _ in rows),
                tuple(v.low for _, v, _ in rows),
                tuple(v.high for _, v, _ in rows),
                name,
                place,
            )
        )
        labels += [Label(x, v.value, label) for x, v, label in rows if label]
    marks += _apart_labels(labels)
    panel = Panel(Axis("decode, predicted (tok/s)", "log"), Axis("decode, measured (tok/s)", "log"), tuple(marks))
    off = [abs(v.value / row.decode.value - 1) for _, row, v in found if row.decode is not None]
    return _chart(subject, "decode", panel, f"the farthest is {max(off):.0%} from what was predicted")


PREDICTED = ChartKind(
    "predicted",
    "prediction",
    "Is it as fast as was predicted before anything was loaded?",
    "study",
    _predicted_needs,
    _predicted,
)
