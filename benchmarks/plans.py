"""Holds what Plan and Fit say against what came of the demo and the examples: how long it takes, and how fast it is.

    python benchmarks/plans.py          (half a minute; measures nothing)

Times: for each recorded run what a person is told before it, with what was measured earlier in the same store known,
and what is told after its first block, over the time from its first request to its last. Bands: how often the time of a
step of one stream lies within the band of what is computed of it from the other cells of its run. Prints the tables of
docs/fit.md.
"""

from __future__ import annotations

import math
import shutil
import tempfile
from collections import defaultdict
from collections.abc import Iterator, Sequence
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

from zinc_kettle.config import DEMO_FILES, SAMPLE_STORE
from zinc_kettle.core.breakdown import TimeSplit, device_point_of, point_of, time_split
from zinc_kettle.core.checks.validate import decode_depth
from zinc_kettle.core.facts import MachineFacts, machine_of
from zinc_kettle.core.fit.predict import Calibration, calibrate, calibrate_devices
from zinc_kettle.core.fit.sizing import wish_of
from zinc_kettle.core.plan.study import Cell
from zinc_kettle.core.results import StudyResults
from zinc_kettle.core.rig import Probe, Reach, Rig, RigPlan, rig_of
from zinc_kettle.core.run.budget import TimeLeft
from zinc_kettle.errors import KettleError
from zinc_kettle.formats.presets import preset_shape
from zinc_kettle.present.fit_rows import Candidate, FitRow, fit_rows
from zinc_kettle.present.planned import planned_cells, speeds_of, whole_seconds
from zinc_kettle.sim.fleet import SIM_RIGS, sim_shape
from zinc_kettle.store.reading import open_run, shelf
from zinc_kettle.store.store import KettleStore

STORES = (DEMO_FILES / SAMPLE_STORE, Path(__file__).parents[1] / "tests" / "data" / "jobs.db")
BEFORE, AFTER_BLOCK = 1.5, 1.25
"""The targets, as ratios either way."""


@dataclass(frozen=True)
class Told:
    """What was told of a run, and the truth; seconds."""

    name: str
    before: float
    truth: float
    after_block: float
    rest: float
    """What was left after the first block."""


def rig_at(results: StudyResults, cell: Cell) -> tuple[Rig, MachineFacts]:
    """The rig of a cell as it was known then; a simulated one as it tells of itself now."""
    name = cell.launch.rig
    facts = machine_of(results.run.facts, name)
    reach: Reach = "rehearsal" if name in SIM_RIGS else "here"
    told = {**facts, **(SIM_RIGS[name].facts() if name in SIM_RIGS else {})}
    return rig_of(RigPlan(name or "here", reach), {"facts": told, "probe": facts.get("probe")}), facts


def fitted(before: Sequence[StudyResults], rig: Rig) -> Calibration:
    """To what was measured on a rig earlier."""
    points, on_devices = [], []
    for results in before:
        for cell in (c for c in results.cells if c.done):
            own, facts = rig_at(results, cell.cell)
            if own.name != rig.name:
                continue
            there = device_point_of(results, cell)
            on_devices += [] if there is None else [there]
            threads = int(cell.cell.level("threads") or rig.cores)
            probe = Probe.from_plain(facts["probe"]) if facts.get("probe") else None
            machine = probe.machine(threads) if probe else rig.machine(threads)
            point = None if machine is None else point_of(results, cell, machine)
            points += [] if point is None else [point]
    return calibrate_devices(on_devices, calibrate(points, rig.prior()))


def predicted(results: StudyResults, before: Sequence[StudyResults]) -> tuple[dict[str, FitRow], dict[str, float]]:
    """Of each cell what Fit says, and the size of its file."""
    rows, sizes = {}, {}
    known: dict[str, Calibration] = {}
    for cell in results.study.cells:
        spec, (rig, _) = cell.launch, rig_at(results, cell)
        try:
            shape = (sim_shape if rig.simulated else preset_shape)(spec.model, str(spec.quantization))
        except (KeyError, KettleError):
            continue
        sizes[cell.key] = float(shape.weights_bytes)
        if not cell.engine.fits:
            continue
        if rig.name not in known:
            known[rig.name] = fitted(before, rig)
        rows[cell.key] = fit_rows(
            [Candidate(spec.model, shape, "study")],
            rig,
            wish_of(spec.roles),
            threads=spec.number("threads"),
            calibration=known[rig.name],
            depth=decode_depth(results.study, cell),
        )[0]
    return rows, sizes


def told(results: StudyResults, before: Sequence[StudyResults]) -> Told | None:
    """What is told of a run; None where nothing could be."""
    rows, sizes = predicted(results, before)
    guess = whole_seconds(results.study, planned_cells(results.study, sizes, rows))
    kept = [(k.repeat, c.cell.key) for c in results.cells for k in c.kept_repeats if k.repeat.timelines]
    steps = sorted((min(t.sent_ns for t in r.timelines), max(t.end_ns for t in r.timelines), key, r) for r, key in kept)
    if guess is None or len(steps) < 2:
        return None
    wanted = {cell.cell.key: cell.done for cell in results.cells}
    time = TimeLeft(results.study, wanted, model_bytes=sizes, speeds=speeds_of(rows))
    first, last = min(r.block for *_, r in steps), steps[0][0]
    seen = set[str]()
    for _, end, key, repeat in [step for step in steps if step[3].block == first]:
        wanted[key] -= 1
        launch = repeat.launch
        fresh = launch is not None and launch.launch_id not in seen
        load_s = (launch.load_ns or 0) / 1e9 if launch is not None and fresh else 0.0
        # The first step is told from its first request on: its launch was before.
        time.repeat_took(key, (end - last) / 1e9 + (0.0 if seen else load_s), left=wanted[key], launch_s=load_s)
        seen |= {launch.launch_id} if launch is not None else set()
        last = end
    whole = (steps[-1][1] - steps[0][0]) / 1e9
    return Told(results.study.name, guess, whole, time.seconds, (steps[-1][1] - last) / 1e9)


def recorded() -> Iterator[tuple[StudyResults, Sequence[StudyResults]]]:
    """The newest run of each study of the demo and of the examples, each with those of its store before it."""
    for store_file in STORES:
        with tempfile.TemporaryDirectory() as folder:
            copy = Path(folder) / store_file.name
            shutil.copyfile(store_file, copy)
            before: list[StudyResults] = []
            with closing(KettleStore(copy)) as store:
                for row in sorted(shelf(store), key=lambda row: row.runs[0].created_s):
                    results = open_run(store, row.runs[0].run_id)
                    yield results, before
                    before.append(results)


def in_band(results: StudyResults) -> Iterator[tuple[str, bool]]:
    """Of each cell of one stream where it was computed, and whether the band held."""
    for cell in results.cells:
        split = time_split(results, cell)
        if isinstance(split, TimeSplit) and split.streams == 1:
            whole = 1 - split.rest_s / split.step_s
            where = "on devices" if split.on_devices else "in main memory"
            fitted = "fitted to other cells" if split.calibrated_by else "before anything was measured"
            yield f"{where}, {fitted}", 1 / (1 + split.band) <= whole <= 1 + split.band


def tell(title: str, times: Sequence[Told]) -> None:
    """The table of times, and how many are within the targets."""
    print(f"{title}\n\n| study | told before | truth | ratio | told after a block | truth | ratio |")
    print("|---|---|---|---|---|---|---|")
    inside = [0, 0]
    for found in times:
        first, second = found.before / found.truth, found.after_block / max(found.rest, 1e-9)
        inside[0] += abs(math.log(first)) <= math.log(BEFORE)
        inside[1] += abs(math.log(max(second, 1e-9))) <= math.log(AFTER_BLOCK)
        print(
            f"| {found.name} | {found.before:.0f} s | {found.truth:.0f} s | {first:.2f} | {found.after_block:.0f} s | "
            f"{found.rest:.0f} s | {second:.2f} |"
        )
    count = len(times)
    print(f"\n{inside[0]} of {count} within ×{BEFORE}, {inside[1]} within ×{AFTER_BLOCK} after a block\n")


def main() -> None:
    """Both tables."""
    times: list[Told] = []
    bands: dict[str, list[bool]] = defaultdict(list)
    for results, before in recorded():
        found = told(results, before)
        # How many loads a search tries is what it is to find out.
        if found is not None and not results.study.capacity.factor:
            times.append(found)
        for where, held in in_band(results):
            bands[where].append(held)
    tell("How long it takes", times)
    print("| one stream | cells | within the band |\n|---|---|---|")
    for where, all_held in sorted(bands.items()):
        print(f"| {where} | {len(all_held)} | {sum(all_held)} |")


if __name__ == "__main__":
    main()
