"""Builds what a command or a screen needs."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Mapping
from dataclasses import replace
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING

from zinc_kettle.app.fleet import Fleet, recipe_named
from zinc_kettle.app.rigbook import RigBook, is_here
from zinc_kettle.config import Places, driver_test_file
from zinc_kettle.core.facts import DriverTest
from zinc_kettle.core.plan.recipe import OPEN_PROTOCOL, Recipe
from zinc_kettle.core.plan.study import Cell, Study
from zinc_kettle.core.rig import RigPlan
from zinc_kettle.engines.endpoint import EndpointStarter
from zinc_kettle.engines.orphans import Orphans
from zinc_kettle.errors import KettleError, UsageError
from zinc_kettle.formats.models import ModelFolder
from zinc_kettle.formats.recipe import read_recipes
from zinc_kettle.link.pool import DriverPool
from zinc_kettle.rigs.local import SystemClock
from zinc_kettle.rigs.process_mark import is_gone, process_mark
from zinc_kettle.sim.fleet import SIM_MODELS, sim_shape

if TYPE_CHECKING:
    from zinc_kettle.core.fit.predict import Calibration
    from zinc_kettle.core.rig import Rig
    from zinc_kettle.formats.study import Known
    from zinc_kettle.present.fit_rows import FitRow
    from zinc_kettle.session.experiment import Experiment
    from zinc_kettle.session.progress import Event
    from zinc_kettle.store.store import KettleStore


def open_store(places: Places) -> KettleStore:
    """Open the store; one that is not the person's own is read in a process apart, and only read.

    Raises:
        StoreError: It cannot be opened.
        UsageError: It is somebody else's and cannot be trusted.
    """
    from zinc_kettle.app.ownership import claim, is_own
    from zinc_kettle.store.store import KettleStore

    if not is_own(places):
        from zinc_kettle.app.borrowed import borrow

        return borrow(places)
    store = KettleStore(places.store, holder=process_mark(), is_gone=is_gone)
    if not places.store_is_usual:
        claim(places, store)
    return store


def shipped_stores(places: Places) -> list[KettleStore]:
    """The stores of the demo and of the finished examples, where a person has named no store."""
    from zinc_kettle.config import sample_copy

    if not places.store_is_usual or places.demo:
        return []
    found = [places.home / "demo" / "kettle.db", sample_copy(places)]
    return [open_store(replace(places, store=path)) for path in found if path is not None and path.exists()]


def model_folder(places: Places) -> ModelFolder:
    """The person's models."""
    return ModelFolder(places.models)


def experiment(
    study: Study,
    places: Places,
    store: KettleStore,
    emit: Callable[[Event], None],
    *,
    source: str = "",
    fresh: bool = False,
) -> Experiment:
    """An experiment on its rigs, with a fresh nonce for its salts; `fresh` begins a new run in any case.

    Args:
        study: The study.
        places: Data folder.
        store: Where it is kept.
        emit: Takes each event of the run, in the event loop.
        source: The study file as it was; empty where there was none.
        fresh: Begin a new run even where one was stopped.

    Raises:
        UsageError: A rig is not known, or cannot be measured as the study wants.
    """
    from zinc_kettle.app.fitting import calibration
    from zinc_kettle.app.live_status import Glance
    from zinc_kettle.app.predicting import Predictor
    from zinc_kettle.present.planned import speeds_of
    from zinc_kettle.session.experiment import Experiment
    from zinc_kettle.session.ports import Ports

    leftovers = Orphans(places.engines)
    leftovers.end_all()
    recipes = recipe_book(places)
    book = rig_book(places)
    kept: dict[str, Calibration] = {}

    def fitted(rig: Rig) -> Calibration:
        if rig.name not in kept:
            kept[rig.name] = calibration(store, rig)
        return kept[rig.name]

    @cache
    def predicted() -> Mapping[str, FitRow]:
        return Predictor(book, places, fitted).predicted(study)

    fleet = Fleet(study, book, model_folder(places), recipes, leftovers, predicted)
    ports = Ports(
        engines=_endpoint(study, recipes, places) or fleet,
        models=fleet,
        new_driver=DriverPool.spawn,
        telemetry=fleet,
        store=store,
        clock=SystemClock(),
        test_driver=_test_driver,
    )
    shown = Glance(emit, places.store)
    return Experiment(
        study,
        ports,
        shown,
        source=source,
        nonce=secrets.token_hex(4),
        fresh=fresh,
        speeds=lambda: speeds_of(predicted()),
    )


async def _test_driver(streams: int) -> DriverTest:
    from zinc_kettle.app.selftest import test_driver

    return await test_driver(streams, driver_test_file())


def recipe_book(places: Places) -> Mapping[str, Recipe]:
    """All engine recipes, by name.

    Raises:
        StudyFileError: One of the person's own cannot be used.
    """
    return read_recipes(places.recipes)


def _endpoint(study: Study, recipes: Mapping[str, Recipe], places: Places) -> EndpointStarter | None:
    if study.endpoint is None:
        return None
    named = str(study.hold.get("engine", OPEN_PROTOCOL))
    return EndpointStarter(study.endpoint, recipe_named(recipes, named), folder=places.keys)


def rig_book(places: Places) -> RigBook:
    """The person's rigs; in the demo's places those of the rehearsal too."""
    return RigBook(places, demo=places.demo)


def model_sizes(study: Study, places: Places) -> dict[str, float | None]:
    """Size of the model file of each cell, by key, of files that are there and of presets that would be made.

    Raises:
        ModelError: A model is neither there nor a preset.
    """
    if study.endpoint is not None:
        return dict.fromkeys(study.by_key)
    folder, book = model_folder(places), rig_book(places)

    @cache
    def size(rig: str | None, model: str, quantization: str | None) -> float | None:
        if not is_here(rig):
            return _size_there(book.plan(rig), model, quantization)
        found = folder.find(model, quantization)
        return float(found.size_bytes if found else folder.planned_bytes(model, quantization))

    return {key: size(*_file_of(cell)) if cell.engine.started else None for key, cell in study.by_key.items()}


def _file_of(cell: Cell) -> tuple[str | None, str, str | None]:
    settings = cell.launch
    return settings.rig, settings.model, settings.quantization


def _size_there(plan: RigPlan, model: str, quantization: str | None) -> float | None:
    """Size of a simulated rig's model; files of other machines are not looked for before the run."""
    if not plan.simulated:
        return None
    try:
        return float(sim_shape(model, quantization).weights_bytes)
    except KeyError:
        raise UsageError(
            f"there is no simulated model {model!r} at {quantization}", remedy="one of: " + ", ".join(SIM_MODELS)
        ) from None


def read_study(path: Path, places: Places) -> tuple[Study, str]:
    """Read a study file; it may name the person's engines and rigs."""
    from zinc_kettle.formats.study import read_study as read

    return read(path, known(places))


def known(places: Places) -> Known:
    """What a study file may name."""
    from zinc_kettle.formats.study import Known

    try:
        speaks = {plan.name: plan.engine for plan in rig_book(places).plans() if plan.reach == "url"}
    except KettleError:
        speaks = {}  # studies without rigs can be read all the same; a run says what is wrong with the file
    return Known({name: recipe.engine for name, recipe in recipe_book(places).items()}, speaks)
