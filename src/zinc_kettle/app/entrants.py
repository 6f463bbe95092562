"""Who is lined up: the levels of a factor in one study or several, with their rigs' price and power."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

from zinc_kettle.core.compare.lineup import Entrant, watts_of
from zinc_kettle.core.compare.sides import Side
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.plan.factors import HERE
from zinc_kettle.core.problem import nearest
from zinc_kettle.core.record.value import Value
from zinc_kettle.core.results import StudyResults
from zinc_kettle.core.rig import Rig
from zinc_kettle.errors import UsageError
from zinc_kettle.present.answer import main_measure
from zinc_kettle.present.lineup import Appearance

if TYPE_CHECKING:
    from zinc_kettle.store.store import KettleStore

FIRST = ("rig", "model", "quantization", "engine")
"""What people line up, where it varies."""


def usual_factor(results: StudyResults) -> str:
    """The factor a study is lined up by where none is named."""
    study = results.study
    chosen = [n for n in study.chosen if len(study.vary[n]) > 1]
    leading = chosen or [n for n in study.leading if len(study.vary[n]) > 1] or study.leading
    return next((name for name in FIRST if name in leading), leading[0])


def entrants_of(runs: Sequence[StudyResults], by: str, rigs: Mapping[str, Rig]) -> list[Entrant]:
    """A side for each level of a factor in each run; runs that do not vary it are one side each.

    Args:
        runs: The runs.
        by: The factor; empty for each study's usual one.
        rigs: What is known of rigs, by name.

    Raises:
        UsageError: No run varies the factor.
    """
    out: list[Entrant] = []
    known = {name for run in runs for name in run.study.vary}
    if by and by not in known and not any(run.study.hold.get(by) is not None for run in runs):
        raise UsageError(f"{by} varies in none of these studies", remedy=nearest(by, known))
    many = len(runs) > 1
    for results in runs:
        factor = by or usual_factor(results)
        study = results.study
        levels = study.vary.get(factor)
        sides = [Side(results, {factor: v}) for v in levels] if levels else [Side(results)]
        for side in sides:
            said = [study.factors[n].says(v) for n, v in side.levels.items()]
            name = said[0] if said else str(study.hold.get(factor, study.name))
            out.append(entrant_of(f"{name} · {study.name}:{results.run.number}" if many else name, side, rigs))
    return out


def entrant_of(name: str, side: Side, rigs: Mapping[str, Rig]) -> Entrant:
    """A side with its name, and what its rig costs and draws."""
    rig = rig_of(side, rigs)
    watts = watts_of(side.cells())
    if watts is None and rig is not None:
        watts = rig.number("load_w")
    devices = None if rig is None else sum(not device.main for device in rig.devices())
    return Entrant(name, side, None if rig is None else rig.number("price"), watts, devices)


def rig_of(side: Side, rigs: Mapping[str, Rig]) -> Rig | None:
    """The one rig a side was measured on; None where it is not known, or it was several."""
    found = {str(c.cell.settings["rig"] or HERE) for c in side.cells()}
    return rigs.get(found.pop()) if len(found) == 1 else None


LOOKED_AT = 40
"""Newest runs that are looked through for a rig or a model."""


def appearances(store: KettleStore, side: Side) -> list[Appearance]:
    """Where else the rig of a side, or its model, was measured: its best cell in each run, the newest first."""
    from zinc_kettle.store.reading import open_run, shelf

    cells = side.cells()
    rigs = {c.cell.settings["rig"] for c in cells}
    models = {c.cell.settings["model"] for c in cells}
    out = []
    runs = sorted((run for row in shelf(store) for run in row.runs), key=lambda run: -run.created_s)[:LOOKED_AT]
    for run in runs:
        results = open_run(store, run.run_id)
        name = main_measure(results.study)
        for what, wanted in (("rig", rigs), ("model", models)):
            mine = [
                (v, c)
                for c in results.cells
                if c.done and c.cell.settings[what] in wanted and isinstance(v := c.value(name), Value)
            ]
            if len(wanted) == 1 and mine:
                pick = max if MEASURES[name].better == "more" else min
                best, cell = pick(mine, key=lambda pair: pair[0].value)
                out.append(Appearance(what, f"{results.study.name}:{run.number}", name, best, cell.title))
    return out
