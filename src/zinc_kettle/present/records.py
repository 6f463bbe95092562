"""The JSON a cell is told in; docs/output.md describes it and keeps it stable."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from zinc_kettle.core.cell import CellFigure, Value
from zinc_kettle.core.family import PrefillSlope
from zinc_kettle.core.fingerprint import fingerprint
from zinc_kettle.core.plan import workload
from zinc_kettle.present.families import family_of, turns
from zinc_kettle.present.view import CellView, StudyView

DIGITS = 6
"""Significant digits: more than any spread here, fewer than a float's noise."""


def cell_record(view: StudyView, cell: CellView) -> dict[str, Any]:
    """One cell as one JSON object."""
    return {
        "study": view.study.name,
        "cell": dict(cell.cell.levels),
        "workload": fingerprint(workload(view.study, cell.cell)),
        "state": cell.state,
        "simulated": view.simulated(cell),
        "repeats": {"done": cell.done, "wanted": cell.wanted, "failed": len(cell.failures)},
        "measures": {name: measure_record(figure) for name, figure in cell.values().items()},
        "cautions": [{"code": c.code, "evidence": c.evidence} for c in cell.cautions],
        "prefill_slope": slope_record(view, cell),
        "turns": [asdict(turn) for turn in turns(cell)],
        "stamps": sorted({t.stamp_source for r in cell.repeats for t in r.measured}),
        "driver_test": view.record.facts.get("driver_test"),
        "failure": cell.failures[-1].failure if cell.failures else None,
    }


def slope_record(view: StudyView, cell: CellView) -> dict[str, Any] | None:
    """Prefill speed of the cell's family by slope; null where the prompt length does not vary."""
    family = family_of(view, cell)
    if family is None:
        return None
    slope = family.slope
    if not isinstance(slope, PrefillSlope):
        return {"value": None, "reason": slope.reason}
    line = slope.line
    return {
        "value": _round(slope.rate),
        "low": _round(slope.rate_low),
        "high": None if slope.rate_high is None else _round(slope.rate_high),
        "unit": "tokens/s",
        "overhead_s": _round(line.intercept),
        "overhead_low_s": _round(line.intercept_low),
        "overhead_high_s": _round(line.intercept_high),
        "tokens_low": _round(line.x_low),
        "tokens_high": _round(line.x_high),
        "curved": line.curved,
        "n": line.n,
    }


def measure_record(figure: CellFigure) -> dict[str, Any]:
    """A value with its bounds, or null with the reason."""
    if not isinstance(figure, Value):
        return {"value": None, "reason": figure.reason}
    return {
        "value": _round(figure.value),
        "low": _round(figure.low),
        "high": _round(figure.high),
        "bound": figure.bound,
        "n": figure.n,
        "unit": figure.unit,
        **({"thin": True} if figure.thin else {}),
    }


def _round(value: float) -> float:
    return float(f"{value:.{DIGITS}g}")
