"""How often the tool's answers are right: duels, lineups, the index, and the largest load, against known physics.

    PYTHONPATH=. python benchmarks/answers.py [PART …]      writes docs/answers.md and benchmarks/out/answers.json

The rehearsal's engines run by physics that are known (sim/physics.py), so true ratios and true limits are, too: those
of the same engine without noise. Trials are simulated in a time of their own (sim/virtual.py) and go through the tool's
own functions; ten duels and three searches also run through the whole tool (part `whole`): servers, driver, store.
"""

from __future__ import annotations

import itertools
import json
import math
import os
import random
import subprocess
import sys
import tempfile
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from functools import cache
from pathlib import Path
from typing import Any

from zinc_kettle.core.compare.choice import choice, ratio_of
from zinc_kettle.core.compare.duel import duel
from zinc_kettle.core.compare.gate import gate, planned_looks
from zinc_kettle.core.compare.lineup import Entrant, lineup
from zinc_kettle.core.compare.loads import load_verdicts
from zinc_kettle.core.compare.score import FULL, configurations, reference_of
from zinc_kettle.core.compare.scoreboard import scoreboard
from zinc_kettle.core.compare.sides import Side
from zinc_kettle.core.compare.speed_index import index
from zinc_kettle.core.measures.decode import decode
from zinc_kettle.core.measures.traffic import first_output_s
from zinc_kettle.core.plan.decide import Decide
from zinc_kettle.core.plan.factors import Level
from zinc_kettle.core.plan.study import Prompts, Repeats, Study
from zinc_kettle.core.plan.traffic import CapacitySearch, Promise
from zinc_kettle.core.record.repeat import Missing, Repeat
from zinc_kettle.core.results import KeptRepeat, RunInfo, StudyResults
from zinc_kettle.core.search.capacity import CapacityResult, capacities, search
from zinc_kettle.core.search.trial import trial_of
from zinc_kettle.core.stats import Interval, median, quantile
from zinc_kettle.sim.fleet import SIM_RIGS, SimRig
from zinc_kettle.sim.virtual import VirtualEngine

OUT = Path(__file__).parent / "out" / "answers.json"
DOC = Path(__file__).parent.parent / "docs" / "answers.md"
SETTINGS: dict[str, Any] = {"model": "brine-1b", "quantization": "Q8_0", "threads": 8, "slots": 64, "context": 512}
TRIALS, SEARCHES, BLOCKS = 200, 50, 6
RATIOS = (1.00, 1.02, 1.05, 1.10)
NOISE = 0.08
"""Of a step: with 48 tokens in a repeat it makes repeats scatter by about 1%."""
WITHIN = 0.05


def rig(times: float, noise: float = NOISE) -> SimRig:
    """The made-up rig gannet, its card and memory so many times as fast."""
    base = SIM_RIGS["gannet"]
    cards = tuple(replace(d, bandwidth=d.bandwidth * times, flops=d.flops * times) for d in base.devices)
    return replace(
        base, devices=cards, bandwidth=base.bandwidth * times, core_bandwidth=base.core_bandwidth * times, noise=noise
    )


def one(times: float, *, seed: int, block: int, noise: float = NOISE) -> Repeat:
    """A repeat of two requests, after one to warm up."""
    engine = VirtualEngine(rig(times, noise), SETTINGS, seed=seed)
    engine.closed(1, 1, prompt=128, output=8)
    return engine.closed(1, 2, prompt=128, output=24, block=block)


@cache
def speed(times: float) -> float:
    """Decode of the rig without noise."""
    found = decode(one(times, seed=1, block=0, noise=0.0))
    assert not isinstance(found, Missing)
    return found


def study(levels: Sequence[str]) -> Study:
    """A study of so many rigs."""
    hold: dict[str, Level] = {"model": "brine-1b", "prompt_tokens": 128, "output_tokens": 24}
    return Study("rehearsed", "Which?", {"rig": tuple(levels)}, hold=hold, repeats=Repeats(count=BLOCKS))


def rehearsed(
    times: Mapping[str, float], seed: int, *, noise: float = NOISE, blocks: int = BLOCKS, run: str = "run"
) -> StudyResults:
    """A run over rigs that are so many times as fast, block by block."""
    plan = study(list(times))
    kept = {}
    for cell in plan.cells:
        fast, first = times[str(cell.levels["rig"])], 1000 * seed + cell.index
        kept[cell.key] = [
            KeptRepeat("measured", one(fast, seed=first + 37 * block, block=block, noise=noise))
            for block in range(blocks)
        ]
    return StudyResults.of_repeats(plan, kept, RunInfo(run, number=1))


@dataclass(frozen=True)
class Row:
    """How often something was right."""

    what: str
    right: int
    of: int
    more: str

    @property
    def share(self) -> float:
        """Of the trials."""
        return self.right / self.of


def duels() -> list[Row]:
    """Verdicts on decode: wrong is a false claim, or an interval without the truth; and claims on anything else."""
    out = []
    for times in RATIOS:
        truth, right, claimed, others = speed(times) / speed(1.0), 0, 0, 0
        for seed in range(TRIALS):
            results = rehearsed({"a": 1.0, "b": times}, seed)
            found = duel(Side(results, {"rig": "a"}), Side(results, {"rig": "b"}))
            contest = found.contest("decode")
            assert contest is not None and contest.ratio is not None
            claims = contest.verdict in {"a", "b"}
            right += contest.ratio.low <= truth <= contest.ratio.high and not (claims and times == 1.0)
            right -= contest.verdict == "a" and times > 1.0
            claimed += claims
            others += times == 1.0 and any(c.verdict in {"a", "b"} for c in found.contests)
        more = f"a difference is claimed in {claimed / TRIALS:.1%}"
        more += f", in any measure at all in {others / TRIALS:.1%}" if times == 1.0 else ""
        out.append(Row(f"duel, true ratio {truth:.3f}", right, TRIALS, more))
    return out


def lineups() -> list[Row]:
    """Four rigs, two of them equal: the order is right, and the equal ones are not told apart."""
    right = apart = 0
    times = {"a": 1.0, "b": 1.0, "c": 1.1, "d": 1.25}
    for seed in range(TRIALS):
        results = rehearsed(times, 5000 + seed)
        (group,) = lineup([Entrant(name, Side(results, {"rig": name})) for name in times], "decode").groups
        place = {p.entrant.name: p for p in group.places}
        false = "b" not in place["a"].alike
        order = all(
            times[x.entrant.name] >= times[y.entrant.name] or y.entrant.name in x.alike
            for x, y in itertools.combinations(group.places, 2)
        )
        apart += false
        right += order and not false
    return [
        Row("lineup of four, two of them equal", right, TRIALS, f"the equal ones are set apart in {apart / TRIALS:.1%}")
    ]


def indexes() -> list[Row]:
    """Against a reference: 1 for itself, and the true ratio within the interval of decode."""
    right = 0
    truth = speed(1.1) / speed(1.0)
    for seed in range(TRIALS):
        results = rehearsed({"a": 1.0, "b": 1.1}, 9000 + seed)
        sides = [Entrant(name, Side(results, {"rig": name})) for name in ("a", "b")]
        own, other = index(sides, sides[0])
        assert own.both is not None and other.decode is not None
        right += own.both.value == 1.0 and other.decode.low <= truth <= other.decode.high
    return [
        Row("index, itself and one 10% faster", right, TRIALS, "1 exactly for itself, and the interval holds the truth")
    ]


# a score
SCORES = 300
TASKS = {
    "ask": (40, 24),
    "read": (512, 12),
    "extract": (256, 32),
    "draft": (48, 96),
    "chat": (384, 24),
    "code": (128, 64),
}
"""Of each task the tokens of its prompt and of its answer."""


def tasked(times: float, seed: int, *, noise: float = NOISE, run: str = "run", blocks: int = BLOCKS) -> StudyResults:
    """A run over six tasks on one rig."""
    plan = replace(
        study([]),
        vary={"task": tuple(TASKS)},
        hold={"model": "brine-1b"},
        prompts=Prompts(tasks={t: (t,) for t in TASKS}),
    )
    kept = {}
    for cell in plan.cells:
        prompt, output = TASKS[str(cell.levels["task"])]
        rows = []
        for block in range(blocks):
            engine = VirtualEngine(rig(times, noise), SETTINGS, seed=100_000 * seed + 100 * cell.index + block)
            engine.closed(1, 1, prompt=prompt, output=8)
            rows.append(KeptRepeat("measured", engine.closed(1, 1, prompt=prompt, output=output, block=block)))
        kept[cell.key] = rows
    return StudyResults.of_repeats(plan, kept, RunInfo(run, number=1))


def scores() -> list[Row]:
    """Runs of others, each by itself: no order among equals, and the score holds the truth."""
    quiet = {times: tasked(times, 1, noise=0.0, blocks=3) for times in (1.0, 1.05)}
    against = reference_of(quiet[1.0], "the rig without noise")
    (places,) = (g.places for g in scoreboard([Entrant("a", configurations(quiet[1.05])[0])], against).groups)
    truth, held, alone, named = places[0].value, 0, 0, 0
    for seed in range(SCORES):
        made = {"a": 1.0, "b": 1.0, "c": 1.05}
        sides = {
            name: configurations(tasked(t, 10 * seed + i, run=name))[0] for i, (name, t) in enumerate(made.items())
        }
        (equal,) = scoreboard([Entrant(name, sides[name]) for name in ("a", "b")], against).groups
        alone += bool(equal.places[1].alike)
        (group,) = scoreboard([Entrant(name, side) for name, side in sides.items()], against).groups
        first = group.places[0]
        named += first.entrant.name == "c" and not first.alike
        held += sum(p.low <= (truth if p.entrant.name == "c" else FULL) <= p.high for p in group.places)
    return [
        Row("score of two equal rigs, each in a run of its own", alone, SCORES, "none is set below the other"),
        Row(
            f"scores of three rigs, one of {truth:.1f} beside two of {FULL:.0f}",
            held,
            3 * SCORES,
            f"an interval holds its truth; the best one leads alone in {named / SCORES:.1%}",
        ),
    ]


# what a study decides
DECISIONS = 400
LENGTHS = (128, 512)
"""Conditions: each rig is measured with both prompts, and the best is found over the two."""


def deciding(times: Mapping[str, float], seed: int, decide: Decide) -> StudyResults:
    """A run over rigs that are so many times as fast and two lengths of the prompt."""
    plan = replace(study(list(times)), vary={"rig": tuple(times), "prompt_tokens": LENGTHS}, hold={}, decide=decide)
    kept = {}
    for cell in plan.cells:
        fast, prompt = times[str(cell.levels["rig"])], int(cell.levels["prompt_tokens"])
        repeats = [
            asked(fast, seed=100_000 * seed + 100 * cell.index + block, block=block, prompt=prompt)
            for block in range(BLOCKS)
        ]
        kept[cell.key] = [KeptRepeat("measured", r) for r in repeats]
    return StudyResults.of_repeats(plan, kept, RunInfo("run", number=1))


def asked(times: float, *, seed: int, block: int, prompt: int, noise: float = NOISE) -> Repeat:
    """A repeat of one request with a prompt of some length, after one to warm up."""
    engine = VirtualEngine(rig(times, noise), SETTINGS, seed=seed)
    engine.closed(1, 1, prompt=prompt, output=8)
    return engine.closed(1, 1, prompt=prompt, output=48, block=block)


def _true(times: float) -> tuple[float, ...]:
    """Decode without noise, at each length."""
    found = [decode(asked(times, seed=1, block=0, prompt=prompt, noise=0.0)) for prompt in LENGTHS]
    return tuple(v for v in found if not isinstance(v, Missing))


def decisions() -> list[Row]:
    """Each kind of sentence a study's decision has: best, by how much, alike, ruled out."""
    equal, faster = {"a": 1.0, "b": 1.0, "c": 1.0}, {"a": 1.0, "b": 1.0, "c": 1.08}
    slow, fast = _true(1.0), _true(1.08)
    truth = math.exp(sum(math.log(y / x) for x, y in zip(slow, fast, strict=True)) / len(LENGTHS))
    near = {"a": 1.0, "b": 1.045, "c": 1.045}
    bound = Decide(provided=(f"decode >= {min(slow):.6f}",))
    said = holds = named = kept = out = tied = 0
    for seed in range(DECISIONS):
        level = choice(deciding(equal, seed, Decide()), "decode")
        said += not level.others
        ahead = choice(deciding(faster, DECISIONS + seed, Decide()), "decode")
        best = ahead.best is not None and ahead.best.levels["rig"] == "c"
        named += best and not ahead.tied
        holds += not ahead.tied and best and ahead.ratio is not None and ahead.ratio.low <= truth <= ahead.ratio.high
        behind = choice(deciding(near, 2 * DECISIONS + seed, Decide()), "decode")
        alike = behind.within_percent is not None and any(c.levels["rig"] == "a" for c in behind.tied)
        kept += not alike
        ruled = choice(deciding(equal, 3 * DECISIONS + seed, bound), "decode")
        out += not ruled.unfit
        tied += len(ruled.unfit)
    three = "three rigs at two lengths of the prompt"
    return [
        Row(f"best of {three}, all equal", said, DECISIONS, "nobody is put below the best"),
        Row(
            f"best of {three}, one {truth - 1:.1%} faster",
            holds,
            named,
            f"its ratio to the next holds the truth; it is named the best in {named / DECISIONS:.1%}",
        ),
        Row("*not more than 3% behind*, of one that is 4% behind", kept, DECISIONS, "it is not said"),
        Row(
            "a bound at the very speed of three equal rigs",
            out,
            DECISIONS,
            f"nobody is ruled out; of single rigs {tied / (3 * DECISIONS):.1%} are",
        ),
    ]


# what is told of levels that nobody chooses
SENTENCES = 500
LOADS = (2, 8)
"""Streams; the larger one is where a promise is kept just as often as it was made."""


def sentences() -> list[Row]:
    """A fall or a rise along levels that do nothing, and one that is there; a promise at the very limit."""
    depths = (64, 512)
    plan = Study(
        "s", "How?", {"depth": depths}, hold={"model": "m", "prompt_tokens": 64}, repeats=Repeats(count=BLOCKS)
    )

    def changed(times: Sequence[float], seed: int) -> Interval | None:
        kept = {
            cell.key: [
                KeptRepeat(
                    "measured", asked(fast, seed=10_000 * seed + 100 * cell.index + block, block=block, prompt=64)
                )
                for block in range(BLOCKS)
            ]
            for cell, fast in zip(plan.cells, times, strict=True)
        }
        results = StudyResults.of_repeats(plan, kept, RunInfo("run", number=1))
        return ratio_of([results.cells[1]], [results.cells[0]], "decode")

    quiet = held = told = 0
    truth = _decoded(0.95) / _decoded(1.0)
    for seed in range(SENTENCES):
        same, slower = changed((1.0, 1.0), seed), changed((1.0, 0.95), SENTENCES + seed)
        quiet += same is not None and same.low <= 1 <= same.high
        falls = slower is not None and slower.high < 1
        told += falls
        held += slower is not None and falls and slower.low <= truth <= slower.high
    return [
        Row("*rises* or *falls* along two levels that are alike", quiet, SENTENCES, "neither is said"),
        Row(
            f"*falls*, where it does, by {1 - truth:.1%}",
            held,
            told,
            f"the figure's interval holds the truth; it is said in {told / SENTENCES:.1%}",
        ),
        _promised(),
    ]


def _decoded(times: float) -> float:
    found = decode(asked(times, seed=1, block=0, prompt=64, noise=0.0))
    assert not isinstance(found, Missing)
    return found


def _promised() -> Row:
    """Two loads, the larger one at the limit: the promise is the 95th percentile of its own waits, over 200 repeats."""
    waits = [first_output_s(t) for r in closed("gannet", LOADS[1], seed=99, repeats=200) for t in r.measured]
    limit = quantile([w for w in waits if w is not None], 0.95)
    plan = Study(
        "s",
        "How many?",
        {"concurrency": LOADS},
        hold={"model": "m", "prompt_tokens": 64},
        repeats=Repeats(count=BLOCKS),
        promise=Promise(ttft_s=limit),
    )
    right = sure = 0
    for seed in range(SENTENCES):
        kept = {}
        for cell in plan.cells:
            load = int(cell.levels["concurrency"])
            repeats = closed("gannet", load, seed=1000 * seed + load, repeats=BLOCKS)
            kept[cell.key] = [
                KeptRepeat("measured", replace(r, extras={**r.extras, "promise_ttft_s": limit})) for r in repeats
            ]
        results = StudyResults.of_repeats(plan, kept, RunInfo("run", number=1))
        (verdict,) = load_verdicts(results).values()
        right += verdict.kept != LOADS[1] and verdict.broken is None
        sure += verdict.kept is not None
    return Row(
        f"*the promise is kept up to* {LOADS[1]} streams, its very limit",
        right,
        SENTENCES,
        f"neither kept nor broken is said of it; of {LOADS[0]} streams, far below the limit, *kept* is said in "
        f"{sure / SENTENCES:.1%}",
    )


# the gate
SLOWER, MOST_REPEATS = 0.92, 24
GATES = ((NOISE, BLOCKS), (3 * NOISE, MOST_REPEATS), (3 * NOISE, BLOCKS))
"""How much a step scatters, and the repeats the baseline has: noisy machines need more of both sides."""


@cache
def slowed(share: float) -> float:
    """How fast the rig has to be for so large a share of its decode speed."""
    low, high = 0.5, 1.0
    for _ in range(40):
        middle = (low + high) / 2
        low, high = (middle, high) if speed(middle) / speed(1.0) < share else (low, middle)
    return high


def gated(times: float, seed: int, noise: float, baseline: int) -> tuple[str, int]:
    """A build held against one that was measured in a run of its own: the verdict, and the repeats it took."""
    old = Side(rehearsed({"a": 1.0}, 2 * seed, noise=noise, blocks=baseline, run="old"))
    planned = planned_looks(BLOCKS, MOST_REPEATS)
    found = None
    for look, count in enumerate(planned, start=1):
        new = Side(rehearsed({"a": times}, 2 * seed + 1, noise=noise, blocks=count, run="new"))
        found = gate(old, new, ["decode"], look=look, planned=planned)
        if found.verdict != "open":
            break
    assert found is not None
    return found.verdict, planned[found.look - 1]


def gates() -> list[Row]:
    """Equal builds that are stopped, and builds that are 8% slower and let through, at 3% that may be lost; against a
    run of the old build that is kept."""
    out = []
    for noise, baseline in GATES:
        spread = f"repeats scatter by about {noise / 8:.0%}, {baseline} repeats of the old build"
        for what, times, wrong in (
            ("equal builds are not stopped", 1.0, "worse"),
            (f"builds {1 - SLOWER:.0%} slower are not let through", slowed(SLOWER), "fine"),
        ):
            rows = [gated(times, (20_000 if times == 1 else 30_000) + seed, noise, baseline) for seed in range(TRIALS)]
            verdicts = [verdict for verdict, _ in rows]
            told = ", ".join(f"{name} {verdicts.count(name) / TRIALS:.1%}" for name in ("fine", "worse", "open"))
            repeats = median([float(n) for _, n in rows])
            more = f"{spread}; {told}; {repeats:.0f} repeats in the median"
            out.append(Row(f"gate at 3%, {what}", TRIALS - verdicts.count(wrong), TRIALS, more))
    return out


# the largest load
def closed(name: str, streams: int, *, seed: int, repeats: int = 3, waves: int = 4) -> list[Repeat]:
    """Streams on a made-up rig."""
    engine = VirtualEngine(name, SETTINGS, seed=seed)
    engine.closed(streams, streams, prompt=64, output=4)
    return [engine.closed(streams, max(8, waves * streams), prompt=64, output=24, block=b) for b in range(repeats)]


def arriving(name: str, rate: float, *, seed: int, repeats: int = 3, hold_s: float = 20.0) -> list[Repeat]:
    """Requests per minute at a made-up rig, each repeat with arrivals of its own."""
    out = []
    for block in range(repeats):
        engine = VirtualEngine(name, SETTINGS, seed=100 * seed + block)
        engine.closed(1, 1, prompt=64, output=4)
        draw, at, times = random.Random(f"{seed}-{block}"), 0.0, []
        for _ in range(max(48, math.ceil(rate / 60 * hold_s))):
            at += draw.expovariate(rate / 60)
            times.append(at)
        out.append(engine.arriving(times, prompt=64, output=24, block=block))
    return out


def walk(measure: Any, start: int, plan: CapacitySearch, promise: Promise, seed: int) -> tuple[CapacityResult, int]:
    """A whole search; what it found, and the steps it took."""
    data: dict[int, list[list[Repeat]]] = {}
    found, steps = CapacityResult(next_load=start), 0
    while found.next_load is not None:
        load = found.next_load
        data.setdefault(load, []).append(measure(load, seed=1000 * seed + 7 * load + len(data.get(load, ()))))
        steps += 1
        trials = [t for at, visits in data.items() if (t := trial_of(at, visits, promise)) is not None]
        found = search(trials, plan, promise)
    return found, steps


def true_streams(name: str, promise: Promise, most: int) -> int:
    """The most streams that keep the promise, in long repeats."""
    low, high = 0, most + 1
    while high - low > 1:
        middle = (low + high) // 2
        trial = trial_of(middle, [closed(name, middle, seed=4711, repeats=1, waves=24)], promise)
        low, high = (low, middle) if trial is None or trial.broken(promise) else (middle, high)
    return low


def true_rate(name: str, promise: Promise, low: float, high: float) -> float:
    """The largest rate that keeps the promise, in eight long runs: one would tell of its own arrivals."""
    for _ in range(8):
        middle = math.sqrt(low * high)
        trial = trial_of(middle, [arriving(name, middle, seed=4711, repeats=8, hold_s=240.0)], promise)
        low, high = (low, middle) if trial is None or trial.broken(promise) else (middle, high)
    return math.sqrt(low * high)


STREAM_SEARCHES = (
    ("gannet", Promise(ttft_s=0.5, tpot_s=0.03), 64),
    ("gannet", Promise(tpot_s=0.0115), 64),
    ("cormorant", Promise(ttft_s=0.15), 64),
)
"""Of rigs whose cooling carries their full power: elsewhere the limit depends on how long a load is held."""
RATE_SEARCH = ("gannet", Promise(ttft_s=0.25), 400, 3000.0)


def stream_searches() -> list[Row]:
    """Fifty searches of each kind: within 5% of the truth, in at most twelve steps."""
    out = []
    for name, promise, most in STREAM_SEARCHES:
        truth, plan = true_streams(name, promise, most), CapacitySearch("concurrency", most)
        rows = [walk(lambda n, seed, at=name: closed(at, n, seed=seed), 8, plan, promise, s) for s in range(SEARCHES)]
        near = [f.load is not None and abs(math.floor(f.load + 1e-9) - truth) <= WITHIN * truth for f, _ in rows]
        held = [math.floor(f.low or 0) <= truth <= (f.high or 0) for f, _ in rows]
        out.append(_searched(f"streams on {name}, true limit {truth}", rows, near, held))
    return out


def rate_searches() -> list[Row]:
    """The same of an open loop."""
    name, promise, start, high = RATE_SEARCH
    true, plan = true_rate(name, promise, start / 4, high), CapacitySearch("rate", 100_000)
    rows = [walk(lambda n, seed: arriving(name, n, seed=seed), start, plan, promise, s) for s in range(SEARCHES)]
    near = [f.load is not None and abs(f.load / true - 1) <= WITHIN for f, _ in rows]
    held = [(f.low or 0) <= true <= (f.high or 0) for f, _ in rows]
    return [_searched(f"requests per minute on {name}, true limit {true:,.0f}", rows, near, held)]


def _searched(what: str, rows: Sequence[tuple[CapacityResult, int]], near: Sequence[bool], held: Sequence[bool]) -> Row:
    steps = sorted(n for _, n in rows)
    within = [good and n <= 12 for good, (_, n) in zip(near, rows, strict=True)]
    more = (
        f"the interval holds the truth in {sum(held) / len(rows):.1%}; steps: {median(steps):.0f} in the median, "
        f"{steps[-1]} at most"
    )
    return Row(what, sum(within), len(rows), more)


# through the whole tool
FLEET = """format = 1
[gannet]
reach = "rehearsal"
[cormorant]
reach = "rehearsal"
"""
PAIRS = """format = 1
name = "pairs"
question = "Which?"
[vary]
model = ["brine-1b", "kelp-4b"]
quantization = ["F16", "Q8_0", "Q6_K"]
[hold]
rig = "gannet"
context = 512
prompt_tokens = 128
output_tokens = 96
[repeats]
count = 6
requests = 2
"""
LIMIT = """format = 1
name = "limit-{n}"
question = "How many?"
[vary]
concurrency = [8]
[hold]
rig = "{rig}"
model = "brine-1b"
quantization = "Q8_0"
slots = 64
context = 256
prompt_tokens = 64
output_tokens = 24
[promise]
{promise}
[capacity]
factor = "concurrency"
most = 64
"""
BUILD = """format = 1
name = "build-{name}"
question = "Is the build as fast?"
[vary]
concurrency = [1]
[hold]
quantization = "{quantization}"
rig = "gannet"
model = "kelp-4b"
context = 512
prompt_tokens = 128
output_tokens = 96
[repeats]
count = 6
requests = 2
"""
BUILDS = (("same", "Q8_0", 0), ("same-again", "Q8_0", 0), ("slower", "F16", 1), ("slower-again", "F16", 1))
"""Builds held against one of Q8_0: their names, what makes them slower or not, and the exit code that is right."""
WHOLE = (
    ("gannet", "ttft_s = 0.5\ntpot_s = 0.03", Promise(ttft_s=0.5, tpot_s=0.03)),
    ("gannet", "ttft_s = 0.3", Promise(ttft_s=0.3)),
    ("gannet", "tpot_s = 0.0235", Promise(tpot_s=0.0235)),
)


def whole() -> list[Row]:
    """Ten duels, four gates and three searches, run through servers, driver and store."""
    from zinc_kettle.app.build import open_store
    from zinc_kettle.config import places
    from zinc_kettle.store.reading import find, open_run

    with tempfile.TemporaryDirectory() as folder:
        home = Path(folder)
        (home / "rigs.toml").write_text(FLEET)
        os.environ["ZINC_KETTLE_HOME"] = folder
        texts = {"pairs": PAIRS} | {
            f"limit-{n}": LIMIT.format(n=n, rig=r, promise=p) for n, (r, p, _) in enumerate(WHOLE)
        }
        for name, text in texts.items():
            (home / f"{name}.study.toml").write_text(text)
            subprocess.run(
                [sys.executable, "-m", "zinc_kettle", "run", str(home / f"{name}.study.toml")],
                check=True,
                stdout=subprocess.DEVNULL,
                timeout=1800,
            )
        gates = _whole_gates(home)
        store = open_store(places())
        opened = {name: open_run(store, find(store, name)) for name in texts}
        searches = _whole_searches([opened[f"limit-{n}"] for n in range(len(WHOLE))])
        return [_whole_duels(opened["pairs"]), gates, searches]


def _whole_gates(home: Path) -> Row:
    """Builds measured and judged by the command, against one that was measured before."""
    right, told = 0, []

    def run(command: str, name: str, quantization: str, *more: str) -> int:
        file = home / f"build-{name}.study.toml"
        file.write_text(BUILD.format(name=name, quantization=quantization))
        return subprocess.run(
            [sys.executable, "-m", "zinc_kettle", command, str(file), *more],
            check=False,
            stdout=subprocess.DEVNULL,
            timeout=1800,
        ).returncode

    assert run("run", "old", "Q8_0") == 0
    for name, quantization, expected in BUILDS:
        code = run("gate", name, quantization, "--against", "build-old")
        right += code == expected
        told.append(f"{name} {code}")
    return Row("gates through the whole tool", right, len(BUILDS), f"exit codes: {', '.join(told)}")


def _whole_duels(results: StudyResults) -> Row:
    cells = [c.cell for c in results.cells]
    right, pairs = 0, list(itertools.combinations(cells, 2))[:10]
    for a, b in pairs:
        found = duel(Side(results, a.levels), Side(results, b.levels), ["decode"])
        ratio = found.contests[0].ratio
        assert ratio is not None
        truth = _quiet(b.levels) / _quiet(a.levels)
        right += ratio.low <= truth <= ratio.high and found.contests[0].verdict != ("a" if truth > 1 else "b")
    return Row(
        "duels through the whole tool",
        right,
        len(pairs),
        "pairs of two models by three quantizations on gannet, whose steps take 3 to 35 ms",
    )


def _quiet(levels: Mapping[str, Any]) -> float:
    """Decode of a cell without noise."""
    engine = VirtualEngine(replace(SIM_RIGS["gannet"], noise=0.0), {**SETTINGS, **levels}, seed=1)
    engine.closed(1, 1, prompt=128, output=16)
    found = decode(engine.closed(1, 2, prompt=128, output=96))
    assert not isinstance(found, Missing)
    return found


def _whole_searches(runs: Sequence[StudyResults]) -> Row:
    right, told = 0, []
    for results, (name, _, promise) in zip(runs, WHOLE, strict=True):
        (found,) = capacities(results).values()
        truth, load = true_streams(name, promise, 64), math.floor((found.load or 0) + 1e-9)
        right += abs(load - truth) <= WITHIN * truth and len(found.trials) <= 12
        told.append(f"{load} of {truth} in {len(found.trials)} steps")
    return Row("limits through the whole tool, within 5%", right, len(runs), "; ".join(told))


def page(rows: Sequence[Row]) -> str:
    """The document."""
    lines = [
        "# How often the answers are right",
        "",
        "Made by `make bench-answers`: the rehearsal's engines run by physics that are known, so true ratios and true",
        "limits are, too. Trials go through the tool's own functions in a simulated time; steps of an engine scatter",
        f"by {NOISE:.0%}, duels have {BLOCKS} blocks. A duel is right where nothing false is claimed and the interval",
        "holds the true ratio; a gate where an equal build is not stopped, or a slower one is not let through (*open*",
        "does neither); a search where it is within 5% in at most twelve steps.",
        "",
        "| what | right | | |",
        "|---|---|---|---|",
        *(f"| {r.what} | {r.share:.1%} | {r.right} of {r.of} | {r.more} |" for r in rows),
        "",
    ]
    return "\n".join(lines)


PARTS: Mapping[str, Any] = {
    "duels": duels,
    "lineups": lineups,
    "indexes": indexes,
    "scores": scores,
    "decisions": decisions,
    "sentences": sentences,
    "gates": gates,
    "streams": stream_searches,
    "rates": rate_searches,
    "whole": whole,
}


def main() -> int:
    """Simulate, and write what came out; of parts that are not asked for, what came out the last time."""
    kept: dict[str, list[Any]] = json.loads(OUT.read_text()) if OUT.exists() else {}
    asked = [name for name in PARTS if name in sys.argv] or list(PARTS)
    for name in asked:
        kept[name] = [asdict(row) for row in PARTS[name]()]
        OUT.parent.mkdir(exist_ok=True)
    OUT.write_text(json.dumps(kept, indent=1) + "\n")
    rows = [Row(**row) for name in PARTS for row in kept.get(name, ())]
    DOC.write_text(page(rows), encoding="utf-8")
    print(page(rows))
    return int(any(r.share < 0.95 for r in rows))


if __name__ == "__main__":
    sys.exit(main())
