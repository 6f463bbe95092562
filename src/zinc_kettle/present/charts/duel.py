"""One side against another as a chart: ratios around a line at 1, each to the side of the one it favours."""

from __future__ import annotations

from collections.abc import Sequence

from zinc_kettle.core.chart import Axis, Chart, Panel, Ranges, Rule, Tone
from zinc_kettle.core.compare.duel import (
    Duel,
    MeasureComparison,
    PairContest,
    Rung,
    Verdict,
    pair_by_pair,
    request_measure,
)
from zinc_kettle.core.compare.sides import Pair
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.stats import Interval
from zinc_kettle.core.text import capitalised
from zinc_kettle.core.units import digits, with_unit
from zinc_kettle.present.charts.subtitle import notes
from zinc_kettle.present.duel import (
    STEP_VERDICTS,
    VERDICTS,
    differs_line,
    of_one_run,
    pairs_line,
    ratio_text,
    run_title,
    rung_title,
    side_title,
    verdict,
)

LEAST, MOST = 1.1, 8.0
"""An axis that zooms into a tremble would make it look like a storm; one row far off would flatten all others."""
MOST_ROWS = 40
"""Pairs or prompts that are drawn; all count."""
AXIS = "← A is better      B is better →"
STEP_AXIS = "← worse      better →"


def duel_chart(found: Duel, measure: str, *, step: bool = False) -> Chart:
    """Every measure of a duel; the one asked about stands out.

    Args:
        found: The duel.
        measure: The one the verdict is about.
        step: It is a step in a ladder, or all of it.
    """
    rows = [c for c in found.contests if c.ratio is not None and MEASURES[c.measure].better != "neither"]
    panel = _panel(
        [(MEASURES[c.measure].title, *_values(c), c.ratio, c.measure, c.verdict, c.measure == measure) for c in rows],
        step=step,
    )
    said = verdict(found, measure)
    return Chart(
        f"{capitalised(said)}.",
        f"A {side_title(found.a)} · B {side_title(found.b)} · differs: {differs_line(found)} · {pairs_line(found)}",
        (panel,),
        (*_notes(found), *found.cautions),
    )


def _notes(found: Duel, over: str = "B over A") -> tuple[str, ...]:
    both = *notes(found.a.results), *notes(found.b.results)
    return (f"bars: 95% interval of {over}; a range below three repeats", *dict.fromkeys(both))


_Row = tuple[str, str, str, "Interval | None", str, Verdict, bool]
"""Name, A, B, ratio, measure, verdict, whether it is the one asked about."""


def _values(contest: MeasureComparison) -> tuple[str, str]:
    unit = MEASURES[contest.measure].unit
    a, b = ("–" if v is None else with_unit(v, unit) for v in (contest.a, contest.b))
    return a, b


def _panel(rows: Sequence[_Row], title: str = "", keys: Sequence[str] = (), *, step: bool = False) -> Panel:
    words, axis = (STEP_VERDICTS, STEP_AXIS) if step else (VERDICTS, AXIS)
    told = [(row, _advantage(row[3], row[4])) for row in rows if row[3] is not None]
    if not told:
        return Panel(
            Axis(), Axis(scale="categories"), title=title, empty="a comparison needs three repeats of both sides"
        )
    far = max([LEAST, *(max(high, 1 / low) for _, (_, low, high) in told if low > 0)])
    edge = min(MOST, far * 1.05)
    value, low, high = (tuple(min(edge, max(1 / edge, bounds[i])) for _, bounds in told) for i in (0, 1, 2))
    marks = Ranges(
        tuple(range(len(told))),
        value,
        low,
        high,
        tones=tuple(_tone(row[5], asked=row[6]) for row, _ in told),
        before=tuple(row[1] for row, _ in told),
        after=tuple(f"{row[2]:>11}  {ratio_text(row[3])}  {words[row[5]]}" for row, _ in told),
        keys=tuple(keys),
    )
    names = tuple(row[0] for row, _ in told)
    return Panel(
        Axis(axis, "log", low=1 / edge, high=edge, unit="×"),
        Axis(scale="categories", labels=names),
        (Rule(1.0, "x", tone="muted"), marks),
        title,
    )


def _tone(said: Verdict, *, asked: bool) -> Tone:
    if asked:
        return "best"
    return "ink" if said in {"a", "b"} else "muted"


def _advantage(ratio: Interval | None, measure: str) -> tuple[float, float, float]:
    """How many times B is better: B over A, or A over B where less is better."""
    assert ratio is not None
    low = max(ratio.low, 1e-9)
    if MEASURES[measure].better == "more":
        return ratio.value, low, ratio.high
    return 1 / ratio.value, 1 / max(ratio.high, 1e-9), 1 / low


def _shared(pair: Pair) -> str:
    """The levels both cells have."""
    both = pair.a.cell.levels.items() & pair.b.cell.levels.items()
    return " · ".join(pair.a.cell.factors[n].says(v) for n, v in pair.a.cell.levels.items() if (n, v) in both)


def pairs_chart(found: Duel, measure: str) -> Chart:
    """Each pair of cells by itself: is the difference the same everywhere?

    Args:
        found: The duel.
        measure: The one asked about.
    """
    contests, unit = pair_by_pair(found, measure), MEASURES[measure].unit
    rows: list[_Row] = [
        (
            _shared(c.pair) or c.pair.b.title,
            with_unit(c.a, unit),
            with_unit(c.b, unit),
            c.ratio,
            measure,
            c.verdict,
            False,
        )
        for c in contests
    ]
    title = f"{MEASURES[measure].title}, pair by pair" + (
        f", {MOST_ROWS} of {len(rows):,}" if len(rows) > MOST_ROWS else ""
    )
    panel = _panel(rows[:MOST_ROWS], title, [c.pair.b.cell.key for c in contests])
    return Chart(
        f"{MEASURES[measure].title}, pair by pair",
        f"A {side_title(found.a)} · B {side_title(found.b)}",
        (panel,),
        (*_notes(found), "all pairs are one family (Holm)"),
    )


def prompts_chart(found: Duel, measure: str, rows: Sequence[PairContest]) -> Chart:
    """Prompt by prompt.

    Args:
        found: The duel.
        measure: The one asked about.
        rows: Its prompts.
    """
    name = request_measure(measure)
    unit = MEASURES[name].unit
    many = len(found.alignment.pairs) > 1
    panel = _panel(
        [
            (
                f"{row.place + 1}" + (f" · {_shared(row.pair)}" if many else ""),
                with_unit(row.a, unit),
                with_unit(row.b, unit),
                row.ratio,
                name,
                row.verdict,
                False,
            )
            for row in rows[:MOST_ROWS]
        ],
        f"{MEASURES[name].title}, prompt by prompt",
        [row.pair.b.cell.key for row in rows],
    )
    clear = sum(row.verdict in {"a", "b"} for row in rows)
    return Chart(
        f"{MEASURES[name].title}, prompt by prompt: {clear} of {len(rows)} clearly differ",
        f"A {side_title(found.a)} · B {side_title(found.b)} · {pairs_line(found)}",
        (panel,),
        (*_notes(found), "all prompts are one family (Holm)"),
    )


def ladder_chart(rungs: Sequence[Rung], measure: str) -> Chart:
    """Each step against the one before it, and each against the first.

    Args:
        rungs: The steps.
        measure: The one asked about.
    """
    panels = []
    sides = [rungs[0].step.a, *(rung.side for rung in rungs)]
    for title, pick in (("each against the one before", "step"), ("each against the first", "whole")):
        rows: list[_Row] = []
        for rung in rungs:
            found: Duel = getattr(rung, pick)
            contest = found.contest(measure) or MeasureComparison(measure, None, None, None)
            name = differs_line(found).split(" (")[0] if pick == "step" else rung_title(rung.side, sides)
            rows.append((name, *_values(contest), contest.ratio, measure, contest.verdict, False))
        panels.append(_panel(rows, title, step=True))
    first, last = rung_title(sides[0], sides), rung_title(sides[-1], sides)
    of = f" · {run_title(sides[0])}" if of_one_run(sides) else ""
    whole = rungs[-1].whole.contest(measure)
    times = "" if whole is None or whole.ratio is None else f": {digits(whole.ratio.value)} times"
    return Chart(
        f"{MEASURES[measure].title}, from {first} to {last}{times}",
        f"{len(rungs)} steps, each against the one before it, and against the first{of}",
        tuple(panels),
        _notes(rungs[-1].whole, "the later over the earlier"),
    )
