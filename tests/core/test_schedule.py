"""What comes next in a run: by the plan, by what a person decided, by what is done; never by a list made before."""

from __future__ import annotations

import dataclasses
from collections import Counter
from collections.abc import Callable, Sequence

from hypothesis import given
from hypothesis import strategies as st

from tests.build import repeat, repeats_at, study, timeline
from zinc_kettle.core.plan.factors import Level
from zinc_kettle.core.plan.study import Repeats, Study
from zinc_kettle.core.results import KeptRepeat, RunInfo, StudyResults
from zinc_kettle.core.run.budget import launches
from zinc_kettle.core.run.decisions import KINDS, Decision, More, Settle, Step
from zinc_kettle.core.run.schedule import NOTHING, Schedule, Tally, whole_order

Decider = Callable[[Step, int], Sequence[Decision]]


def walk(
    plan: Study, decide: Decider = lambda _step, _count: (), *, fails: frozenset[str] = frozenset(), most: int = 500
) -> tuple[list[Step], Schedule]:
    """All steps of a run in which each repeat takes a decode of 10, with decisions taken while a step runs."""
    schedule, done, steps = Schedule(plan), dict[str, Tally](), list[Step]()
    while (step := schedule.next_step(done)) is not None and len(steps) < most:
        steps.append(step)
        new = decide(step, len(steps))
        done[step.cell] = done.get(step.cell, NOTHING).with_repeat(step.block, [] if step.cell in fails else [10.0])
        if new:
            schedule = Schedule(plan, (*schedule.decisions, *new))
    return steps, schedule


def decision(kind: str, step: Step, count: int = 0, **levels: Level) -> Decision:
    """A decision taken while a step ran."""
    return More(1.0, levels, step, count=count) if kind == More.kind else KINDS[kind](1.0, levels, step)


@given(st.integers(0, 2**31 - 1), st.integers(1, 6))
def test_interleaved_blocks_hold_every_cell_once(seed: int, count: int) -> None:
    """Each block is a permutation of all cells, blocks come one after another, and the same seed gives the same."""
    plan = study(seed=seed, repeats=Repeats(count=count))
    steps, _ = walk(plan)
    assert [s.block for s in steps] == [b for b in range(count) for _ in range(6)]
    for block in range(count):
        assert sorted(s.cell for s in steps if s.block == block) == sorted(plan.by_key)
    assert steps == walk(plan)[0] == whole_order(plan)


def test_by_launch_saves_reloads_and_runs_the_same() -> None:
    """Grouped: as many launches as configurations, each cell in each block still once."""
    plan = study({"threads": (1, 2), "concurrency": (1, 2)}, repeats=Repeats(count=4, order="by-launch"))
    steps, _ = walk(plan)
    assert Counter((s.block, s.cell) for s in steps) == Counter((b, key) for b in range(4) for key in plan.by_key)
    assert launches(plan, steps) == launches(plan) == 2
    assert launches(study({"threads": (1, 2), "concurrency": (1, 2)}, repeats=Repeats(count=4))) > 2


@given(st.integers(0, 17), st.integers(0, 17))
def test_a_resumed_run_does_what_is_missing(first: int, broken: int) -> None:
    """After any number of steps, with one of them broken off: the rest, each once, the broken one again."""
    plan = study(repeats=Repeats(count=3))
    all_steps = whole_order(plan)
    done: dict[str, Tally] = {}
    for i, step in enumerate(all_steps[:first]):
        if i != broken:
            done[step.cell] = done.get(step.cell, NOTHING).with_repeat(step.block)
    rest = []
    while (step_now := Schedule(plan).next_step(done)) is not None:
        rest.append(step_now)
        done[step_now.cell] = done.get(step_now.cell, NOTHING).with_repeat(step_now.block)
    missing = [s for i, s in enumerate(all_steps) if i >= first or i == broken]
    assert Counter(rest) == Counter(missing)


def test_a_skipped_cell_is_left_out_and_can_be_taken_back() -> None:
    """By its levels, all cells that have them; what is measured of it stays."""
    plan = study(repeats=Repeats(count=2))

    def decide(step: Step, count: int) -> list[Decision]:
        found = []
        if count == 6:
            found = [decision("skip", step, quantization="F16"), decision("skip", step, quantization="Q4_0", threads=1)]
        if count == 8:
            found = [decision("restore", step, quantization="Q4_0")]
        return found

    steps, schedule = walk(plan, decide)
    second = {tuple(plan.by_key[s.cell].levels.values()) for s in steps if s.block == 1}
    assert ("F16", 1) not in second and ("F16", 2) not in second and ("Q4_0", 1) in second
    assert len(schedule.skipped) == 2 and schedule.wanted(steps[0].cell) in {0, 2}


def test_more_repeats_come_in_later_blocks() -> None:
    """Two more of one cell: it alone runs on, in blocks of its own."""
    plan = study({"threads": (1, 2)}, repeats=Repeats(count=2))
    steps, _ = walk(plan, lambda step, count: [decision("more", step, 2, threads=2)] if count == 1 else [])
    cell = plan.cells[1].key
    assert [s.block for s in steps if s.cell == cell] == [0, 1, 2, 3]
    assert [s.block for s in steps if s.cell != cell] == [0, 1]


def test_only_what_is_new_of_an_added_level_is_measured() -> None:
    """From the block that ran on, as often as the others; those are not measured again."""
    plan = study({"threads": (1, 2)}, repeats=Repeats(count=3))
    steps, schedule = walk(plan, lambda step, count: [decision("add-level", step, threads=4)] if count == 3 else [])
    new = next(c.key for c in schedule.whole.cells if c.levels["threads"] == 4)
    assert [s.block for s in steps if s.cell == new] == [1, 2, 3]
    assert Counter(s.cell for s in steps) == Counter({c.key: 3 for c in schedule.whole.cells})
    assert [c.key for c in schedule.whole.cells][:2] == [c.key for c in plan.cells], "keys are by levels"
    again = Schedule(plan, (*schedule.decisions, decision("add-level", steps[0], threads=2)))
    assert len(again.whole.cells) == 3, "a level that is there is not added twice"


def test_what_is_wanted_first_comes_first() -> None:
    """All that is left of the named cells before anything else, each once; then in turn again as planned."""
    plan = study({"threads": (1, 2, 4)}, repeats=Repeats(count=3))
    chosen = next(cell.key for cell in plan.cells if cell.levels["threads"] == 4)
    steps, _ = walk(plan, lambda step, count: [decision("first", step, threads=4)] if count == 2 else [])
    rest = [s.cell for s in steps[2:]]
    left = 3 - [s.cell for s in steps[:2]].count(chosen)
    assert rest[:left] == [chosen] * left and chosen not in rest[left:]
    assert Counter((s.cell, s.block) for s in steps) == Counter((k, b) for k in plan.by_key for b in range(3))

    def both(step: Step, count: int) -> list[Decision]:
        return {2: [decision("first", step, threads=4)], 3: [decision("in-turn", step)]}.get(count, [])

    again, _ = walk(plan, both)
    assert Counter(s.cell for s in again) == Counter(dict.fromkeys(plan.by_key, 3))


def test_stop_after_this_block_and_go_on() -> None:
    """The block that runs is finished, nothing of the next is begun; by launch that of the launch."""
    plan = study(repeats=Repeats(count=3))
    steps, schedule = walk(plan, lambda step, count: [decision("stop-after", step)] if count == 8 else [])
    assert len(steps) == 12 and {s.block for s in steps[6:]} == {1}
    done = {key: Tally(frozenset({0, 1})) for key in plan.by_key}
    assert schedule.next_step(done) is None
    assert Schedule(plan, (*schedule.decisions, decision("resume", steps[0]))).next_step(done) is not None
    grouped = dataclasses.replace(plan, repeats=Repeats(count=3, order="by-launch"))
    some, _ = walk(grouped, lambda step, count: [decision("stop-after", step)] if count == 2 else [])
    assert len(some) == 2


def test_pause_and_go_on() -> None:
    """The last of the two counts."""
    plan, step = study(), Step(0, "")
    assert not Schedule(plan).paused
    paused = (decision("pause", step),)
    assert Schedule(plan, paused).paused and not Schedule(plan, (*paused, decision("resume", step))).paused


def test_until_narrow_ends_also_where_all_fails() -> None:
    """Equal values are narrow at the first look; one that always fails is tried no more often than it may be."""
    plan = study({"threads": (1, 2)}, repeats=Repeats(count=6, until_percent=2.0, ceiling=9))
    bad = plan.cells[0].key
    steps, _ = walk(plan, fails=frozenset({bad}))
    assert Counter(s.cell for s in steps) == {bad: 9, plan.cells[1].key: 7}


def test_a_settled_cell_gets_no_more_unless_it_is_asked_for() -> None:
    """The log says after how many its question was answered; the others go on to their next look."""
    plan = study({"threads": (1, 2)}, repeats=Repeats(count=3, until_answered="best", ceiling=12))
    one, two = plan.cells
    settled = Settle(0.0, one.levels, count=3)
    tally = Tally(frozenset(range(3)), (1.0, 1.0, 1.0), (0, 1, 2))
    schedule = Schedule(plan, (settled,))
    assert schedule.wanted(one.key, tally) == 3 and schedule.wanted(two.key, tally) == 4
    more = Schedule(plan, (settled, More(0.0, one.levels, count=2)))
    assert more.wanted(one.key, tally) == 5
    steps, _ = walk(plan, lambda _step, count: [settled] if count == 6 else [])
    assert Counter(s.cell for s in steps) == {one.key: 3, two.key: 12}


def test_each_run_draws_orders_of_its_own_and_mirrors_every_other_block() -> None:
    """The same run gives the same orders again; a steady drift is the same for all cells over two blocks."""
    plan = study(repeats=Repeats(count=4))

    def order(run: str) -> list[list[str]]:
        schedule, done, blocks = Schedule(plan, run=run), dict[str, Tally](), list[list[str]]()
        while (step := schedule.next_step(done)) is not None:
            blocks += [[] for _ in range(step.block + 1 - len(blocks))]
            blocks[step.block].append(step.cell)
            done[step.cell] = done.get(step.cell, Tally()).with_repeat(step.block)
        return blocks

    one = order("a")
    assert one == order("a") and one != order("b") and one[0] != one[2]
    assert one[1] == one[0][::-1] and one[3] == one[2][::-1]
    places = [key for block in one for key in block]
    assert len({sum(i for i, key in enumerate(places) if key == cell) for cell in plan.by_key}) == 1


def test_repeats_without_the_figure_that_decides_are_made_up_for() -> None:
    """Eight repeats were measured, two of them without a decode speed: it is done, with eight of eight wanted."""
    plan = study({"threads": (1,)}, repeats=Repeats(count=6, until_percent=0.001, ceiling=8))
    without = [repeat(timeline((200.0,), tokens=(9,)), block=i) for i in (6, 7)]
    kept = [KeptRepeat("measured", r) for r in [*repeats_at(10.0, 11.0, 12.0, 9.0, 10.5, 11.5), *without]]
    (cell,) = StudyResults.of_repeats(plan, {plan.cells[0].key: kept}, RunInfo("r")).cells
    assert (cell.done, len(cell.series("decode")), cell.wanted) == (8, 6, 8)
