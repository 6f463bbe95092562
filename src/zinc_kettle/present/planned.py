"""What is known of cells before they are measured: the size of the file, what Fit says, and a guess of the time."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from zinc_kettle.core.fit.predict import placed_prefill
from zinc_kettle.core.plan.study import Study, rigs_of
from zinc_kettle.core.results import StudyResults
from zinc_kettle.core.run.budget import (
    IN_COMMON,
    ON_DEVICES,
    Speed,
    Speeds,
    TimeLeft,
    guess_cell_s,
    launches,
    served_by_launch,
)
from zinc_kettle.core.run.schedule import whole_order
from zinc_kettle.core.units import duration, plural
from zinc_kettle.present.fit_rows import FitRow


@dataclass(frozen=True, slots=True)
class Planned:
    """What is known of a cell before it is measured."""

    size_bytes: float | None = None
    """Of its model file."""
    seconds: float | None = None
    """Of one repeat with its part of the launch, a guess; None where there is nothing to guess from."""
    fit: FitRow | None = None


NOTHING_KNOWN = Planned()


def planned_cells(
    study: Study, sizes: Mapping[str, float | None], predicted: Mapping[str, FitRow]
) -> dict[str, Planned]:
    """What is known of each cell, by key.

    Args:
        study: The study.
        sizes: Size of the model file by cell, where it is known.
        predicted: What Fit says by cell, where it says anything.
    """
    speeds, served = speeds_of(predicted), served_by_launch(study)
    out = {}
    for cell in study.cells:
        size = sizes.get(cell.key)
        known = size is not None or cell.key in speeds
        seconds = guess_cell_s(study, cell, size, speeds, sharing=served[cell.launch]) if known else None
        out[cell.key] = Planned(size, seconds, predicted.get(cell.key))
    return out


def speeds_of(predicted: Mapping[str, FitRow]) -> Speeds:
    """What is predicted of cells, for a guess of how long they take; None of those that will not load."""
    out: dict[str, Speed | None] = {}
    for key, row in predicted.items():
        placed = row.placement
        if placed is not None and not placed.works:
            out[key] = None
        elif row.decode is not None and placed is not None:
            common = ON_DEVICES if placed.layers_on_devices else IN_COMMON
            shape = row.candidate.shape
            read = row.prefill.value if row.prefill else None if shape is None else placed_prefill(shape, placed)
            out[key] = Speed(row.decode.value, read, common)
    return out


def whole_seconds(study: Study, planned: Mapping[str, Planned]) -> float | None:
    """A guess of how long the study takes from its beginning, in seconds; None where there is nothing to guess from."""
    left = dict.fromkeys(study.by_key, study.repeats.most)
    sizes = {key: cell.size_bytes for key, cell in planned.items()}
    fits = {key: cell.fit for key, cell in planned.items() if cell.fit is not None}
    time = TimeLeft(study, left, model_bytes=sizes, speeds=speeds_of(fits))
    if not time.known:
        return None
    seconds = time.seconds
    search = study.capacity
    # A search for the limit measures further loads, most of them near the limit.
    return seconds * search.steps / max(1, len(study.vary[search.factor])) if search.factor in study.vary else seconds


@dataclass(frozen=True, slots=True)
class Costs:
    """What measuring a study would take."""

    planned: Mapping[str, Planned] = field(default_factory=dict)
    """By cell."""
    launches: int = 0
    seconds: float | None = 0.0
    """None where nothing tells how long a repeat takes."""
    worst: FitRow | None = None
    """The cell that needs the most memory."""
    rig: str = ""
    not_fitting: int = 0
    """Cells that will not fit."""
    dropped: Dropped | None = None
    """What a cap on time leaves out; None where there is none, or all is measured within it."""


@dataclass(frozen=True, slots=True)
class Dropped:
    """What is not measured because of a cap on time, by the guess of how long each repeat takes."""

    repeats: int
    of: int
    cells: tuple[str, ...]
    """Keys of the cells that get none."""
    fewest: int
    """Repeats of the cell that gets fewest, of those that get any."""


def costs_of(study: Study, planned: Mapping[str, Planned]) -> Costs:
    """What measuring a study would take, from what is known of its cells."""
    rows = [row for cell in planned.values() if (row := cell.fit) is not None and row.placement is not None]
    worst = max(rows, key=lambda row: row.placement.sizes.total_bytes if row.placement else 0, default=None)
    bad = sum(1 for row in rows if row.placement is not None and not row.placement.works)
    rigs = rigs_of(study)
    return Costs(
        planned,
        launches(study),
        whole_seconds(study, planned),
        worst,
        rigs[0] if rigs else "",
        bad,
        dropped_by(study, planned),
    )


def dropped_by(study: Study, planned: Mapping[str, Planned]) -> Dropped | None:
    """What the study's cap on time would leave out; the first repeat is always measured, as in a run."""
    cap = study.limits.total_s
    if not cap:
        return None
    order, spent, done = whole_order(study), 0.0, dict.fromkeys(study.by_key, 0)
    for place, step in enumerate(order):
        needs = planned[step.cell].seconds or 0.0
        if place and spent + needs > cap:
            left = len(order) - place
            reached = [count for count in done.values() if count]
            return Dropped(left, len(order), tuple(key for key, count in done.items() if not count), min(reached))
        spent += needs
        done[step.cell] += 1
    return None


def dropped_text(results: StudyResults, costs: Costs) -> str:
    """What the cap on time leaves out, in a sentence; empty where it leaves nothing out."""
    dropped, cap = costs.dropped, duration(results.study.limits.total_s)
    if dropped is None:
        return ""
    said = f"the cap of {cap} drops about {dropped.repeats:,} of {plural(dropped.of, 'repeat')}"
    if dropped.cells:
        first = results.cell(dropped.cells[0]).title
        more = f" and {len(dropped.cells) - 1} more" if len(dropped.cells) > 1 else ""
        return f"{said}; never measured: {first}{more}"
    return f"{said}; each cell keeps {dropped.fewest} or more"
