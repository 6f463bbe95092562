"""A lineup in words, rows and JSON: the order, what is not clearly different, money and watts, the index, pages."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from zinc_kettle.core.cautions.machine import SPILLED
from zinc_kettle.core.compare.choice import mean_of
from zinc_kettle.core.compare.lineup import PER_PRICE, Entrant, Group, Lineup, Needed, Place
from zinc_kettle.core.compare.reported import Reported, of_measure
from zinc_kettle.core.compare.score import PARTS
from zinc_kettle.core.compare.speed_index import Index
from zinc_kettle.core.measures import MAP_MEASURES, MEASURES
from zinc_kettle.core.plan.factors import label
from zinc_kettle.core.preferences import Money, Pace
from zinc_kettle.core.record.value import Value
from zinc_kettle.core.results import CellResults
from zinc_kettle.core.rig import FACT_KINDS, Rig
from zinc_kettle.core.stats import Interval
from zinc_kettle.core.units import digits, plural, scale, with_unit
from zinc_kettle.present.duel import side_title
from zinc_kettle.present.rig_rows import fact_text, origin_text
from zinc_kettle.present.values import CAUTION_MARK, rounded, whole_text

BRACKETS = "┌│└"
REPORTED = "reported by others, not measured here, and not ranked"


def per_unit(found: Lineup) -> str:
    """The unit of what is ranked."""
    currency = found.money.currency
    unit = scale(1.0, MEASURES[found.measure].unit)[1] if MEASURES[found.measure].unit != "s" else "s"
    return {
        "": unit,
        "price": f"{unit} per {currency} {PER_PRICE:,.0f}" if currency else f"{unit} per {PER_PRICE:,.0f} spent",
        "watt": f"{unit} per watt",
        "device": f"{unit} per device",
        "cost": f"{currency or 'cost'} per million tokens",
        "score": "",
    }[found.per]


NOT_KNOWN: dict[Needed, str] = {
    "price": "no price is known",
    "load_w": "no power is known",
    "energy_per_kwh": "the price of energy is not known",
    "devices": "no fast device is known",
}
"""Why nothing can be divided by what was asked for."""


def ranked_by(found: Lineup) -> str:
    """The measure with its unit; of a cost the unit says it all."""
    if found.per == "score":
        return "score"
    return per_unit(found) if found.per == "cost" else f"{MEASURES[found.measure].title}, {per_unit(found)}"


def value_of(place: Place, found: Lineup) -> tuple[str, str]:
    """A place's value with its unit, and its interval."""
    if found.per:
        factor, unit = 1.0, ""
    else:
        _, unit, factor = scale(place.value, MEASURES[found.measure].unit)
    half = (place.high - place.low) / 2 * factor
    value, low, high = (digits(v * factor, spread=half or None) for v in (place.value, place.low, place.high))
    return f"{value} {unit}".strip(), f"({low}–{high}{', range' if place.bound == 'range' else ''})" if half > 0 else ""


def verdict(found: Lineup) -> str:
    """Who leads, in a sentence; no full stop."""
    if not found.groups:
        reasons = sorted({left.reason for left in found.left})
        return f"nothing can be ranked: {'; '.join(reasons) or 'nothing is measured'}"
    said = []
    for group in found.groups:
        first = group.places[0]
        value, bounds = value_of(first, found)
        unit = f" {per_unit(found)}" if per_unit(found) and found.per else ""
        what = f"{group.title}: " if group.title else ""
        alike = [p.entrant.name for p in group.places if p.entrant.name in first.alike]
        tied = f"; no clear difference from {', '.join(alike)}" if alike else ""
        does = "leads with" if len(group.places) > 1 else "has"
        does += " a score of" if found.per == "score" else ""
        said.append(f"{what}{first.entrant.name} {does} {value}{unit} {bounds}".rstrip() + tied)
    if found.asked:
        missing = dict.fromkeys(NOT_KNOWN[left.needs] for left in found.left if left.needs is not None)
        return f"{' and '.join(missing)}, so this is by {MEASURES[found.measure].title} alone: {'; '.join(said)}"
    return "; ".join(said)


def bracket_marks(group: Group) -> list[str]:
    """For each place the parts of the brackets that pass it: what stands in one bracket is not clearly different."""
    columns = [[" "] * len(group.places) for _ in group.brackets]
    for column, (first, last) in zip(columns, group.brackets, strict=True):
        for row in range(first, last + 1):
            column[row] = BRACKETS[0] if row == first else BRACKETS[2] if row == last else BRACKETS[1]
    return ["".join(column[row] for column in columns) for row in range(len(group.places))]


def pace_mark(place: Place) -> str:
    """Whether it keeps the pace a person needs, and whether its model lies in slower memory than it should."""
    keeps = {True: "keeps the pace", False: "too slow", None: ""}[place.keeps_pace]
    spilled = f"{CAUTION_MARK} {SPILLED.code}" if any(cell.spilled for cell in place.cells) else ""
    return " ".join(part for part in (keeps, spilled) if part)


def lineup_rows(found: Lineup) -> list[tuple[str, ...]]:
    """Place, bracket, name, value, interval, of a cost both its parts, repeats, price, watts, pace; groups under their
    titles."""
    rows: list[tuple[str, ...]] = []
    for group in found.groups:
        if group.title:
            rows.append(tuple(group.title if i == 2 else "" for i in range(len(heads(found)))))
        for number, (place, bracket) in enumerate(zip(group.places, bracket_marks(group), strict=True), start=1):
            value, bounds = value_of(place, found)
            e = place.entrant
            rows.append(
                (
                    str(number),
                    bracket,
                    e.name,
                    value,
                    bounds,
                    *beside_value(place, found),
                    str(place.n),
                    "–" if e.price is None else f"{e.price:,g}",
                    "–" if e.watts is None else f"{digits(e.watts)} W",
                    pace_mark(place),
                )
            )
    return rows


def beside_value(place: Place, found: Lineup) -> tuple[str, ...]:
    """Of a cost that of a million tokens of prompts and of answers, of a score its parts in the mean; else nothing."""
    if found.per == "score":
        return tuple(mean_text(place.cells, name) for name in PARTS)
    parts = (place.input_cost, place.output_cost) if found.per == "cost" else ()
    return tuple("–" if cost is None else digits(cost) for cost in parts)


def mean_text(cells: Sequence[CellResults], name: str) -> str:
    """The geometric mean of a measure over cells, with its unit; a dash where none has it."""
    known = [c for c in cells if isinstance(c.value(name), Value)]
    return with_unit(mean_of(known, name), MEASURES[name].unit) if known else "–"


def reported_text(figure: Reported) -> str:
    """`70 tok/s (65–74), reported`: a figure of somebody else, which is never ranked."""
    unit = MEASURES[figure.measure].unit
    bounds = (
        ""
        if figure.low is None or figure.high is None
        else (f" ({with_unit(figure.low, unit)} to {with_unit(figure.high, unit)})")
    )
    return f"{with_unit(figure.value, unit)}{bounds}, reported"


def reported_rows(others: Sequence[Reported], measure: str) -> list[tuple[str, str, str, str]]:
    """Of what, at which levels, the figure, who reports it."""
    what = [" ".join(w for w in (f.rig, f.model, f.quantization) if w) for f in of_measure(others, measure)]
    rows = zip(what, of_measure(others, measure), strict=True)
    return [(name or "–", f.at or "–", reported_text(f), f.source) for name, f in rows]


def heads(found: Lineup) -> tuple[str, ...]:
    """Headings of these rows."""
    what = ranked_by(found) if found.per else MEASURES[found.measure].title
    parts = {"cost": ("prompts", "answers"), "score": tuple(MEASURES[name].title for name in PARTS)}.get(found.per, ())
    return ("", "", "", what, "95% interval", *parts, "n", f"price {found.money.currency}".strip(), "power", "")


def index_rows(found: Sequence[Index]) -> list[tuple[str, ...]]:
    """Name, prefill, decode, both, cells; best first, those without an index last."""
    ready = sorted((i for i in found if i.both is not None), key=lambda i: -(i.both.value if i.both else 0.0))
    rows = [
        (i.entrant.name, *map(times_text, (i.prefill, i.decode, i.both)), str(i.shared), "" if i.paired else "unpaired")
        for i in ready
    ]
    return [*rows, *((i.entrant.name, "–", "–", "–", str(i.shared), i.reason) for i in found if i.both is None)]


INDEX_HEADS = ("", "prefill", "decode", "both", "cells", "")


def times_text(found: Interval | None) -> str:
    """How many times as fast, with its interval: two digits at least, however small it is."""
    if found is None:
        return "–"
    decimals = max(2, 1 - math.floor(math.log10(found.value))) if found.value > 0 else 2
    value, low, high = (f"{v:.{decimals}f}" for v in (found.value, found.low, found.high))
    return f"{value} ({low}–{high})"


def lineup_json(found: Lineup) -> dict[str, Any]:
    """A lineup as one JSON object."""
    return {
        "measure": found.measure,
        "per": found.per or None,
        "unit": per_unit(found),
        "verdict": verdict(found),
        "cells": found.shared,
        "paired": found.paired,
        "money": _money_json(found.money),
        "groups": [
            {
                "title": g.title or None,
                "brackets": [list(b) for b in g.brackets],
                "places": [
                    {
                        "name": p.entrant.name,
                        "side": side_title(p.entrant.side),
                        "value": rounded(p.value),
                        "low": rounded(p.low),
                        "high": rounded(p.high),
                        "bound": p.bound,
                        "n": p.n,
                        "price": p.entrant.price,
                        "watts": _or_null(p.entrant.watts),
                        "not_clearly_different": sorted(p.alike),
                        "keeps_pace": p.keeps_pace,
                        "input_cost": _or_null(p.input_cost),
                        "output_cost": _or_null(p.output_cost),
                        "means": _means_json(p) if found.per == "score" else None,
                    }
                    for p in g.places
                ],
            }
            for g in found.groups
        ],
        "left": [{"name": left.entrant.name, "reason": left.reason, "needs": left.needs} for left in found.left],
        "reference": None if found.reference is None else found.reference.about,
    }


def _means_json(place: Place) -> dict[str, float | None]:
    """The parts of a score, as geometric means over its tasks."""
    known = {name: [c for c in place.cells if isinstance(c.value(name), Value)] for name in PARTS}
    return {name: rounded(mean_of(cells, name)) if cells else None for name, cells in known.items()}


def _or_null(value: float | None) -> float | None:
    return None if value is None else rounded(value)


def _money_json(money: Money) -> dict[str, Any]:
    return {
        "currency": money.currency or None,
        "energy_per_kwh": money.energy_per_kwh,
        "origin": money.origin,
        "hours_per_day": money.hours_per_day,
        "days_per_year": money.days_per_year,
        "years": money.years,
    }


def index_json(found: Sequence[Index], reference: str) -> dict[str, Any]:
    """An index as one JSON object."""

    def told(i: Interval | None) -> dict[str, Any] | None:
        if i is None:
            return None
        return {"value": rounded(i.value), "low": rounded(i.low), "high": rounded(i.high), "n": i.n}

    return {
        "reference": reference,
        "index": [
            {
                "name": i.entrant.name,
                "prefill": told(i.prefill),
                "decode": told(i.decode),
                "both": told(i.both),
                "cells": i.shared,
                "reason": i.reason or None,
                "paired": i.paired,
            }
            for i in found
        ],
    }


COUNTED = (
    "counted: tokens of prompts and of answers as this study has them; prompts or answers alone where requests do not "
    "overlap"
)
UNPAIRED = "unpaired: not measured in turn, so that what the machine did meanwhile is part of the differences"


def money_line(found: Lineup, pace: Pace) -> str:
    """What was worked in, and where it is from; first whether the sides were measured in turn."""
    parts = [] if found.paired else [UNPAIRED]
    if found.reference is not None:
        return "; ".join([*parts, f"100 is {found.reference.about}, over {plural(found.shared, 'task')}"])
    parts += [f"{pace.name}: {digits(pace.rate)} tok/s, {pace.origin}"]
    if found.per in {"price", "cost"}:
        money = found.money
        energy = "" if money.energy_per_kwh is None else f"{money.energy_per_kwh:g} {money.currency} per kWh, "
        parts.append(f"{energy}{money.hours:,.0f} hours of use ({money.origin})")
    if found.per == "cost":
        parts.append(COUNTED)
    return "; ".join(parts)


# pages
def page(
    place: Place,
    found: Lineup,
    rig: Rig | None,
    standing_in: Sequence[tuple[str, int, int]],
    seen: Sequence[Appearance] = (),
) -> list[str]:
    """All about one entrant: how it stands in every measure, then what it is.

    Args:
        place: Its place.
        found: The lineup.
        rig: Its rig, where it has one.
        standing_in: Measure, its rank and of how many.
        seen: Where else its rig and its model were measured.
    """
    return [*standing_lines(place, found, standing_in), "", *what_lines(place, rig, seen)]


def standing_lines(place: Place, found: Lineup, standing_in: Sequence[tuple[str, int, int]]) -> list[str]:
    """Its name, its value, and its rank in each measure."""
    value, bounds = value_of(place, found)
    unit = f" {per_unit(found)}" if per_unit(found) and found.per else ""
    out = [
        place.entrant.name,
        f"{value}{unit} {bounds}".rstrip() + (f", {pace_mark(place)}" if pace_mark(place) else ""),
        f"measured in {side_title(place.entrant.side)}, {plural(len(place.cells), 'cell')} that all share",
        "",
        "in each measure, the median over these cells",
    ]
    for name, rank, of in standing_in:
        out.append(f"  {MEASURES[name].title:<18} {_middle(place.cells, name):<30} {rank} of {of}")
    return out


@dataclass(frozen=True, slots=True)
class Appearance:
    """A run in which a rig or a model was measured, with its best cell."""

    what: str
    """`rig` or `model`."""
    place: str
    measure: str
    value: Value
    cell: str


MOST_SEEN = 8


def what_lines(place: Place, rig: Rig | None, seen: Sequence[Appearance] = ()) -> list[str]:
    """Its model, its rig, and where else they were measured."""
    out: list[str] = []
    for what in ("rig", "model"):
        mine = [a for a in seen if a.what == what]
        if mine:
            out.append(f"its {what} in {plural(len(mine), 'run')}, the best cell of each")
            out += [
                f"  {a.place:<24} {MEASURES[a.measure].title} {whole_text(a.value)}, {a.cell}" for a in mine[:MOST_SEEN]
            ]
            out.append("")
    names = {label(c.cell.settings["model"] or "") for c in place.cells}
    stored = dict.fromkeys(label(q) for c in place.cells if (q := c.cell.settings["quantization"]))
    out += ["the model", f"  {', '.join(sorted(names))} at {', '.join(stored) or 'its own precision'}"]
    model = place.cells[0].kept.engine.get("model") if len(names) == 1 else None
    if model and "weights" in model:
        out.append(f"  {model['weights'] / 1e9:.3g} G weights in {model.get('layers', '?')} layers")
    out.append("")
    if rig is not None:
        facts = ((kind, rig.facts[name]) for name, kind in FACT_KINDS.items() if name in rig.facts)
        out += [f"the rig, {rig.name}"]
        out += [f"  {kind.title}: {fact_text(kind, fact.value)} ({origin_text(fact)})" for kind, fact in facts]
    return out


def _middle(cells: Sequence[CellResults], name: str) -> str:
    found = sorted((v for c in cells if isinstance(v := c.value(name), Value)), key=lambda v: v.value)
    return whole_text(found[len(found) // 2]) if found else "–"


def ranks_of(entrant: Entrant, others: Sequence[Place]) -> list[tuple[str, int, int]]:
    """The rank of an entrant in each measure of the map, by the median over the shared cells."""
    out = []
    for name in MAP_MEASURES:
        values = {p.entrant.name: v for p in others if (v := _number(p.cells, name)) is not None}
        if entrant.name in values and len(values) > 1 and MEASURES[name].better != "neither":
            order = sorted(values, key=values.__getitem__, reverse=MEASURES[name].better == "more")
            out.append((name, order.index(entrant.name) + 1, len(order)))
    return out


def _number(cells: Sequence[CellResults], name: str) -> float | None:
    found = sorted(v.value for c in cells if isinstance(v := c.value(name), Value))
    return found[len(found) // 2] if found else None
