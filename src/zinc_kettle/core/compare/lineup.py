"""From best to worst: sides ranked by one measure over the work all of them did, with what is not clearly different.

Only cells count that every side has a counterpart of: the same workload, and the same levels of what no side fixes. A
side's value is the geometric mean over these, in each block. Sides of one run are held against each other at once, as
the best cell is (core.stats.ratios.clearly_apart); others in pairs, at what Bonferroni leaves of 5% for each.

A rate is divided by what it costs in each block, with the power of that block where it was measured: the scatter of
both is in the comparison.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Literal

import numpy as np
import numpy.typing as npt

from zinc_kettle.core.compare.cells import MIN_REPEATS, RATIO, Samples, in_turn
from zinc_kettle.core.compare.score import Reference
from zinc_kettle.core.compare.sides import Side, by_work, compared_by, definitions_of, together
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.preferences import Money
from zinc_kettle.core.record.value import Value
from zinc_kettle.core.results import CellResults
from zinc_kettle.core.stats import Interval, median
from zinc_kettle.core.stats.ratios import ALPHA, geometric_interval, significantly_different

Per = Literal["", "price", "watt", "device", "cost", "score"]
PERS: tuple[Per, ...] = ("", "price", "watt", "device", "cost", "score")
Needed = Literal["price", "load_w", "energy_per_kwh", "devices"]
"""A fact of a rig, or the preference of what energy costs."""
RATE = "tokens/s"
PREFILL, DECODE = "prefill_client", "decode"
WORK = "throughput_all"
"""What a cost is of: tokens of prompts and of answers, in the mix the study has."""
POWER = "power"
MILLION = 1e6
"""Tokens that a cost is of."""
PER_PRICE = 1_000.0
"""Rates are given for so many units of the currency."""
SIZES = (
    (1e9, "under 1 G weights"),
    (4e9, "1 to 4 G weights"),
    (15e9, "4 to 15 G weights"),
    (40e9, "15 to 40 G weights"),
    (math.inf, "over 40 G weights"),
)
"""Classes of models by their weights: speeds of different classes are not ranked against each other."""


@dataclass(frozen=True)
class Entrant:
    """A side with its name, and what it costs."""

    name: str
    side: Side
    price: float | None = None
    watts: float | None = None
    """While it works: measured, else typed in."""
    devices: int | None = None
    """Fast devices of its rig."""


@dataclass(frozen=True)
class Place:
    """One side as it is ranked."""

    entrant: Entrant
    value: float
    low: float
    high: float
    bound: str
    n: int
    cells: tuple[CellResults, ...] = ()
    alike: frozenset[str] = frozenset()
    """Names of those that show no clear difference from it."""
    keeps_pace: bool | None = None
    """False where it is clearly slower than what the person needs, None where that is open or was not asked."""
    input_cost: float | None = None
    """Of a million tokens of prompts, where requests were alone and so the time of each can be told; of a cost only."""
    output_cost: float | None = None


@dataclass(frozen=True)
class Left:
    """A side that is not ranked, and why."""

    entrant: Entrant
    reason: str
    needs: Needed | None = None
    """The fact that would rank it."""


@dataclass(frozen=True)
class Group:
    """Sides that are ranked against each other, from best to worst."""

    title: str
    """Class of size; empty where all are of one, or no model is known."""
    places: tuple[Place, ...]

    @property
    def brackets(self) -> tuple[tuple[int, int], ...]:
        """First and last of each longest run of places none of which is clearly different from another."""
        names = [p.entrant.name for p in self.places]
        runs: list[tuple[int, int]] = []
        for start in range(len(names)):
            end = start
            while end + 1 < len(names) and all(names[end + 1] in self.places[i].alike for i in range(start, end + 1)):
                end += 1
            if end > start and not any(a <= start and end <= b for a, b in runs):
                runs.append((start, end))
        return tuple(runs)


@dataclass(frozen=True)
class Lineup:
    """Everything ranked, and what could not be."""

    measure: str
    per: Per
    groups: tuple[Group, ...]
    left: tuple[Left, ...]
    shared: int = 0
    """Cells of each side that count."""
    money: Money = field(default_factory=Money)
    paired: bool = True
    """True where all sides were measured in turn in one run, so that they are compared block by block."""
    asked: Per = ""
    """What it was to be divided by, where that is known of no side, and the ranking is without it."""
    reference: Reference | None = None
    """Of scores: what they are against."""


def lineup(
    entrants: Sequence[Entrant],
    measure: str,
    *,
    per: Per = "",
    money: Money | None = None,
    pace: float | None = None,
) -> Lineup:
    """Rank sides by a measure.

    Args:
        entrants: The sides.
        measure: Its name.
        per: Divided by price or by watts; of rates only. `cost` ranks by what a million tokens cost, prompts and
            answers in the study's own mix, whatever the measure.
        money: What energy costs and how long a rig is used.
        pace: The decode speed that is needed, tokens per second.

    Raises:
        ValueError: `per` of a measure that is no rate of tokens.
    """
    if per and MEASURES[measure].unit != RATE:
        raise ValueError(f"{MEASURES[measure].title} is no rate of tokens, so it has no price")
    asked, cost = measure, money or Money()
    if per == "cost":
        measure = WORK
    ready, left = _ready(entrants, measure, per, cost)
    if per and not ready:  # the order by the measure alone is worth more than none
        plain = lineup(entrants, asked, money=money, pace=pace)
        return replace(plain, left=(*left, *plain.left), asked=per)
    groups, count = [], 0
    for title, members in by_size(ready).items():
        named, compared = {name for e in members for name in e.side.levels}, compared_by([e.side for e in members])
        work = {e.name: by_work(e.side, named, compared) for e in members}
        kept, cells, lost = shared(members, measure, work)
        left += lost
        if kept:
            count = max(count, len(cells[kept[0].name]))
            groups.append(Group(title, ranked(kept, cells, measure, per, cost, pace)))
    there = [place.entrant for group in groups for place in group.places]
    return Lineup(measure, per, tuple(groups), tuple(left), count, cost, all_in_turn(there))


def all_in_turn(entrants: Sequence[Entrant]) -> bool:
    """True where all cells of all sides were measured in turn in one run."""
    one_run = len({id(e.side.results) for e in entrants}) <= 1
    return one_run and in_turn(cell for e in entrants for cell in e.side.cells())


def _ready(entrants: Sequence[Entrant], measure: str, per: Per, money: Money) -> tuple[list[Entrant], list[Left]]:
    ready, left = [], []
    for entrant in entrants:
        measured = [c for c in entrant.side.cells() if c.done and isinstance(c.value(measure), Value)]
        if not measured:
            left.append(Left(entrant, f"there is no {MEASURES[measure].title} of it"))
            continue
        needs = missing_fact(entrant, per, money)
        if needs is None:
            ready.append(entrant)
        else:
            left.append(Left(entrant, MISSING[needs], needs))
    return ready, left


MISSING: Mapping[Needed, str] = {
    "price": "its price is not known",
    "load_w": "its power is not known",
    "energy_per_kwh": "the price of energy is not known",
    "devices": "its rig has no fast device that is known",
}


def missing_fact(entrant: Entrant, per: Per, money: Money) -> Needed | None:
    """The first fact without which a side has no figure per price, per watt or of cost."""
    if per in {"price", "cost"} and not entrant.price:
        return "price"
    if per in {"watt", "cost"} and not entrant.watts:
        return "load_w"
    if per == "device" and not entrant.devices:
        return "devices"
    return "energy_per_kwh" if per == "cost" and money.energy_per_kwh is None else None


def constant(entrant: Entrant, per: Per, money: Money) -> float | None:
    """What a rate of tokens is divided by; None where it is not known.

    Of `cost` it is money for a second of work: what the rig costs over its life, and the energy it takes.
    """
    if not per:
        return 1.0
    if per == "price":
        return entrant.price / PER_PRICE if entrant.price else None
    if per == "watt":
        return entrant.watts or None
    if per == "device":
        return float(entrant.devices) if entrant.devices else None
    if entrant.price is None or entrant.watts is None or money.energy_per_kwh is None:
        return None
    return (entrant.price / money.hours + entrant.watts / 1_000 * money.energy_per_kwh) / 3_600 or None


def weights_of(entrant: Entrant) -> float | None:
    """Weights of its model; None where they are not known, or its cells have several models."""
    found = {c.kept.engine.get("model", {}).get("weights") for c in entrant.side.cells() if c.done}
    known = [float(w) for w in found if w]
    return known[0] if len(known) == 1 and len(found) == 1 else None


def by_size(entrants: Sequence[Entrant]) -> dict[str, list[Entrant]]:
    """Sides by the class of size of their models; under an empty title where all are of one."""
    sizes = {e.name: weights_of(e) for e in entrants}
    titles = {name: "" if w is None else next(t for top, t in SIZES if w < top) for name, w in sizes.items()}
    if len(set(titles.values())) <= 1:
        return {"": list(entrants)} if entrants else {}
    out: dict[str, list[Entrant]] = {}
    for title in [t for _, t in SIZES] + [""]:
        members = [e for e in entrants if titles[e.name] == title]
        if members:
            out[title or "size not known"] = members
    return out


def shared(
    entrants: Sequence[Entrant], measure: str, of: Mapping[str, Mapping[str, CellResults]]
) -> tuple[list[Entrant], dict[str, list[CellResults]], list[Left]]:
    """The sides that did the same work, their cells of it in the same order, and those that did other work.

    Args:
        entrants: The sides.
        measure: The one they are ranked by.
        of: Their cells by what they did, by name.
    """
    work = {
        name: {k: c for k, c in mine.items() if c.done and isinstance(c.value(measure), Value)}
        for name, mine in of.items()
    }
    first = max(entrants, key=lambda e: sum(len(work[e.name].keys() & work[o.name].keys()) for o in entrants))
    versions = definitions_of(first.side)
    kept, left = [], []
    for e in entrants:
        if not work[e.name].keys() & work[first.name].keys():
            left.append(Left(e, "it did other work: its prompts, lengths, limits, sampling or load differ"))
        elif definitions_of(e.side) != versions:
            left.append(Left(e, "its figures follow another version of the definitions"))
        else:
            kept.append(e)
    keys = sorted(set(work[first.name]).intersection(*(work[e.name] for e in kept)))
    if not keys:
        return [], {}, [*left, *(Left(e, "no work is common to all") for e in kept)]
    return kept, {e.name: [work[e.name][k] for k in keys] for e in kept}, left


def ranked(
    entrants: Sequence[Entrant],
    cells: Mapping[str, Sequence[CellResults]],
    measure: str,
    per: Per,
    money: Money,
    pace: float | None,
) -> tuple[Place, ...]:
    """Sides that did the same work, from best to worst.

    Args:
        entrants: The sides.
        cells: Of each the cells that count, by name.
        measure: What they are ranked by.
        per: Divided by this.
        money: What that costs.
        pace: The decode speed that is needed, in tokens per second.
    """
    rates = {e.name: together(cells[e.name], measure) for e in entrants}
    divided = {e.name: _divided(e, cells[e.name], rates[e.name], per, money) for e in entrants}
    alike = _alike(entrants, divided)
    places = [_place(e, cells[e.name], rates[e.name], divided[e.name], measure, per, money, pace) for e in entrants]
    more = per != "cost" and MEASURES[measure].better != "less"
    places.sort(key=lambda p: p.value, reverse=more)
    return tuple(replace(p, alike=alike[p.entrant.name]) for p in places)


def _divided(
    entrant: Entrant, cells: Sequence[CellResults], rates: Samples | None, per: Per, money: Money
) -> Samples | None:
    """A rate over what it costs, in each block: with the power of that block where it was measured.

    Power that is taken as known, where it was measured with some scatter, would set equal rigs apart.
    """
    power = together(cells, POWER) if per in {"watt", "cost"} and rates is not None else None
    if rates is None or power is None or not power.blocks or watts_of(cells) is None:
        return None if rates is None else _over(rates, constant(entrant, per, money) or 1.0)
    watts = power.by_block
    rows = [
        (v / (constant(replace(entrant, watts=watts[b]), per, money) or 1.0), b)
        for b, v in rates.by_block.items()
        if b in watts
    ]
    if len(rows) < MIN_REPEATS:
        return None
    values, blocks = zip(*rows, strict=True)
    return Samples(values, blocks, max(rates.widening, power.widening))


def _place(
    entrant: Entrant,
    cells: Sequence[CellResults],
    rates: Samples | None,
    divided: Samples | None,
    measure: str,
    per: Per,
    money: Money,
    pace: float | None,
) -> Place:
    figure, keeps = _figure(cells, rates, measure), None
    if pace is not None and MEASURES[measure].unit == RATE:
        keeps = _keeps_pace(cells, pace)
    if per and divided is not None:
        figure = _figure(cells, divided, measure)
    elif per:
        by = constant(entrant, per, money) or 1.0
        figure = replace(figure, value=figure.value / by, low=figure.low / by, high=figure.high / by)
    if per == "cost":
        value, low, high = (MILLION / v for v in (figure.value, figure.high, figure.low))
        figure = replace(figure, value=value, low=low, high=high)
    read, written = _both_costs(entrant, cells, money) if per == "cost" else (None, None)
    return Place(
        entrant,
        figure.value,
        figure.low,
        figure.high,
        figure.bound,
        figure.n,
        tuple(cells),
        keeps_pace=keeps,
        input_cost=read,
        output_cost=written,
    )


def _keeps_pace(cells: Sequence[CellResults], pace: float) -> bool | None:
    """Whether one person's answers come as fast as wanted; a range of few repeats carries no claim, as elsewhere."""
    if not all(isinstance(cell.value(DECODE), Value) for cell in cells):
        return None
    decoded = _figure(cells, together(cells, DECODE), DECODE)
    if decoded.bound != "interval95":
        return None
    return True if decoded.low >= pace else False if decoded.high < pace else None


def _both_costs(entrant: Entrant, cells: Sequence[CellResults], money: Money) -> tuple[float | None, float | None]:
    """What a million tokens of prompts and what a million of answers cost; None where requests overlap."""
    by = constant(entrant, "cost", money)
    told = [(together(cells, name), name) for name in (PREFILL, DECODE)]
    if by is None or any(samples is None for samples, _ in told):
        return None, None
    read, written = (by * MILLION / _figure(cells, samples, name).value for samples, name in told)
    return read, written


def _figure(cells: Sequence[CellResults], taken: Samples | None, measure: str) -> Interval:
    """What the order and the brackets are of, with bounds that carry how the run wandered."""
    if taken is not None:
        n = len(taken.values)
        return geometric_interval(taken.values, max(cell.waves(measure).widening(n) for cell in cells))
    values = [v for cell in cells if isinstance(v := cell.value(measure), Value)]
    value = math.exp(sum(math.log(max(v.value, 1e-12)) for v in values) / len(values))
    return Interval(value, min(v.low for v in values), max(v.high for v in values), "range", min(v.n for v in values))


def _alike(entrants: Sequence[Entrant], samples: Mapping[str, Samples | None]) -> dict[str, frozenset[str]]:
    """For each side the others it is not clearly different from."""
    names = [e.name for e in entrants]
    columns = _columns(entrants, samples)
    if columns is not None:
        apart = np.array([significantly_different(columns, i) for i in range(len(names))])
        far = {(a, b) for i, a in enumerate(names) for j, b in enumerate(names) if apart[i, j] and apart[j, i]}
    else:
        pairs = list(itertools.combinations(names, 2))
        far = set()
        for a, b in pairs:
            x, y = samples[a], samples[b]
            if x is None or y is None:
                continue
            found = RATIO(replace(x, blocks=()), replace(y, blocks=()))
            if found.bound == "interval95" and found.p < ALPHA / len(pairs):
                far |= {(a, b), (b, a)}
    return {a: frozenset(b for b in names if b != a and (a, b) not in far) for a in names}


def _over(samples: Samples, divisor: float) -> Samples:
    return replace(samples, values=tuple(v / divisor for v in samples.values))


def _columns(entrants: Sequence[Entrant], samples: Mapping[str, Samples | None]) -> npt.NDArray[np.float64] | None:
    """Figures of all sides in the blocks they share, shape (sides, blocks); None where they were not in turn."""
    if len(entrants) < 2 or not all_in_turn(entrants):
        return None
    rows = [samples[e.name] for e in entrants]
    told = [dict(zip(r.blocks, r.values, strict=False)) for r in rows if r is not None]
    if len(told) < len(rows):
        return None
    blocks = sorted(set(told[0]).intersection(*told[1:]))
    if len(blocks) < MIN_REPEATS:
        return None
    return np.array([[row[b] for b in blocks] for row in told])


def watts_of(cells: Sequence[CellResults]) -> float | None:
    """Median of the power its cells took; None where none was measured."""
    found = [v.value for c in cells if c.done and isinstance(v := c.value("power"), Value)]
    return median(found) if found else None
