"""Two sets of cells held against each other: which belong together, what differs between them, and their means."""

from __future__ import annotations

from collections.abc import Collection, Container, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal

import numpy as np

from zinc_kettle.core.compare.cells import (
    DENSITY,
    ENGINE_FACTS,
    MACHINE_FACTS,
    MIN_REPEATS,
    Samples,
    levels_key,
    same_tokenizer,
    samples,
)
from zinc_kettle.core.compare.unlike_work import natural_lengths
from zinc_kettle.core.facts import MachineFacts, machine_of
from zinc_kettle.core.fingerprint import fingerprint
from zinc_kettle.core.plan.factors import Level, label
from zinc_kettle.core.plan.study import workload
from zinc_kettle.core.record.value import Value
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.core.stats.blocks import in_blocks, shared_blocks

NOT_MEASURED = "nothing of it was measured on one of the sides"


@dataclass(frozen=True)
class Side:
    """Cells of one study that are to be held against others: all, or those with certain levels."""

    results: StudyResults
    levels: Mapping[str, Level] = field(default_factory=dict)
    """Every cell of this side has them; the other side's cells may have others."""
    earlier: tuple[StudyResults, ...] = ()
    """Other runs of the same study."""

    def cells(self) -> list[CellResults]:
        """The cells meant."""
        return [c for c in self.results.cells if all(c.cell.levels.get(n) == v for n, v in self.levels.items())]


DifferenceKind = Literal["factor", "fact", "tokenizer", "definitions"]


@dataclass(frozen=True, slots=True)
class Difference:
    """One thing that is not the same on both sides."""

    kind: DifferenceKind
    name: str
    a: str
    b: str


@dataclass(frozen=True, slots=True)
class Pair:
    """Two cells that did the same work."""

    a: CellResults
    b: CellResults
    differences: tuple[Difference, ...]

    @property
    def clean(self) -> bool:
        """True where exactly one thing differs, so that it is what made the difference."""
        return len(self.differences) == 1


WithoutCode = Literal["not-measured", "empty", "other-work", "several", "other-levels"]
"""Why a cell has no counterpart: nothing of it was measured on one of the sides; the other side is empty; no cell there
did the same work; several match; none has the same levels."""


@dataclass(frozen=True, slots=True)
class Unpaired:
    """A cell that has no counterpart, and why."""

    cell: CellResults
    code: WithoutCode
    reason: str
    differences: tuple[Difference, ...] = ()
    """Of one that was not measured, from its counterpart."""


@dataclass(frozen=True, slots=True)
class Alignment:
    """Two sides laid beside each other."""

    pairs: tuple[Pair, ...]
    without: tuple[Unpaired, ...]
    """Cells of the first side that could not be paired."""

    @property
    def cells(self) -> tuple[list[CellResults], list[CellResults]]:
        """The cells of each side that have a counterpart."""
        return [p.a for p in self.pairs], [p.b for p in self.pairs]

    @property
    def differences(self) -> tuple[Difference, ...]:
        """What differs in all pairs; where nothing could be compared, between cells that were not measured."""
        rows = [p.differences for p in self.pairs] or [u.differences for u in self.without if u.differences]
        shared = set(rows[0]).intersection(*rows[1:]) if rows else set()
        return tuple(d for d in rows[0] if d in shared) if rows else ()


def together(cells: Sequence[CellResults], name: str) -> Samples | None:
    """The geometric mean of cells in each block all of them have; None where that is too few, or not positive."""
    each = [samples(cell, name) for cell in cells]
    if each and all(s.values for s in each) and not all(s.blocks for s in each):
        return _in_order(each)
    rows = [s.by_block for s in each]
    shared = shared_blocks(rows)
    columns = in_blocks(rows, shared)
    if len(shared) < MIN_REPEATS or columns.min() <= 0:
        return None
    means = np.exp(np.log(columns).mean(axis=0))
    return Samples(tuple(float(mean) for mean in means), tuple(shared), max(s.widening for s in each))


def _in_order(each: Sequence[Samples]) -> Samples | None:
    """The same where blocks are not known, as of figures that belong to launches: all first values, all second ones."""
    many = min(len(s.values) for s in each)
    rows = np.array([s.values[:many] for s in each], dtype=np.float64)
    if many < MIN_REPEATS or rows.min() <= 0:
        return None
    return Samples(tuple(np.exp(np.log(rows).mean(axis=0)).tolist()), (), max(s.widening for s in each))


def by_work(side: Side, named: Container[str], compared: Collection[str] = ()) -> dict[str, CellResults]:
    """The cells of a side by what they did: workload, and the levels of the factors that no side fixes.

    Args:
        side: The side.
        named: Factors that any of the sides fixes.
        compared: Those that all of them fix: in these the work may differ.
    """
    out: dict[str, CellResults] = {}
    for cell in side.cells():
        rest = {n: v for n, v in cell.cell.levels.items() if n not in named}
        out[f"{_work(side, cell, compared)} {levels_key(rest)}"] = cell
    return out


def definitions_of(side: Side) -> int:
    """The version of the definitions its figures follow."""
    return side.results.definitions


def align(a: Side, b: Side) -> Alignment:
    """Pair the cells of two sides: the same workload, and equal levels of all factors that neither side fixes.

    In what both sides fix the work may differ: one stream against four, a short prompt against a long one.
    """
    named, compared = {*a.levels, *b.levels}, compared_by((a, b))
    its: dict[object, list[CellResults]] = {}
    for cell in b.cells():
        its.setdefault(_work(b, cell, compared), []).append(cell)
    pairs: list[Pair] = []
    without: list[Unpaired] = []
    for cell in a.cells():
        candidates = its.get(_work(a, cell, compared), [])
        like = [c for c in candidates if _same_where_shared(cell, c, named)]
        if len(like) == 1 and not (cell.done and like[0].done):
            changed = tuple(differences(a, b, cell, like[0]))
            without.append(Unpaired(cell, "not-measured", NOT_MEASURED, changed))
        elif len(like) == 1:
            pairs.append(Pair(cell, like[0], tuple(differences(a, b, cell, like[0]))))
        else:
            without.append(Unpaired(cell, *_why_unpaired(b, cell, candidates, like)))
    return Alignment(tuple(pairs), tuple(without))


def _work(side: Side, cell: CellResults, compared: Collection[str] = ()) -> str:
    return fingerprint(workload(side.results.study, cell.cell, compared))


def compared_by(sides: Sequence[Side]) -> frozenset[str]:
    """The factors that all sides fix, at levels that differ; the length of answers among them where they end by
    themselves."""
    shared = set(sides[0].levels).intersection(*(side.levels for side in sides[1:]))
    natural = {name for side in sides for name in natural_lengths(side.results.study)}
    return frozenset(name for name in shared if len({side.levels[name] for side in sides}) > 1) | natural


def _same_where_shared(a: CellResults, b: CellResults, named: set[str]) -> bool:
    """Equal levels of the factors that both studies vary, apart from those that are being compared."""
    shared = (a.cell.levels.keys() & b.cell.levels.keys()) - named
    return all(a.cell.levels[name] == b.cell.levels[name] for name in shared)


def _why_unpaired(
    b: Side, cell: CellResults, candidates: list[CellResults], like: list[CellResults]
) -> tuple[WithoutCode, str]:
    if not b.cells():
        return "empty", "the other side has no cells"
    if not candidates:
        what = "no cell on the other side did the same work: its prompts, lengths, limits, sampling or load differ"
        return "other-work", what
    if len(like) > 1:
        names = ", ".join(sorted(like[0].cell.levels.keys() - cell.cell.levels.keys())) or "other factors"
        return "several", f"{len(like)} cells on the other side match; choose one by {names}"
    return "other-levels", "no cell on the other side has the same levels"


def differences(a: Side, b: Side, x: CellResults, y: CellResults) -> list[Difference]:
    """What is not the same of two cells that did the same work."""
    mine, theirs = x.cell.settings, y.cell.settings
    out = [
        Difference("factor", name, _said(mine[name]), _said(theirs[name]))
        for name in mine
        if name in theirs and mine[name] != theirs[name]
    ]
    if x.cell.engine.name == y.cell.engine.name:  # nor what another engine says of itself
        out += _facts(ENGINE_FACTS, x.kept.engine, y.kept.engine)
    if x.cell.settings["rig"] == y.cell.settings["rig"]:  # what another rig is made of is no further difference
        out += _facts(MACHINE_FACTS, _machine(a, x), _machine(b, y))
    if not same_tokenizer(x, y):
        out.append(Difference("tokenizer", "characters per token", _density(x), _density(y)))
    if a.results.definitions != b.results.definitions:
        out.append(Difference("definitions", "definitions", str(a.results.definitions), str(b.results.definitions)))
    return out


def _density(cell: CellResults) -> str:
    found = cell.value(DENSITY)
    return f"{found.value:.2f}" if isinstance(found, Value) else "not known"


def _machine(side: Side, cell: CellResults) -> MachineFacts:
    rig = cell.cell.settings["rig"]
    return machine_of(side.results.run.facts, None if rig is None else str(rig))


def _facts(names: Sequence[str], x: Mapping[str, object], y: Mapping[str, object]) -> list[Difference]:
    return [
        Difference("fact", name, _said(x.get(name)), _said(y.get(name)))
        for name in names
        if x.get(name) is not None and y.get(name) is not None and x[name] != y[name]
    ]


def _said(value: object) -> str:
    return "not set" if value is None else label(value) if isinstance(value, (str, int, bool)) else str(value)
