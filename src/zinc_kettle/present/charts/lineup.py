"""A lineup and an index as charts: a row for each side, its interval, and what it needs to reach."""

from __future__ import annotations

from collections.abc import Sequence

from zinc_kettle.core.chart import Axis, Chart, Mark, Panel, Ranges, Rule, Tone
from zinc_kettle.core.compare.lineup import Group, Lineup, Place
from zinc_kettle.core.compare.reported import Reported, of_measure
from zinc_kettle.core.compare.speed_index import Index
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.preferences import Pace
from zinc_kettle.core.text import capitalised
from zinc_kettle.core.units import scale
from zinc_kettle.present.charts.subtitle import notes
from zinc_kettle.present.lineup import (
    REPORTED,
    beside_value,
    bracket_marks,
    money_line,
    pace_mark,
    per_unit,
    ranked_by,
    reported_text,
    times_text,
    value_of,
    verdict,
)

MUTED: Tone = "muted"


def lineup_chart(found: Lineup, pace: Pace, others: Sequence[Reported] = ()) -> Chart:
    """A panel for each class of size, its sides from best to worst; what others report stands below, unranked."""
    said = verdict(found)
    panels = tuple(_panel(group, found, pace) for group in found.groups)
    told = [] if found.per else of_measure(others, found.measure)
    if told and panels:
        panels = (*panels, _reported(told, panels[0]))
    about = [note for g in found.groups for p in g.places[:1] for note in notes(p.entrant.side.results)]
    left = [f"not ranked: {left.entrant.name}, {left.reason}" for left in found.left]
    what = "task" if found.per == "score" else "cell"
    shared = f"geometric mean over {found.shared} {what}s that all share"
    if found.shared <= 1:
        shared = f"in the one {what} they share"
    return Chart(
        f"{capitalised(said)}.",
        f"{ranked_by(found)}: {shared}",
        panels or (Panel(Axis(), Axis(), empty="nothing can be ranked"),),
        (*dict.fromkeys(about), "in one bracket: no clear difference", money_line(found, pace), *left),
    )


def _panel(group: Group, found: Lineup, pace: Pace) -> Panel:
    places = group.places
    top = max(p.high for p in places)
    times = 1.0 if found.per else scale(top, MEASURES[found.measure].unit)[2]
    unit = per_unit(found) if found.per else scale(top, MEASURES[found.measure].unit)[1]
    marks: list[Mark] = []
    if MEASURES[found.measure].unit == "tokens/s" and not found.per and pace.rate <= top:
        marks.append(Rule(pace.rate * times, "x", pace.name, "caution"))
    marks.append(
        Ranges(
            tuple(range(len(places))),
            tuple(p.value * times for p in places),
            tuple(p.low * times for p in places),
            tuple(p.high * times for p in places),
            tuple("best" if i == 0 or p.entrant.name in places[0].alike else "ink" for i, p in enumerate(places)),
            before=tuple(f"{bracket} {i}" for i, bracket in enumerate(bracket_marks(group), start=1)),
            after=tuple(
                "  ".join(w for w in (*value_of(p, found), _parts(p, found), pace_mark(p)) if w) for p in places
            ),
        )
    )
    title = (unit or found.per) if found.per in {"cost", "score"} else f"{MEASURES[found.measure].title} ({unit})"
    return Panel(
        Axis(title, low=0.0),
        Axis(scale="categories", labels=tuple(p.entrant.name for p in places)),
        tuple(marks),
        group.title,
    )


def _parts(place: Place, found: Lineup) -> str:
    """What prompts and what answers cost by themselves, where that can be told."""
    return "" if place.input_cost is None else "prompts {}, answers {}".format(*beside_value(place, found))


def _reported(told: Sequence[Reported], beside: Panel) -> Panel:
    """Figures of others on the axis of the first panel: of other work than ours, as far as anybody knows."""
    unit = MEASURES[told[0].measure].unit
    largest = max(value for mark in beside.marks if isinstance(mark, Ranges) for value in mark.high)
    times = scale(max(f.value for f in told), unit)[2]
    marks = Ranges(
        tuple(range(len(told))),
        tuple(f.value * times for f in told),
        tuple((f.value if f.low is None else f.low) * times for f in told),
        tuple((f.value if f.high is None else f.high) * times for f in told),
        tuple(MUTED for _ in told),
        after=tuple(reported_text(f) for f in told),
    )
    high = max(largest, *(f.value * times for f in told))
    names = tuple(" · ".join(word for word in (f.name, f.at, f.workload) if word) for f in told)
    across = Axis(beside.x.title, low=0.0, high=high)
    return Panel(across, Axis(scale="categories", labels=names), (marks,), REPORTED)


def index_chart(found: Sequence[Index], reference: str) -> Chart:
    """The index of each side: both together, then prefill and decode apart."""
    panels = []
    ready = [i for i in found if i.both is not None]
    every = [v for i in ready for v in (i.both, i.prefill, i.decode) if v is not None]
    low, high = min((v.low for v in every), default=1.0) / 1.1, max((v.high for v in every), default=1.0) * 1.1
    for title, pick in (("prefill and decode together", "both"), ("prefill", "prefill"), ("decode", "decode")):
        rows = [(i.entrant.name, v) for i in ready if (v := getattr(i, pick)) is not None]
        rows.sort(key=lambda row: -row[1].value)
        marks: list[Mark] = [Rule(1.0, "x", "", "muted")]
        if rows:
            marks.append(
                Ranges(
                    tuple(range(len(rows))),
                    tuple(v.value for _, v in rows),
                    tuple(v.low for _, v in rows),
                    tuple(v.high for _, v in rows),
                    tuple("muted" if n == reference else "ink" for n, _ in rows),
                    after=tuple(times_text(v) for _, v in rows),
                )
            )
        names = tuple(name for name, _ in rows)
        across = Axis(f"times {reference}", "log", low=low, high=high)
        empty = "" if rows else "too few repeats"
        panels.append(Panel(across, Axis(scale="categories", labels=names), tuple(marks), title, empty))
    cells = max((i.shared for i in ready), default=0)
    about = [note for i in ready[:1] for note in notes(i.entrant.side.results)]
    return Chart(
        f"How many times as fast as {reference}?",
        f"geometric mean of ratios over {cells} cells both share",
        tuple(panels),
        (*about, *(f"{i.entrant.name}: {i.reason}" for i in found if i.reason)),
    )
