"""Builds what a command or a screen needs."""

from __future__ import annotations

import secrets
from collections.abc import Callable
from pathlib import Path

from zinc_kettle.config import Places
from zinc_kettle.core.plan import Study
from zinc_kettle.engines.endpoint import EndpointStarter
from zinc_kettle.engines.launcher import Launcher
from zinc_kettle.formats.models import ModelFolder
from zinc_kettle.link.process import DriverProcess
from zinc_kettle.rigs.local import SystemClock
from zinc_kettle.rigs.telemetry import LocalTelemetry
from zinc_kettle.session.experiment import Experiment, Ports
from zinc_kettle.session.progress import Event
from zinc_kettle.store.sqlite import SqliteStore


def open_store(places: Places) -> SqliteStore:
    """Open the person's store."""
    return SqliteStore(places.store)


def model_folder(places: Places) -> ModelFolder:
    """The person's models."""
    return ModelFolder(places.models)


def experiment(
    study: Study, places: Places, store: SqliteStore, emit: Callable[[Event], None], *, source: str = ""
) -> Experiment:
    """An experiment on this machine, with a fresh nonce for its salts."""
    engines = EndpointStarter(study.endpoint) if study.endpoint else Launcher(load_limit_s=study.limits.load_s)
    ports = Ports(
        engines=engines,
        models=model_folder(places),
        new_driver=DriverProcess.spawn,
        telemetry=LocalTelemetry(),
        store=store,
        clock=SystemClock(),
    )
    return Experiment(study, ports, emit, source=source, nonce=secrets.token_hex(4))


def model_sizes(study: Study, places: Places) -> dict[int, float | None]:
    """Size of the model file of each cell, of files that are there and of presets that would be made.

    Raises:
        ModelError: A model is neither there nor a preset.
    """
    from zinc_kettle.core.plan import cells, launch_settings

    if study.endpoint is not None:
        return {cell.index: None for cell in cells(study)}
    folder = model_folder(places)
    known: dict[tuple[str, str | None], float] = {}
    out: dict[int, float | None] = {}
    for cell in cells(study):
        settings = launch_settings(cell)
        key = (settings.model, settings.quantization)
        if key not in known:
            found = folder.find(*key)
            known[key] = float(found.size_bytes if found else folder.planned_bytes(*key))
        out[cell.index] = known[key]
    return out


def read_study(path: Path) -> tuple[Study, str]:
    """Read a study file."""
    from zinc_kettle.formats.study import read_study as read

    return read(path)
