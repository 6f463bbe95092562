"""An engine that runs on for other programs, with exactly the settings of a cell; never one that is being measured."""

from __future__ import annotations

import secrets
from dataclasses import dataclass
from typing import TYPE_CHECKING

from zinc_kettle.app.build import model_folder, recipe_book, rig_book
from zinc_kettle.app.fleet import Fleet
from zinc_kettle.config import Places
from zinc_kettle.core.plan.recipe import further_models
from zinc_kettle.engines.orphans import Orphans
from zinc_kettle.errors import UsageError

if TYPE_CHECKING:
    from zinc_kettle.core.results import CellResults, StudyResults
    from zinc_kettle.ports.engines import RunningEngine


@dataclass(frozen=True)
class Served:
    """An engine that serves."""

    title: str
    """The cell whose settings it has."""
    address: str
    """Up to and with the version of the protocol."""
    model: str
    """As requests name it."""
    launch_line: str
    """As it was started; empty of a simulated rig."""
    rig: str | None = None
    simulated: bool = False

    @property
    def lines(self) -> list[str]:
        """What another program needs, a line each."""
        made_up = " SIMULATED" if self.simulated else ""
        out = [f"{self.title}{made_up}: {self.address}", f"model: {self.model}"]
        return [*out, *([f"started as: {self.launch_line}"] if self.launch_line else [])]


class Serving:
    """At most one engine that serves.

    Args:
        places: The person's folders.
    """

    def __init__(self, places: Places) -> None:
        self._places = places
        self._fleet: Fleet | None = None
        self._engine: RunningEngine | None = None
        self.served: Served | None = None
        """What serves now; None where nothing does."""

    async def start(self, results: StudyResults, cell: CellResults) -> Served:
        """Start an engine as a cell was measured, or is to be.

        Raises:
            UsageError: It is somebody else's, runs already, or something serves.
            EngineError: It does not start.
        """
        if self._engine is not None:
            raise UsageError("an engine serves already", remedy="end it first")
        if results.run.origin:
            raise UsageError(
                "how somebody else's engines are started is not known here",
                remedy="begin a plan with a copy of the study (n on the shelf), and serve a cell of that",
            )
        if results.study.endpoint is not None or not cell.cell.engine.started:
            raise UsageError(
                f"{cell.title} is behind an address: its engine runs already, with settings of its own",
                remedy="give other programs that address",
            )
        spec = cell.cell.launch
        leftovers = Orphans(self._places.engines)
        fleet = Fleet(
            results.study, rig_book(self._places), model_folder(self._places), recipe_book(self._places), leftovers
        )
        try:
            for wanted in ((spec.model, spec.quantization), *further_models(cell.cell.engine, spec.levels).values()):
                if fleet.needs_making(spec.rig) and fleet.find(*wanted, spec.rig) is None:
                    raise UsageError(f"the model {wanted[0]} is not here", remedy="measure the study, or make it first")
            model = fleet.find(spec.model, spec.quantization, spec.rig)
            engine = await fleet.start(spec, model, launch_id=f"serve-{secrets.token_hex(4)}")
        except BaseException:
            await fleet.close()
            raise
        self._fleet, self._engine = fleet, engine
        facts = engine.facts
        self.served = Served(
            cell.title,
            f"{engine.base_url.rstrip('/')}/v1",
            engine.model_name,
            facts.get("launch_line", ""),
            engine.rig,
            bool(facts.get("simulated")),
        )
        return self.served

    @property
    def alive(self) -> bool:
        """False where nothing serves, or what did has ended."""
        return self._engine is not None and self._engine.alive()

    def last_words(self) -> str:
        """What it printed last."""
        return "" if self._engine is None else self._engine.last_words()

    async def end(self) -> None:
        """End it, where there is one."""
        fleet, engine = self._fleet, self._engine
        self._fleet = self._engine = self.served = None
        try:
            if engine is not None:
                await engine.stop()
        finally:
            if fleet is not None:
                await fleet.close()
