"""One model on several rigs, side by side: measured ones, simulated ones, and those on paper."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from zinc_kettle.core.fit.predict import Calibration
from zinc_kettle.core.fit.sizing import LaunchSettings
from zinc_kettle.core.rig import Rig
from zinc_kettle.core.units import byte_size, digits
from zinc_kettle.present.fit_rows import (
    Candidate,
    FitRow,
    Measured,
    fit_record,
    fit_rows,
    pace_words,
    short_verdict,
    speed_text,
)

HEADS = ("rig", "memory", "decode, predicted", "measured", "price", "verdict")


@dataclass(frozen=True)
class KnownRig:
    """A rig, and what was measured there before."""

    rig: Rig
    calibration: Calibration
    measured: Mapping[str, Measured] = field(default_factory=dict)


@dataclass(frozen=True)
class Across:
    """A model on one of the rigs."""

    rig: Rig
    row: FitRow

    @property
    def speed(self) -> float:
        """By which they are ordered: measured, else predicted, in tokens per second; 0 where neither is known."""
        told = self.row.measured or self.row.decode
        return told.value if told is not None else 0.0


def across(candidate: Candidate, rigs: Sequence[KnownRig], wish: LaunchSettings, *, pace: float | None) -> list[Across]:
    """A model on each rig, the fastest first; where it does not fit, last.

    Args:
        candidate: The model.
        rigs: In any order.
        wish: How it is to be run.
        pace: The decode speed that is needed, tokens per second; None for any.
    """
    out = []
    for known in rigs:
        [row] = fit_rows(
            [candidate],
            known.rig,
            wish,
            threads=None,
            calibration=known.calibration,
            pace=pace,
            measured=known.measured,
        )
        out.append(Across(known.rig, row))
    return sorted(out, key=lambda a: (not (a.row.placement and a.row.placement.works), -a.speed, a.rig.name))


def kind_text(rig: Rig) -> str:
    """`on paper`, `SIMULATED`, or nothing: whether anything there is real."""
    return "on paper" if rig.on_paper else "SIMULATED" if rig.simulated else ""


def memories_text(rig: Rig) -> str:
    """`2 × 24.0 GB + 64.0 GB`: devices, then main memory."""
    fast = Counter(byte_size(d.capacity_bytes) for d in rig.devices() if not d.main)
    sizes = [f"{count} × {size}" if count > 1 else size for size, count in fast.items()]
    sizes += [byte_size(rig.memory_bytes)] if rig.memory_bytes else []
    return " + ".join(sizes) or "not known"


def across_cells(found: Across) -> list[str]:
    """As HEADS."""
    row, rig, kind = found.row, found.rig, kind_text(found.rig)
    price = rig.number("price")
    return [
        f"{rig.name}{f' ({kind})' if kind else ''}",
        memories_text(rig),
        speed_text(row.decode),
        "–" if row.measured is None else f"{digits(row.measured.value, significant=3)} tok/s",
        "–" if price is None else f"{price:,g}",
        f"{short_verdict(row)}{pace_words(row) if row.placement and row.placement.works else ''}",
    ]


def across_record(found: Across, wish: LaunchSettings) -> dict[str, Any]:
    """As one JSON object."""
    more = {"on_paper": found.rig.on_paper, "price": found.rig.number("price")}
    return {**fit_record(found.row, found.rig, wish), **more}
