"""The JSON a cell is told in; docs/output.md describes it and keeps it stable."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from zinc_kettle.core.family import PrefillSlope
from zinc_kettle.core.fingerprint import fingerprint
from zinc_kettle.core.lengths import family_of
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.plan.study import workload
from zinc_kettle.core.record.value import CellFigure, Value
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.present.breakdown import split_json
from zinc_kettle.present.remarks import marks_in
from zinc_kettle.present.values import rounded


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
        "file_cached": None if cell.summary.file_cached is None else rounded(cell.summary.file_cached),
        "devices": [
            {name: None if value is None else rounded(value) for name, value in asdict(use).items()}
            for use in cell.summary.devices
        ],
        "driver_test": results.run.facts.get("driver_test"),
        "skipped": cell.skipped,
        "marks": dict(marks_in(cell)),
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
    overhead = (None, None, None) if slope.overhead is None else map(rounded, slope.overhead)
    ends = (None, None) if slope.ends is None else map(rounded, slope.ends)
    return {
        "value": rounded(slope.rate),
        "low": rounded(slope.rate_low),
        "high": None if slope.rate_high is None else rounded(slope.rate_high),
        "unit": "tokens/s",
        **dict(zip(("overhead_s", "overhead_low_s", "overhead_high_s"), overhead, strict=True)),
        "tokens_low": rounded(line.x_low),
        "tokens_high": rounded(line.x_high),
        "curved": line.curved,
        **dict(zip(("value_shortest", "value_longest"), ends, strict=True)),
        "curve_p": None if line.curve is None else rounded(line.curve.p),
        "n": line.n,
    }


def figure_json(figure: CellFigure) -> dict[str, Any]:
    """A value with its bounds, or null with the reason."""
    if not isinstance(figure, Value):
        return {"value": None, "reason": figure.reason}
    return {
        "value": rounded(figure.value),
        "low": rounded(figure.low),
        "high": rounded(figure.high),
        "bound": figure.bound,
        "n": figure.n,
        "unit": figure.unit,
        **({"thin": True} if figure.thin else {}),
        **({"beyond": True} if figure.beyond else {}),
        **({"this_run": True} if figure.this_run else {}),
    }
