"""Comparing cells: which belong together, what differs between them, and what their ratio is.

One comparison for the map, the findings and whatever ranks or judges. What interval a ratio has is one function,
`RATIO`; nothing else here or above computes one.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal

from zinc_kettle.core.factors import Level, label
from zinc_kettle.core.facts import MachineFacts, machine_of
from zinc_kettle.core.fingerprint import fingerprint
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.plan import workload
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.core.stats import Interval, median, ratio_interval
from zinc_kettle.core.value import Value

MIN_REPEATS = 2
"""One repeat each carries no conclusion: nothing is compared before the second."""
ENGINE_FACTS = ("engine", "version", "build")
"""What an engine says of itself that may explain a difference."""
MACHINE_FACTS = (
    "processor", "physical_cores", "hardware_threads", "memory_bytes", "system", "kernel", "governor", "virtual",
)  # fmt: skip
"""What is known of a machine that may explain a difference."""


@dataclass(frozen=True, slots=True)
class Samples:
    """One measure of the repeats of a cell, with their blocks where each repeat has a value."""

    values: tuple[float, ...]
    blocks: tuple[int, ...] = ()
    """As long as `values`, or empty where they do not belong to repeats."""


RatioRule = Callable[[Samples, Samples, int], Interval]
"""The ratio of two sets of positive samples, first over second, with its bounds; the last argument seeds resampling."""


def unpaired(a: Samples, b: Samples, seed: int) -> Interval:
    """The ratio of the medians, as core.stats.ratio_interval bounds it."""
    return ratio_interval(a.values, b.values, seed=seed)


RATIO: RatioRule = unpaired
"""The rule in force."""


def samples(cell: CellResults, name: str) -> Samples:
    """One measure of a cell's repeats."""
    values, blocks = cell.series(name), cell.summary.blocks
    return Samples(values, blocks if len(values) == len(blocks) else ())


def ratio(
    a: CellResults, b: CellResults, name: str, *, seed: int = 0, rule: RatioRule | None = None
) -> Interval | None:
    """Ratio of cell `a` to cell `b` with its bounds, kept while neither changes.

    Args:
        a: The cell whose value stands above the line.
        b: The one below it.
        name: Of the measure.
        seed: Of the resampling.
        rule: How bounds are found; None for the one in force (RATIO).

    Returns:
        None where either has fewer than two repeats, or values that are not positive.
    """
    key = (b.cell.key, name)
    if rule is None and key in a.ratios and a.ratios[key][0] is b:
        return a.ratios[key][1]
    mine, its = samples(a, name), samples(b, name)
    enough = min(len(mine.values), len(its.values)) >= MIN_REPEATS and min(*mine.values, *its.values) > 0
    found = (rule or RATIO)(mine, its, seed) if enough else None
    if rule is None:
        a.ratios[key] = (b, found)
    return found


def differs(interval: Interval | None) -> bool:
    """True where a ratio's bounds leave 1 out."""
    return interval is not None and not interval.low <= 1.0 <= interval.high


# the best
@dataclass(frozen=True, slots=True)
class Standing:
    """The best cell for a measure, and those that show no clear difference from it."""

    best: CellResults | None = None
    tied: tuple[CellResults, ...] = ()
    """Those that show no clear difference from it."""
    low: float = 0.0
    """The smallest headline of all cells."""
    high: float = 0.0
    """The largest."""
    too_early: bool = False
    """True where something is measured and a cell of it has too few repeats for a ranking."""

    @property
    def all(self) -> tuple[CellResults, ...]:
        """The best first, then those tied with it; empty where nothing is ranked."""
        return () if self.best is None else (self.best, *self.tied)


def standing(results: StudyResults, name: str) -> Standing:
    """Which cell is best; nothing is ranked by noise, nor while a measured cell has only one repeat."""
    return results.once(("standing", name), lambda: _standing(results, name))


def _standing(results: StudyResults, name: str) -> Standing:
    measured = [(c, v) for c in results.cells if c.done and isinstance(v := c.value(name), Value)]
    if not measured:
        return Standing()
    low, high = min(v.value for _, v in measured), max(v.value for _, v in measured)
    better = MEASURES[name].better
    if better == "neither":
        return Standing(low=low, high=high)
    if any(len(c.series(name)) < MIN_REPEATS for c, _ in measured):
        return Standing(low=low, high=high, too_early=True)
    pick = max if better == "more" else min
    top, _ = pick(measured, key=lambda pair: median(pair[0].series(name)))
    seed = results.study.seed
    tied = tuple(c for c, _ in measured if c is not top and not differs(ratio(c, top, name, seed=seed)))
    return Standing(top, tied, low, high)


def sign(ratio: Interval) -> int:
    """1 where a ratio is clearly above 1, −1 where it is clearly below, 0 where its bounds hold 1."""
    return 0 if not differs(ratio) else 1 if ratio.value > 1 else -1


# gains
@dataclass(frozen=True, slots=True)
class Gain:
    """What one level of a factor bought over another, all else equal."""

    factor: str
    low: Level
    high: Level
    """The level whose figure stands above the line."""
    ratios: tuple[Interval, ...]
    """One for each pair of cells that differ in nothing else."""
    where: tuple[Mapping[str, Level], ...] = ()
    """The other levels of each pair."""

    @property
    def signs(self) -> set[int]:
        """What its pairs say: 1 clearly more, −1 clearly less, 0 no clear difference."""
        return {sign(r) for r in self.ratios}

    def by_factor(self) -> tuple[str, list[tuple[Level, list[Interval]]]] | None:
        """The factor whose level decides what is said, and the ratios at each of its levels; None where none does."""
        for name in self.where[0] if self.where and len(self.signs) > 1 else ():
            groups: dict[Level, list[Interval]] = {}
            for r, levels in zip(self.ratios, self.where, strict=True):
                groups.setdefault(levels[name], []).append(r)
            if all(len({sign(r) for r in group}) == 1 for group in groups.values()):
                return name, list(groups.items())
        return None

    @property
    def clear(self) -> tuple[Interval, ...]:
        """Those whose bounds leave 1 out."""
        return tuple(r for r in self.ratios if differs(r))


def gains(results: StudyResults, name: str) -> list[Gain]:
    """For each varied factor, what each level bought over the one before it in the plan."""
    out = []
    by_levels: dict[object, CellResults] = {_without(c.cell.levels): c for c in results.cells if c.done}
    for factor, levels in results.study.vary.items():
        for low, high in itertools.pairwise(levels):
            found = _gain(results, by_levels, name, factor, low, high)
            if found.ratios:
                out.append(found)
    return out


def _gain(
    results: StudyResults, by_levels: Mapping[object, CellResults], name: str, factor: str, low: Level, high: Level
) -> Gain:
    ratios, where = [], []
    for cell in by_levels.values():
        if cell.cell.levels[factor] == high:
            other = by_levels.get(_without({**cell.cell.levels, factor: low}))
            found = None if other is None else ratio(cell, other, name, seed=results.study.seed)
            if found is not None:
                ratios.append(found)
                where.append({n: v for n, v in cell.cell.levels.items() if n != factor})
    return Gain(factor, low, high, tuple(ratios), tuple(where))


# tokenizers
DENSITY = "prompt_density"
SAME_DENSITY = 0.02
"""Prompts are as long as asked for within 1%; what differs by more is cut into tokens in another way."""
SAME_TOKENS = 2.0
"""And so many tokens: engines differ in whether a first special token is counted."""


def same_tokenizer(a: CellResults, b: CellResults) -> bool:
    """False where two cells that did the same work read other tokens, as far as their prompts tell."""
    if a.cell.settings["prompt_tokens"] != b.cell.settings["prompt_tokens"]:
        return True  # template and salt weigh otherwise: nothing can be said
    x, y, tokens = a.value(DENSITY), b.value(DENSITY), a.value("prompt_tokens")
    if not (isinstance(x, Value) and isinstance(y, Value) and isinstance(tokens, Value)):
        return True
    return abs(x.value / y.value - 1) <= max(SAME_DENSITY, SAME_TOKENS / tokens.value)


def other_tokenizers(results: StudyResults) -> tuple[CellResults, CellResults] | None:
    """Two measured cells of a study that read other tokens; None where all read the same."""
    return results.once("other tokenizers", lambda: _other_tokenizers(results))


def _other_tokenizers(results: StudyResults) -> tuple[CellResults, CellResults] | None:
    firsts: dict[object, CellResults] = {}
    for cell in results.cells:
        if cell.done:
            first = firsts.setdefault(cell.cell.settings["prompt_tokens"], cell)
            if not same_tokenizer(first, cell):
                return first, cell
    return None


def _without(levels: Mapping[str, Level], names: Sequence[str] = ()) -> tuple[tuple[str, str, Level], ...]:
    """Levels as a key: by name, and with their type, for 1 and true are not the same level."""
    return tuple((n, type(v).__name__, v) for n, v in sorted(levels.items()) if n not in names)


# two sets of cells
@dataclass(frozen=True)
class Side:
    """Cells of one study that are to be held against others: all, or those with certain levels."""

    results: StudyResults
    levels: Mapping[str, Level] = field(default_factory=dict)
    """Every cell of this side has them; the other side's cells may have others."""

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


@dataclass(frozen=True, slots=True)
class Unpaired:
    """A cell that has no counterpart, and why."""

    cell: CellResults
    reason: str


@dataclass(frozen=True, slots=True)
class Alignment:
    """Two sides laid beside each other."""

    pairs: tuple[Pair, ...]
    without: tuple[Unpaired, ...]
    """Cells of the first side that could not be paired."""

    @property
    def differences(self) -> tuple[Difference, ...]:
        """What differs in all pairs."""
        if not self.pairs:
            return ()
        shared = set(self.pairs[0].differences).intersection(*(p.differences for p in self.pairs[1:]))
        return tuple(d for d in self.pairs[0].differences if d in shared)


def align(a: Side, b: Side) -> Alignment:
    """Pair the cells of two sides: the same workload, and equal levels of all factors that neither side fixes."""
    named = {*a.levels, *b.levels}
    its: dict[object, list[CellResults]] = {}
    for cell in b.cells():
        its.setdefault(_work(b, cell), []).append(cell)
    pairs: list[Pair] = []
    without: list[Unpaired] = []
    for cell in a.cells():
        candidates = its.get(_work(a, cell), [])
        like = [c for c in candidates if _same_where_shared(cell, c, named)]
        if len(like) == 1:
            pairs.append(Pair(cell, like[0], tuple(_differences(a, b, cell, like[0]))))
        else:
            without.append(Unpaired(cell, _why_unpaired(b, cell, candidates, like)))
    return Alignment(tuple(pairs), tuple(without))


def _work(side: Side, cell: CellResults) -> str:
    return fingerprint(workload(side.results.study, cell.cell))


def _same_where_shared(a: CellResults, b: CellResults, named: set[str]) -> bool:
    """Equal levels of the factors that both studies vary, apart from those that are being compared."""
    shared = (a.cell.levels.keys() & b.cell.levels.keys()) - named
    return all(a.cell.levels[name] == b.cell.levels[name] for name in shared)


def _why_unpaired(b: Side, cell: CellResults, candidates: list[CellResults], like: list[CellResults]) -> str:
    if not b.cells():
        return "the other side has no cells"
    if not candidates:
        return "no cell on the other side did the same work: its prompts, lengths, limits, sampling or load differ"
    if len(like) > 1:
        names = ", ".join(sorted(like[0].cell.levels.keys() - cell.cell.levels.keys())) or "other factors"
        return f"{len(like)} cells on the other side match; choose one by {names}"
    return "no cell on the other side has the same levels"


def _differences(a: Side, b: Side, x: CellResults, y: CellResults) -> list[Difference]:
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
