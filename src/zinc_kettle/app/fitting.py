"""What Fit is made from: candidates from the model folder or the rehearsal, and what was measured on a rig before."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

from zinc_kettle.app.planning import levels_of_model, models_here
from zinc_kettle.config import Places
from zinc_kettle.core.breakdown import device_point_of, point_of
from zinc_kettle.core.facts import MachineFacts
from zinc_kettle.core.fit.predict import Calibration, DevicePoint, Point, calibrate, calibrate_devices
from zinc_kettle.core.record.value import Value
from zinc_kettle.core.rig import Probe, Rig
from zinc_kettle.core.said_model import said_model
from zinc_kettle.errors import KettleError, ModelError
from zinc_kettle.formats.scan import FoundModel, read_model, scan
from zinc_kettle.present.fit_rows import Candidate, Measured
from zinc_kettle.sim.fleet import SIM_MODELS, sim_shape

if TYPE_CHECKING:
    from zinc_kettle.core.results import CellResults, StudyResults
    from zinc_kettle.store.store import KettleStore

RUNS = 12
"""Newest runs that are looked through for what was measured on a rig."""
SIM_QUANTIZATIONS = ("F16", "Q8_0", "Q6_K", "Q4_K")
_QUANTIZATION = re.compile(r"[.-](I?Q\d\w*|F16|BF16|F32|MXFP4)$", re.IGNORECASE)


def candidates(places: Places, rig: Rig, paths: list[Path] | None = None) -> list[Candidate]:
    """Models one may run on a rig: those at `paths`, else those of the model folder; for a simulated rig its own.

    Raises:
        ModelError: A path is neither a model nor a folder of models.
    """
    if rig.simulated and not paths:
        return [
            Candidate(
                f"{model} {q}", sim_shape(model, q), "made up", family=model, levels={"model": model, "quantization": q}
            )
            for model in SIM_MODELS
            for q in SIM_QUANTIZATIONS
        ]
    if not paths:
        return [_candidate(f, levels_of_model(f, places)) for f in models_here(places)]
    out = []
    for path in paths:
        said = None if path.exists() else on_paper(str(path))
        if said is not None:
            out.append(said)
        elif path.is_dir() and not (path / "config.json").is_file():
            out += [_candidate(f) for f in scan(path)]
        else:
            shape = read_model(path)
            out.append(Candidate(path.name, shape, "file", family=family(path.name)))
    if not out:
        raise ModelError("no model was found there", remedy="give GGUF files, or folders that contain some")
    return out


def on_paper(text: str) -> Candidate | None:
    """A model that is only said, as in `70b at 4 bits`; None where the text says none.

    Raises:
        ModelError: It cannot be, or its precision is not known.
    """
    try:
        shape = said_model(text)
    except ValueError as error:
        raise ModelError(str(error), remedy="as in: 70b at 4 bits, 8b Q4_K_M") from error
    return None if shape is None else Candidate(shape.name, shape, "on paper", family=shape.name.partition(" ")[0])


def _candidate(found: FoundModel, levels: Mapping[str, str] | None = None) -> Candidate:
    name = found.path.name
    return Candidate(name, found.shape, "file", family(name), found.trouble, levels or {})


def family(name: str) -> str:
    """A file's name without its quantization."""
    return _QUANTIZATION.sub("", name.removesuffix(".gguf")).lower()


def calibration(store: KettleStore, rig: Rig) -> Calibration:
    """Fitted to whatever was measured on a rig: single streams of models whose shape is known, in main memory, and on
    its devices, each by itself."""
    points: list[Point] = []
    on_devices: list[DevicePoint] = []
    for results, cell, facts in _measured_on(store, rig):
        there = device_point_of(results, cell)
        on_devices += [] if there is None else [there]
        probe = Probe.from_plain(facts["probe"]) if facts.get("probe") else rig.probe
        threads = int(cell.cell.level("threads") or rig.cores)
        machine = probe.machine(threads) if probe else rig.machine(threads)
        point = None if machine is None else point_of(results, cell, machine)
        points += [] if point is None else [point]
    return calibrate_devices(on_devices, calibrate(points, rig.prior()))


def _measured_on(store: KettleStore, rig: Rig) -> Iterator[tuple[StudyResults, CellResults, MachineFacts]]:
    """Measured cells of a rig in the newest runs, the newest first, with what was known of the machine then."""
    from zinc_kettle.store.reading import open_run, shelf

    runs = [run for study in shelf(store) for run in study.runs]
    for run in sorted(runs, key=lambda run: run.created_s, reverse=True)[:RUNS]:
        facts: MachineFacts | None = run.facts if rig.reach == "here" else run.facts.get("rigs", {}).get(rig.name)
        if not facts or facts.get("processor") != rig.get("processor"):
            continue
        try:
            results = open_run(store, run.run_id)
        except KettleError:
            continue
        own = {None, rig.name} if rig.reach == "here" else {rig.name}
        for cell in results.cells:
            if cell.done and cell.cell.settings["rig"] in own:
                yield results, cell, facts


def measured_before(store: KettleStore, rig: Rig) -> dict[str, Measured]:
    """The decode speed of each model that a study measured on a rig with a single stream: its fastest settings, newest
    run. By the name of its file, or as the rehearsal names its models.
    """
    out: dict[str, tuple[str, Measured]] = {}
    for results, cell, _ in _measured_on(store, rig):
        value = cell.value("decode")
        if not isinstance(value, Value) or int(cell.cell.settings["concurrency"] or 1) != 1:
            continue
        file = cell.kept.engine.get("file", {}).get("name")
        name = file or f"{cell.cell.settings['model']} {cell.cell.settings['quantization']}"
        place = f"{results.study.name}:{results.run.number}"
        how = f"{cell.title}, {place}"
        before = out.get(name)
        if before is None or (before[0] == place and before[1].value < value.value):
            out[name] = place, Measured(value.value, value.low, value.high, how)
    return {name: found for name, (_, found) in out.items()}
