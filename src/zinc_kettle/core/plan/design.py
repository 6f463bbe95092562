"""Which combinations of the levels of a study are measured: all, one factor at a time, some left out, some tied."""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Annotated, Literal

from zinc_kettle.core.declared import About
from zinc_kettle.core.plan.factors import Level

DESIGNS: dict[str, str] = {
    "all": "every combination of the levels",
    "one-at-a-time": "a baseline, and what differs from it in one factor: few cells, no interactions",
    "chain": "one change after the other: each cell has one more of them, and its ladder tells what each brought",
}
DesignKind = Literal["all", "one-at-a-time", "chain"]
Vary = Mapping[str, Sequence[Level]]


@dataclass(frozen=True, slots=True)
class Design:
    """How the levels of the factors are combined into cells."""

    kind: Annotated[DesignKind, About("combine", "Which combinations of levels are measured.", "all", DESIGNS)] = "all"
    baseline: Annotated[
        dict[str, Level],
        About(
            "baseline",
            "Of one at a time the cell all others are held against, of a chain the first.",
            "threads=2, quantization=Q8_0",
            kind="levels",
        ),
    ] = field(default_factory=dict)
    """A level of each factor; the first one where none is named."""
    ties: Annotated[
        tuple[tuple[str, ...], ...],
        About("tied", "Factors that change together, level by level.", "concurrency + slots", kind="ties", blank=True),
    ] = ()
    without: Annotated[
        tuple[dict[str, tuple[Level, ...]], ...],
        About(
            "left out",
            "Combinations that are not measured.",
            "quantization=F16 & threads=1|2; threads=8 & batch=32",
            kind="rules",
            blank=True,
        ),
    ] = ()
    """A cell is left out if for one of these it has one of the levels of each factor."""

    def tie(self, name: str) -> tuple[str, ...]:
        """The factors that change together with one, itself included."""
        return next((tie for tie in self.ties if name in tie), (name,))

    def leads(self, name: str) -> bool:
        """False for a factor that follows another one it is tied to."""
        return self.tie(name)[0] == name

    def leaves_out(self, levels: Mapping[str, Level]) -> bool:
        """True where a combination is left out."""
        return any(all(levels.get(name) in mine for name, mine in rule.items()) for rule in self.without)


def combinations(vary: Vary, design: Design) -> Iterator[dict[str, Level]]:
    """The levels of each cell, the first factor slowest; a design of one factor at a time begins with its baseline."""
    sides = _sides(vary, design)
    chosen: Iterable[Iterable[dict[str, Level]]]
    if design.kind == "all":
        chosen = itertools.product(*sides)
    else:
        chosen = (_chain if design.kind == "chain" else _one_at_a_time)(sides, design)
    for parts in chosen:
        at = {name: level for part in parts for name, level in part.items()}
        levels = {name: at[name] for name in vary}
        if not design.leaves_out(levels):
            yield levels


def count_before(vary: Vary, design: Design) -> int:
    """How many combinations there are before any are left out."""
    sizes = [len(side) for side in _sides(vary, design)]
    return math.prod(sizes) if design.kind == "all" else 1 + sum(size - 1 for size in sizes)


def moved(vary: Vary, design: Design, levels: Mapping[str, Level], factor: str, level: Level) -> dict[str, Level]:
    """The levels of a cell with another level of one factor, and of those that are tied to it."""
    place = list(vary[factor]).index(level)
    return {**levels, **{name: vary[name][place] for name in design.tie(factor)}}


def baseline(vary: Vary, design: Design) -> dict[str, Level]:
    """The cell all others of a design of one factor at a time are compared with."""
    return {name: design.baseline.get(name, levels[0]) for name, levels in vary.items() if levels}


def _sides(vary: Vary, design: Design) -> list[list[dict[str, Level]]]:
    """For each factor, or tie of factors, its levels in their order."""
    return [
        [dict(zip(names, together, strict=True)) for together in zip(*(vary[n] for n in names), strict=False)]
        for name in vary
        if design.leads(name)
        for names in [design.tie(name)]
    ]


def _base(sides: list[list[dict[str, Level]]], design: Design) -> list[dict[str, Level]]:
    return [
        next((part for part in side if all(design.baseline.get(n, v) == v for n, v in part.items())), side[0])
        for side in sides
    ]


def _chain(sides: list[list[dict[str, Level]]], design: Design) -> Iterator[list[dict[str, Level]]]:
    now = _base(sides, design)
    yield [*now]
    for place, side in enumerate(sides):
        for part in (part for part in side if part != now[place]):
            now[place] = part
            yield [*now]


def _one_at_a_time(sides: list[list[dict[str, Level]]], design: Design) -> Iterator[list[dict[str, Level]]]:
    base = _base(sides, design)
    yield base
    for place, side in enumerate(sides):
        for part in side:
            if part != base[place]:
                yield [*base[:place], part, *base[place + 1 :]]
