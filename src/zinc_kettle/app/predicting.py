"""What is predicted of the cells of a study, wherever it is asked: on Plan, by Fit, before a run and for its time."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import cache

from zinc_kettle.app.rigbook import RigBook, is_here
from zinc_kettle.config import Places
from zinc_kettle.core.checks.validate import decode_depth
from zinc_kettle.core.fit.placement import Device, Placement, place
from zinc_kettle.core.fit.predict import Calibration
from zinc_kettle.core.fit.sizing import LaunchSettings, wish_of
from zinc_kettle.core.model_shape import ModelShape
from zinc_kettle.core.plan.study import LaunchSpec, Study
from zinc_kettle.core.rig import Rig
from zinc_kettle.errors import KettleError, UsageError
from zinc_kettle.formats.gguf_model import read_gguf
from zinc_kettle.formats.models import ModelFolder
from zinc_kettle.formats.presets import preset_shape
from zinc_kettle.present.fit_rows import Candidate, FitRow, Placing, fit_rows
from zinc_kettle.sim.fleet import sim_shape


class Predictor:
    """Says what Fit says of the cells of a study.

    Args:
        book: The rigs, with what is known of them.
        places: Where models are.
        fitted: What was fitted to earlier measurements on a rig.
    """

    def __init__(self, book: RigBook, places: Places, fitted: Callable[[Rig], Calibration]) -> None:
        self._book = book
        self._places = places
        self._fitted = fitted

    def predicted(self, study: Study) -> dict[str, FitRow]:
        """What is predicted of each cell, by key, of which model and rig are known."""
        out: dict[str, FitRow] = {}
        if study.endpoint is not None:
            return out
        # What is predicted belongs to a launch and a depth: cells that differ in their load only share it.
        shape = cache(self.shape)
        rig = cache(self.rig)
        kept: dict[tuple[int, LaunchSettings, tuple[Device, ...]], Placement] = {}

        def placing(model: ModelShape, wish: LaunchSettings, devices: Sequence[Device]) -> Placement:
            place_of = id(model), wish, tuple(devices)  # shapes live as long as this call
            if place_of not in kept:
                kept[place_of] = place(model, wish, devices)
            return kept[place_of]

        rows: dict[tuple[LaunchSpec, float | None], FitRow | None] = {}
        for cell in study.cells:
            spec = cell.launch
            if not cell.engine.fits:
                continue  # what Fit says of memory was found on other engines
            key = spec, decode_depth(study, cell)
            if key not in rows:
                found = shape(spec.rig, spec.model, spec.quantization)
                rows[key] = self._row(spec, found, rig(spec.rig), key[1], placing)
            row = rows[key]
            if row is not None:
                out[cell.key] = row
        return out

    def _row(
        self, spec: LaunchSpec, shape: ModelShape | None, rig: Rig | None, depth: float | None, placing: Placing
    ) -> FitRow | None:
        if shape is None or rig is None:
            return None
        wanted = [Candidate(spec.model, shape, "study")]
        wish, threads = wish_of(spec.roles), spec.number("threads")
        fitted = self._fitted(rig)
        return fit_rows(wanted, rig, wish, threads=threads, calibration=fitted, depth=depth, placing=placing)[0]

    def rig(self, name: str | None) -> Rig | None:
        """A rig with what is known of it; None where there is none of that name."""
        try:
            return self._book.rig(name)
        except UsageError:
            return None

    def shape(self, rig: str | None, model: str, quantization: str | None) -> ModelShape | None:
        """The sizes of a model where they are known without asking another machine."""
        try:
            if is_here(rig):
                found = ModelFolder(self._places.models).find(model, quantization)
                if found is None:
                    return preset_shape(model, str(quantization))
                return read_gguf(found.path)
            if self._book.plan(rig).simulated:
                return sim_shape(model, quantization)
        except (KettleError, KeyError):
            return None
        return None
