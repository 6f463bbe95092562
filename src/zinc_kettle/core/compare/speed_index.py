"""How many times as fast each side is as a reference, over the work both did: prefill, decode, and both together."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

from zinc_kettle.core.compare.cells import MIN_REPEATS, RATIO, Samples, in_turn
from zinc_kettle.core.compare.lineup import DECODE, PREFILL, Entrant
from zinc_kettle.core.compare.sides import by_work, definitions_of, together
from zinc_kettle.core.results import CellResults
from zinc_kettle.core.stats import Interval


@dataclass(frozen=True)
class Index:
    """A side against the reference over the work they share: 1 is as fast as the reference."""

    entrant: Entrant
    prefill: Interval | None
    decode: Interval | None
    both: Interval | None
    """The geometric mean of the two."""
    shared: int
    reason: str = ""
    """Why there is none."""
    paired: bool = True
    """True where both sides were measured in turn in one run."""


def index(entrants: Sequence[Entrant], reference: Entrant) -> list[Index]:
    """How many times as fast each side is as a reference: geometric means of ratios over the cells both have.

    Prefill and decode each by itself, and both together as their geometric mean. Only work both did counts, and
    only figures of one version of the definitions.

    Args:
        entrants: The sides.
        reference: What they are held against; its own index is 1.
    """
    return [_index(e, reference) for e in entrants]


def _index(entrant: Entrant, reference: Entrant) -> Index:
    if definitions_of(entrant.side) != definitions_of(reference.side):
        return Index(entrant, None, None, None, 0, "its figures follow another version of the definitions")
    named = {*entrant.side.levels, *reference.side.levels}
    mine, its = by_work(entrant.side, named), by_work(reference.side, named)
    keys = sorted(k for k in mine.keys() & its.keys() if mine[k].done and its[k].done)
    if not keys:
        return Index(entrant, None, None, None, 0, "it shares no work with the reference")
    sides = [[of[k] for k in keys] for of in (mine, its)]
    one_run = entrant.side.results is reference.side.results
    paired = one_run and all(in_turn(pair) for pair in zip(*sides, strict=True))
    prefill, decode = (_ratio(*(together(cells, name) for cells in sides), paired=paired) for name in (PREFILL, DECODE))
    both = _ratio(*(_product(cells) for cells in sides), paired=paired)
    few = "" if both is not None else f"an index needs {MIN_REPEATS} repeats of prefill and decode on both sides"
    return Index(entrant, prefill, decode, both, len(keys), few, paired)


def _product(cells: Sequence[CellResults]) -> Samples | None:
    """In each block the geometric mean of prefill and decode."""
    x, y = together(cells, PREFILL), together(cells, DECODE)
    if x is None or y is None:
        return None
    a, b = x.by_block, y.by_block
    blocks = sorted(a.keys() & b.keys())
    if len(blocks) < MIN_REPEATS:
        return None
    return Samples(tuple(math.sqrt(a[k] * b[k]) for k in blocks), tuple(blocks), max(x.widening, y.widening))


def _ratio(a: Samples | None, b: Samples | None, *, paired: bool) -> Interval | None:
    if a is None or b is None:
        return None
    return RATIO(a, b) if paired else RATIO(replace(a, blocks=()), replace(b, blocks=()))
