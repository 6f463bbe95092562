"""What is known of cells before they are measured: the size of the file, what Fit says, and a guess of the time."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from zinc_kettle.core.budget import Speeds, TimeLeft, guess_cell_s
from zinc_kettle.core.plan import Study
from zinc_kettle.present.fit_rows import FitRow


@dataclass(frozen=True, slots=True)
class Planned:
    """What is known of a cell before it is measured."""

    size_bytes: float | None = None
    """Of its model file."""
    seconds: float | None = None
    """Of one repeat with its launch, a guess."""
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
    speeds = speeds_of(predicted)
    return {
        cell.key: Planned(
            sizes.get(cell.key), guess_cell_s(study, cell, sizes.get(cell.key), speeds), predicted.get(cell.key)
        )
        for cell in study.cells
    }


def speeds_of(predicted: Mapping[str, FitRow]) -> Speeds:
    """Predicted decode and prefill of cells, for a guess of how long they take."""
    return {
        key: (row.decode.value, row.prefill.value if row.prefill else None)
        for key, row in predicted.items()
        if row.decode is not None
    }


def whole_seconds(study: Study, planned: Mapping[str, Planned]) -> float:
    """A guess of how long the study takes from its beginning, in seconds."""
    left = dict.fromkeys(study.by_key, study.repeats.most)
    sizes = {key: cell.size_bytes for key, cell in planned.items()}
    fits = {key: cell.fit for key, cell in planned.items() if cell.fit is not None}
    return TimeLeft(study, left, model_bytes=sizes, speeds=speeds_of(fits)).seconds
