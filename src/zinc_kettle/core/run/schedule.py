"""What comes next in a run: a pure function of the plan, of what a person decided since, and of what is done.

Nothing walks a list made at the start: skipping a cell, more repeats, a further level, a pause and an early stop are
entries of an append-only log, and the next step is found again after each repeat. Reasons: docs/measures.md, section
'Order of runs'.
"""

from __future__ import annotations

import random
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property, lru_cache

from zinc_kettle.core.plan.study import LaunchSpec, Repeats, Study
from zinc_kettle.core.run.decisions import (
    AddLevel,
    Decision,
    FailurePolicy,
    First,
    InTurn,
    More,
    OnFailure,
    Pause,
    Restore,
    Resume,
    Settle,
    Skip,
    Step,
    StopAfter,
)
from zinc_kettle.core.run.precision import wanted_repeats


@dataclass(frozen=True, slots=True)
class Tally:
    """What a cell has so far."""

    blocks: frozenset[int] = frozenset()
    """Blocks in which its repeat was measured, or failed."""
    values: tuple[float, ...] = ()
    """The measure that decides how often it is repeated, of each measured repeat that has it."""
    at: tuple[int, ...] = ()
    """The block of each of these."""
    failed: frozenset[int] = frozenset()
    """Of the blocks those in which it failed, however often, and was never measured."""

    def with_repeat(self, block: int, values: Sequence[float] = (), *, failed: bool = False) -> Tally:
        """The tally after one more repeat; a failed one brings no value."""
        left = self.failed | {block} if failed else self.failed - {block}
        return Tally(self.blocks | {block}, (*self.values, *values), (*self.at, *(block for _ in values)), left)

    def without(self, failed: frozenset[int]) -> Tally:
        """The tally as though it had not been tried in these blocks, in which it failed."""
        return replace(self, blocks=self.blocks - failed, failed=self.failed - failed)

    @property
    def measured(self) -> int:
        """Blocks in which it was measured."""
        return len(self.blocks) - len(self.failed)

    @property
    def by_block(self) -> dict[int, float]:
        """The values by their blocks."""
        return dict(zip(self.at, self.values, strict=True))


NOTHING = Tally()
Done = Mapping[str, Tally]
"""By key; a cell without an entry has nothing yet."""


def widened(study: Study, decisions: Sequence[Decision]) -> Study:
    """The study with the levels that were added; the plan it was begun with where none was."""
    vary = dict(study.vary)
    for decision in decisions:
        if isinstance(decision, AddLevel):
            for name, level in decision.levels.items():
                if name in vary and level not in vary[name]:
                    vary[name] = (*vary[name], level)
    searched = study.capacity.factor
    if vary.get(searched) != study.vary.get(searched):
        vary[searched] = tuple(sorted(vary[searched], key=lambda level: level if isinstance(level, int) else 0))
    return study if vary == study.vary else replace(study, vary=vary)


@dataclass(frozen=True)
class Schedule:
    """A plan with its decisions, prepared for being asked often."""

    study: Study
    """As it was begun."""
    decisions: tuple[Decision, ...] = ()
    run: str = ""
    """Id of the run: each has an order of its own, so that none repeats another's luck."""

    @cached_property
    def whole(self) -> Study:
        """The study with all levels there are by now."""
        return widened(self.study, self.decisions)

    @property
    def draw(self) -> str:
        """Names the draw of its orders."""
        return f"{self.study.seed}-{self.run}"

    @property
    def paused(self) -> bool:
        """True while nothing is to be begun."""
        return isinstance(_last(self.decisions, Pause, Resume), Pause)

    @cached_property
    def first(self) -> frozenset[str]:
        """Cells that are measured before all others, whatever the block."""
        out: set[str] = set()
        for decision in self.decisions:
            if isinstance(decision, InTurn):
                out.clear()
            elif isinstance(decision, First):
                out |= self._meant(decision)
        return frozenset(out)

    @property
    def on_failure(self) -> FailurePolicy:
        """What happens when a repeat has failed."""
        last = _last(self.decisions, OnFailure)
        return last.policy if isinstance(last, OnFailure) else "go-on"

    @cached_property
    def skipped(self) -> frozenset[str]:
        """Cells that are left out."""
        out: set[str] = set()
        for decision in self.decisions:
            if isinstance(decision, Skip):
                out |= self._meant(decision)
            elif isinstance(decision, Restore):
                out -= self._meant(decision)
        return frozenset(out)

    def _meant(self, decision: Decision) -> set[str]:
        return {cell.key for cell in self.whole.cells if decision.means(cell.levels)}

    @cached_property
    def _further(self) -> Mapping[str, int]:
        """Repeats that were added, by cell."""
        out: dict[str, int] = {}
        for decision in self.decisions:
            if isinstance(decision, More):
                for key in self._meant(decision):
                    out[key] = out.get(key, 0) + decision.count
        return out

    @cached_property
    def settled(self) -> Mapping[str, int]:
        """Repeats of the cells of which the question needs no more."""
        keys = {tuple(cell.levels.items()): cell.key for cell in self.whole.cells} if self.decisions else {}
        settled = (d for d in self.decisions if isinstance(d, Settle))
        found = ((keys.get(tuple(d.levels.items())), d.count) for d in settled)
        return {key: count for key, count in found if key is not None}

    @cached_property
    def _first_block(self) -> Mapping[str, int]:
        """The block from which on a cell of a level added later takes part; those of the plan do from block 0."""
        out: dict[str, int] = {}
        for decision in self.decisions:
            if isinstance(decision, AddLevel) and decision.step is not None:
                ((name, level),) = decision.levels.items()
                known = level in self.study.vary.get(name, ())
                for cell in () if known else self.whole.cells:
                    if cell.levels.get(name) == level:
                        out.setdefault(cell.key, decision.step.block)
        return out

    def wanted(self, key: str, tally: Tally = NOTHING) -> int:
        """Repeats a cell needs, by what it has; none where it is skipped."""
        if key in self.skipped:
            return 0
        settled = self.settled.get(key)
        least = _wanted(self.study.repeats, tally.values) if settled is None else settled
        return least + self._further.get(key, 0)

    def needs(self, key: str, tally: Tally, block: int) -> bool:
        """True where a cell is to be measured in a block."""
        if block in tally.blocks or block < self._first_block.get(key, 0):
            return False
        wanted = self.wanted(key, tally)
        if not self.study.repeats.adaptive:
            return len(tally.blocks) < wanted
        # A repeat that failed says nothing of the interval, but a cell that always fails must end.
        return len(tally.values) < wanted and len(tally.blocks) < self.study.repeats.most + self._further.get(key, 0)

    def next_step(self, done: Done, *, from_block: int = 0) -> Step | None:
        """What is to be measured now; None where nothing is left, or nothing is to be begun.

        Args:
            done: What each cell has.
            from_block: Blocks before are known to be complete; only saves time.
        """
        found = next(self._left(done, from_block), None)
        return None if found is None or self._stopped_before(found) else found

    def _left(self, done: Done, from_block: int) -> Iterator[Step]:
        ahead = tuple(key for key in self.whole.by_key if key in self.first)
        for block in range(self._blocks(ahead, done) if ahead else 0):
            for key in shuffled(ahead, self.draw, block):
                if self.needs(key, done.get(key, NOTHING), block):
                    yield Step(block, key)
        for keys in self.groups:
            most = self._blocks(keys, done)
            for block in range(from_block, most):
                for key in shuffled(keys, self.draw, block):
                    if self.needs(key, done.get(key, NOTHING), block):
                        yield Step(block, key)

    def _blocks(self, keys: Sequence[str], done: Done) -> int:
        """The number of blocks after which no cell can need another one."""
        late = max(self._first_block.values(), default=0)
        behind = max((max(done[k].blocks, default=-1) + 1 for k in keys if k in done), default=0)
        return max(self.study.repeats.most + max(self._further.values(), default=0), behind) + late + 1

    @cached_property
    def groups(self) -> tuple[tuple[str, ...], ...]:
        """Cells that run together: all in one, or those that share a launch."""
        cells = self.whole.cells
        if self.study.repeats.order == "interleaved":
            return (tuple(cell.key for cell in cells),)
        groups: dict[LaunchSpec, list[str]] = {}
        for cell in cells:
            groups.setdefault(cell.launch, []).append(cell.key)
        launches = [tuple(keys) for keys in groups.values()]
        random.Random(self.study.seed).shuffle(launches)
        return tuple(launches)

    def _stopped_before(self, step: Step) -> bool:
        """True where a person wanted the run to end with the block that ran then, and this step is beyond it."""
        last = _last(self.decisions, StopAfter, Resume)
        if not isinstance(last, StopAfter):
            return False
        at = last.step
        if at is None:
            return True
        together = next((keys for keys in self.groups if at.cell in keys), ())
        return step.block != at.block or step.cell not in together


def _last(decisions: Sequence[Decision], *kinds: type[Decision]) -> Decision | None:
    return next((d for d in reversed(decisions) if isinstance(d, kinds)), None)


@lru_cache(maxsize=1 << 18)
def _wanted(repeats: Repeats, values: tuple[float, ...]) -> int:
    """Kept: it is asked of every cell after each repeat."""
    return wanted_repeats(repeats, values)


@lru_cache(maxsize=64)
def shuffled(keys: tuple[str, ...], draw: str, block: int) -> tuple[str, ...]:
    """A block's order: all its cells, drawn again for every other block and mirrored in the one behind it.

    In two blocks that mirror each other every cell stands in the middle at the same time on average: what drifts
    steadily cancels, as in the sequence ABBA (Cox 1951).

    Args:
        keys: The cells.
        draw: Names the draw; the same name gives the same orders.
        block: Counted from 0.
    """
    out = list(keys)
    random.Random(f"{draw}-{block // 2}").shuffle(out)
    return tuple(reversed(out) if block % 2 else out)


def whole_order(study: Study) -> list[Step]:
    """All steps of a study of which nothing is done, as if each cell were repeated as often as it may be."""
    return [
        Step(block, key)
        for schedule in [Schedule(study)]
        for keys in schedule.groups
        for block in range(study.repeats.most)
        for key in shuffled(keys, schedule.draw, block)
    ]
