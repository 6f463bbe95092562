"""A figure explains itself: what it is, how it was measured, how sure it is, what it is mistaken for."""

from __future__ import annotations

from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.measures.kinds import (
    Measure,
    OfCell,
    OfFacts,
    OverGaps,
    OverLaunches,
    OverRequests,
    PerRepeat,
)
from zinc_kettle.core.record.value import Value
from zinc_kettle.core.results import CellResults
from zinc_kettle.core.text import capitalised
from zinc_kettle.present.values import whole_text

BETTER = {"more": "More is better.", "less": "Less is better.", "neither": "Neither more nor less is better."}


def figure_help(name: str, cell: CellResults | None = None) -> str:
    """A measure explained, as Markdown; with its figure in a cell where one is meant.

    Args:
        name: Of the measure.
        cell: The cell a person stands on.
    """
    measure = MEASURES[name]
    unit = {"s": "seconds", "share": "a share of 1", "bytes": "bytes"}.get(measure.unit, measure.unit)
    lines = [
        f"# {measure.title}",
        "",
        f"{capitalised(measure.meaning)}. In {unit}. {BETTER[measure.better]}",
        "",
    ]
    if cell is not None:
        lines += [f"**{cell.title}**: {_figure(cell, name)}", ""]
    lines += [f"*How it is made*: {_made(measure)}", ""]
    if measure.mistakes:
        lines += [f"*Mistakes to avoid*: {measure.mistakes}", ""]
    if cell is not None and cell.cautions:
        lines += ["*Cautions in this cell*:", "", *(f"- ▲ {c.code}: {c.evidence}" for c in cell.cautions), ""]
    return "\n".join(lines)


def _figure(cell: CellResults, name: str) -> str:
    value = cell.value(name)
    if not isinstance(value, Value):
        return f"it cannot be had here: {value.reason}."
    bounds = {
        "interval95": "the bounds are a 95% interval by order statistics, widened by how the machine wandered",
        "range": "the bounds are the range that was seen; it claims nothing",
    }[value.bound]
    run = (
        "; they tell of this run only, which was too short to have seen how the machine wanders"
        if value.this_run
        else ""
    )
    thin = "; fewer than ten requests lie beyond this percentile" if value.thin else ""
    lost = "; it lies among requests that failed, which count as later than all others" if value.beyond else ""
    return f"{whole_text(value)}, from {value.n} {value.of}; {bounds}{run}{thin}{lost}."


def _made(measure: Measure) -> str:
    source = measure.source
    if isinstance(source, PerRepeat):
        return "computed for each repeat from the stamps of its requests; the figure is the median over repeats."
    if isinstance(source, OverRequests):
        return f"the {100 * source.p:g}th percentile of the requests of all repeats together."
    if isinstance(source, OverGaps):
        what = "tokens" if source.tokens else "pieces of output"
        return f"the {100 * source.p:g}th percentile of the time between {what}, of all requests together."
    if isinstance(source, OverLaunches):
        return "of each launch of the engine; the figure is the median over launches."
    if isinstance(source, OfCell):
        return "of all repeats of a cell together."
    assert isinstance(source, OfFacts)
    return "not measured: it follows from the model and the settings."
