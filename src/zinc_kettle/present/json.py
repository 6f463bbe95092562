"""The JSON a cell is told in; docs/output.md describes it and keeps it stable."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from zinc_kettle.core.family import PrefillSlope
from zinc_kettle.core.fingerprint import fingerprint
from zinc_kettle.core.lengths import family_of
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.plan import workload
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.core.value import CellFigure, Value
from zinc_kettle.present.breakdown import split_json

DIGITS = 6
"""Significant digits: more than any spread here, fewer than a float's noise."""


def cell_json(results: StudyResults, cell: CellResults) -> dict[str, Any]:
    """One cell as one JSON object."""
    return {
        "study": results.study.name,
        "run": results.run.number or None,
        "cell": dict(cell.cell.levels),
        "workload": fingerprint(workload(results.study, cell.cell)),
        "state": cell.state,
        "simulated": results.simulated(cell),
        "repeats": {"done": cell.done, "wanted": cell.wanted, "failed": cell.kept.failed},
        "measures": {name: figure_json(cell.value(name)) for name in MEASURES},
        "cautions": _cautions(results, cell),
        "prefill_slope": slope_json(results, cell),
        "time": split_json(results, cell),
        "turns": [asdict(turn) for turn in cell.summary.turns],
        "stamps": list(cell.summary.stamps),
        "counted_by": list(cell.summary.counted_by),
        "energy_source": "; ".join(cell.summary.energy_sources) or None,
        "file_cached": None if cell.summary.file_cached is None else _round(cell.summary.file_cached),
        "driver_test": results.run.facts.get("driver_test"),
        "skipped": cell.skipped,
        "failure": cell.kept.failure.what if cell.kept.failure else None,
    }


def _cautions(results: StudyResults, cell: CellResults) -> list[dict[str, str]]:
    """Those of a cell, with a person's reason where one is acknowledged."""
    answers = results.acknowledged(cell)
    return [
        {"code": c.code, "evidence": c.evidence, **({"acknowledged": answers[c.code]} if c.code in answers else {})}
        for c in cell.cautions
    ]


def slope_json(results: StudyResults, cell: CellResults) -> dict[str, Any] | None:
    """Prefill speed of the cell's family by slope; null where the prompt length does not vary."""
    family = family_of(results, cell)
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
        "curve_p": None if line.curve_p is None else _round(line.curve_p),
        "n": line.n,
    }


def figure_json(figure: CellFigure) -> dict[str, Any]:
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
        **({"this_run": True} if figure.this_run else {}),
    }


def _round(value: float) -> float:
    return float(f"{value:.{DIGITS}g}")
