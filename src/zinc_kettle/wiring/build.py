"""Builds what a command or a screen needs."""

from __future__ import annotations

import secrets
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from zinc_kettle.config import Places, driver_test_file
from zinc_kettle.core.plan import LaunchSettings, Study
from zinc_kettle.core.rig import RigPlan
from zinc_kettle.engines.endpoint import EndpointStarter
from zinc_kettle.engines.leftovers import Leftovers
from zinc_kettle.errors import UsageError
from zinc_kettle.formats.models import ModelFolder
from zinc_kettle.link.pool import DriverPool
from zinc_kettle.rigs.local import SystemClock
from zinc_kettle.sim.fleet import SIM_MODELS, sim_shape
from zinc_kettle.wiring.fleet import Fleet
from zinc_kettle.wiring.rigbook import RigBook, is_here

if TYPE_CHECKING:
    from zinc_kettle.session.experiment import Experiment
    from zinc_kettle.session.progress import Event
    from zinc_kettle.store.sqlite import SqliteStore


def open_store(places: Places) -> SqliteStore:
    """Open the person's store."""
    from zinc_kettle.store.sqlite import SqliteStore

    return SqliteStore(places.store)


def model_folder(places: Places) -> ModelFolder:
    """The person's models."""
    return ModelFolder(places.models)


def experiment(
    study: Study, places: Places, store: SqliteStore, emit: Callable[[Event], None], *, source: str = ""
) -> Experiment:
    """An experiment on its rigs, with a fresh nonce for its salts.

    Raises:
        UsageError: A rig is not known, or cannot be measured as the study wants.
    """
    from zinc_kettle.session.experiment import Experiment, Ports

    leftovers = Leftovers(places.engines)
    leftovers.end_all()
    fleet = Fleet(study, rig_book(places), model_folder(places), leftovers)
    ports = Ports(
        engines=EndpointStarter(study.endpoint, folder=places.keys) if study.endpoint else fleet,
        models=fleet,
        new_driver=DriverPool.spawn,
        telemetry=fleet,
        store=store,
        clock=SystemClock(),
        test_driver=_test_driver,
    )
    return Experiment(study, ports, emit, source=source, nonce=secrets.token_hex(4))


async def _test_driver(streams: int) -> dict[str, Any]:
    from zinc_kettle.wiring.selftest import test_driver

    return await test_driver(streams, driver_test_file())


def rig_book(places: Places) -> RigBook:
    """The person's rigs; in the demo's places those of the rehearsal too."""
    return RigBook(places, demo=places.demo)


def model_sizes(study: Study, places: Places) -> dict[int, float | None]:
    """Size of the model file of each cell, of files that are there and of presets that would be made.

    Raises:
        ModelError: A model is neither there nor a preset.
    """
    from zinc_kettle.core.plan import cells

    if study.endpoint is not None:
        return {cell.index: None for cell in cells(study)}
    folder, book = model_folder(places), rig_book(places)
    known: dict[tuple[str, str | None], float] = {}
    out: dict[int, float | None] = {}
    for cell in cells(study):
        settings = cell.launch
        key = (settings.model, settings.quantization)
        if not is_here(settings.rig):
            out[cell.index] = _size_there(book.plan(settings.rig), settings)
            continue
        if key not in known:
            found = folder.find(*key)
            known[key] = float(found.size_bytes if found else folder.planned_bytes(*key))
        out[cell.index] = known[key]
    return out


def _size_there(plan: RigPlan, settings: LaunchSettings) -> float | None:
    """Size of a simulated rig's model; files of other machines are not looked for before the run."""
    if not plan.simulated:
        return None
    try:
        return float(sim_shape(settings.model, settings.quantization).weights_bytes)
    except KeyError:
        raise UsageError(f"the rehearsal has no model {settings.model!r} at {settings.quantization}",
                         remedy="one of: " + ", ".join(SIM_MODELS)) from None  # fmt: skip


def read_study(path: Path) -> tuple[Study, str]:
    """Read a study file."""
    from zinc_kettle.formats.study import read_study as read

    return read(path)
