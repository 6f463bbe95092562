"""Rigs and Fit as the screen asks for them: what was read once is kept, so that what-if controls answer at once."""

from __future__ import annotations

import asyncio
import re
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from zinc_kettle.app.fitting import calibration, candidates, measured_before, on_paper
from zinc_kettle.app.predicting import Predictor
from zinc_kettle.app.rigbook import RigBook
from zinc_kettle.config import Places
from zinc_kettle.core.fit.placement import place
from zinc_kettle.core.fit.predict import Calibration
from zinc_kettle.core.fit.remedies import GOOD, Remedy, remedies
from zinc_kettle.core.fit.sizing import LaunchSettings, wish_of
from zinc_kettle.core.plan.study import Cell, Study
from zinc_kettle.core.rig import Rig
from zinc_kettle.core.said_rig import SAY
from zinc_kettle.core.units import byte_size
from zinc_kettle.errors import RigError, UsageError
from zinc_kettle.present.fit_across import Across, KnownRig, across
from zinc_kettle.present.fit_rows import Candidate, Detail, FitRow, Measured, detail, fit_rows

if TYPE_CHECKING:
    from zinc_kettle.store.store import KettleStore

_TYPED = re.compile(r"^\s*(?P<name>\w+)\s*=\s*(?P<value>[^,]+?)\s*(?:,\s*(?P<source>.+?))?\s*$")
_ADDRESS = re.compile(
    r"^\s*(?P<name>[\w-]+)\s*=\s*(?P<url>[^\s,]+)(?:\s*,\s*model\s+(?P<model>[^\s,]+))?"
    r"(?:\s*,\s*key\s+(?P<key>\w+))?\s*$"
)
_NUMBER = re.compile(r"^(?P<number>\d+(?:\.\d+)?)\s*(?P<unit>\S*)$")


class RigService:
    """Keeps a rig book open for the screen."""

    def __init__(self, places: Places, store: Callable[[], KettleStore]) -> None:
        self._places = places
        self._store = store
        self._book = RigBook(places, demo=places.demo)
        self._candidates: dict[str, list[Candidate]] = {}
        self._calibrations: dict[str, Calibration] = {}
        self._predictor = Predictor(self._book, places, self._fitted)
        self._measured: dict[str, dict[str, Measured]] = {}
        self._said: dict[str, Candidate] = {}
        """Models on paper, by their key."""

    def _fitted(self, rig: Rig) -> Calibration:
        return self._calibrations.get(rig.name, rig.prior())

    def all(self) -> list[Rig]:
        """All rigs with what is known of them."""
        return [self._book.rig(plan.name) for plan in self._book.plans()]

    def simulated(self) -> set[str]:
        """Names of the simulated rigs."""
        return {plan.name for plan in self._book.plans() if plan.simulated}

    async def gather(self, name: str) -> Rig:
        """Ask a rig; trouble is in what is returned."""
        return await self._book.gather(name)

    async def probe(self, name: str) -> Rig:
        """Probe a rig.

        Raises:
            RigError: It cannot be probed.
        """
        return await self._book.probe(name)

    async def probe_unasked(self, name: str) -> bool:
        """A quick probe of this machine where a prediction needs one, and it is quiet; true where it was made."""
        return await self._book.probe_unasked(name)

    async def ready(self, name: str) -> Rig:
        """A rig of which enough is known; reads models and what was measured on it, too.

        Raises:
            RigError: It is not reached, and nothing is known about it.
        """
        rig = self._book.rig(name)
        if rig.memory_bytes is None:
            rig = await self._book.gather(name)
        if rig.trouble and rig.memory_bytes is None:
            raise RigError(f"{name} is not reached", why=rig.trouble, remedy="see the rig on Rigs")
        self._candidates[name] = await asyncio.to_thread(candidates, self._places, rig)
        await self._read_measured(rig)
        return rig

    async def _read_measured(self, rig: Rig) -> None:
        if self._places.store.exists():  # asking what fits makes no store
            self._calibrations[rig.name] = await asyncio.to_thread(calibration, self._store(), rig)
            self._measured[rig.name] = await asyncio.to_thread(measured_before, self._store(), rig)

    def type_fact(self, name: str, text: str) -> Rig:
        """Keep `bandwidth = 51.2 GB/s, data sheet`.

        Raises:
            UsageError: It is not of that form, or no such fact or unit.
        """
        found = _TYPED.match(text)
        if found is None:
            raise UsageError("that is not a fact", remedy="bandwidth = 51.2 GB/s, data sheet")
        number = _NUMBER.match(found["value"])
        value: float | str = float(number["number"]) if number else found["value"]
        return self._book.type_in(name, found["name"], value, number["unit"] if number else "", found["source"] or "")

    def add(self, text: str) -> Rig:
        """Keep `desk = http://127.0.0.1:8080, model brine, key OFFICE_KEY`, or a machine on paper, as in
        `heron = 64 GB, 60 GB/s, card 24 GB 936 GB/s`.

        Raises:
            UsageError: It is not of that form, or cannot be used.
        """
        name, _, told = (part.strip() for part in text.partition("="))
        if told and ":" not in told:
            return self._book.add_on_paper(name, told)
        found = _ADDRESS.match(text)
        if found is None:
            raise UsageError(
                "that is neither an address nor a data sheet",
                remedy=f"desk = http://127.0.0.1:8080, key OFFICE_KEY; or heron = {SAY}",
            )
        return self._book.add_address(
            found["name"], found["url"], model=found["model"] or "default", key_variable=found["key"]
        )

    def on_paper(self, text: str) -> str:
        """Put a model that is only said among those Fit shows, on every rig; gives its name.

        Raises:
            UsageError: The text says no model.
            ModelError: It cannot be.
        """
        found = on_paper(text)
        if found is None:
            raise UsageError(f"{text[:60]!r} says no model", remedy="as in: 70b at 4 bits, 8b Q4_K_M")
        self._said[found.key] = found
        return found.key

    def fit(self, name: str, wish: LaunchSettings, threads: int, pace: float | None) -> list[FitRow]:
        """What fits on a rig that is ready."""
        rig = self._book.rig(name)
        known = self._calibrations.get(name, rig.prior())
        return fit_rows(
            [*self._said.values(), *self._candidates.get(name, [])],
            rig,
            wish,
            threads=threads,
            calibration=known,
            pace=pace,
            measured=self._measured.get(name),
        )

    async def ready_everywhere(self) -> None:
        """Read what was measured on each rig of which the memory is known, for `across`."""
        for rig in self.all():
            if rig.name not in self._calibrations and rig.memory_bytes:
                await self._read_measured(rig)

    def across(self, candidate: Candidate, wish: LaunchSettings, pace: float | None) -> list[Across]:
        """A model on every rig of which the memory is known, the fastest first."""
        known = [
            KnownRig(r, self._calibrations.get(r.name, r.prior()), self._measured.get(r.name, {}))
            for r in self.all()
            if r.memory_bytes
        ]
        return across(candidate, known, wish, pace=pace)

    def detail(self, name: str, row: FitRow, wish: LaunchSettings, rows: Sequence[FitRow], threads: int) -> Detail:
        """What would make a model fit there, and its best quantization."""
        rig = self._book.rig(name)
        known = self._calibrations.get(name, rig.prior())
        return detail(row, rig, wish, rows, calibration=known, threads=threads)

    def predicted(self, study: Study) -> dict[str, FitRow]:
        """What is predicted of each cell, by key, of which model and rig are known."""
        return self._predictor.predicted(study)

    def remedies(self, cell: Cell) -> tuple[str, list[Remedy]]:
        """Why a cell does not load, as far as Fit can tell, and what would make it load; empty where it cannot."""
        spec = cell.launch
        if not cell.engine.fits:
            return "", []
        shape, rig = self._predictor.shape(spec.rig, spec.model, spec.quantization), self._predictor.rig(spec.rig)
        if shape is None or rig is None or not rig.devices():
            return "", []
        wish = wish_of(spec.roles)
        found = remedies(shape, wish, rig.devices())
        placement = place(shape, wish, rig.devices())
        if placement.state in GOOD:
            return "", []
        return f"it needs {byte_size(-min(0, placement.headroom_bytes))} more memory than there is", found

    async def close(self) -> None:
        """Let go of rigs."""
        await self._book.close()
