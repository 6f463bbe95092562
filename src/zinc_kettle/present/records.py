"""The JSON a cell is told in; docs/output.md describes it and keeps it stable."""

from __future__ import annotations

from typing import Any

from zinc_kettle.core.cell import CellFigure, Value
from zinc_kettle.core.fingerprint import fingerprint
from zinc_kettle.core.plan import workload
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
        "failure": cell.failures[-1].failure if cell.failures else None,
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
    }


def _round(value: float) -> float:
    return float(f"{value:.{DIGITS}g}")
