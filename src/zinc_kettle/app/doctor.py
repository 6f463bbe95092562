"""Checks this machine: what the tool can use, what it cannot, and how to fix that."""

from __future__ import annotations

import asyncio
import json
import os
import platform
import shutil
import socket
import sys
import time
import zipfile
from collections.abc import Callable, Sequence
from importlib import metadata
from pathlib import Path
from typing import Any

from zinc_kettle import __version__
from zinc_kettle.config import Places, driver_test_file
from zinc_kettle.core.anonymise import Anonymiser
from zinc_kettle.core.cautions.machine import STOLEN_SHARE
from zinc_kettle.core.fingerprint import DEFINITIONS_VERSION
from zinc_kettle.core.health import Check
from zinc_kettle.core.rig import BUSY_CORES
from zinc_kettle.core.units import byte_size, digits, plural
from zinc_kettle.errors import KettleError, UsageError

ROOM_BYTES = 2 << 30
"""Free space under which models and runs may not find any."""
LOG_BYTES = 200_000
"""So much of the log's end goes into a report."""
EXACT_MS = 0.5
"""A self-test whose stamps are no further off is good."""
PACKAGES = (
    "textual",
    "httptools",
    "msgspec",
    "numpy",
    "scipy",
    "sqlalchemy",
    "matplotlib",
    "pyarrow",
    "typst",
    "asyncssh",
    "uvloop",
)


def examine(places: Places, *, driver: bool) -> list[Check]:
    """Look at everything.

    Args:
        places: Where things are kept.
        driver: Test the driver, which takes a few seconds.
    """
    looks: list[Callable[[], Check | list[Check]]] = [
        _python,
        lambda: _folder(places),
        lambda: _store(places),
        _terminal,
        _stamps,
        _processor,
        _energy,
        _devices,
        lambda: _engines(places),
        lambda: _models(places),
        lambda: _rigs(places),
    ]
    if driver:
        looks.append(_driver)
    out: list[Check] = []
    for look in looks:
        found = look()
        out += found if isinstance(found, list) else [found]
    return out


def _python() -> Check:
    return Check(
        "Python",
        "good",
        f"{platform.python_version()} on {platform.system()}, Zinc Kettle {__version__}, "
        f"definitions {DEFINITIONS_VERSION}",
    )


def _folder(places: Places) -> Check:
    try:
        places.home.mkdir(parents=True, exist_ok=True, mode=0o700)
        probe = places.home / ".doctor"
        probe.write_text("")
        probe.unlink()
        free = shutil.disk_usage(places.home).free
    except OSError as error:
        return Check(
            "data folder", "broken", f"cannot be written: {error.strerror}", "set ZINC_KETTLE_HOME to a folder of yours"
        )
    if free < ROOM_BYTES:
        return Check("data folder", "limited", f"{byte_size(free)} free", "make room: models and runs need some")
    return Check("data folder", "good", f"can be written, {byte_size(free)} free")


def _store(places: Places) -> Check:
    from zinc_kettle.app.build import open_store
    from zinc_kettle.store.reading import shelf

    if not places.store.exists():
        return Check("store", "good", "none yet; the first run makes it")
    try:
        rows = shelf(open_store(places))
    except KettleError as error:
        return Check("store", "broken", error.what, error.remedy or "keep a copy of it, and choose another: --store")
    runs = sum(len(row.runs) for row in rows)
    size = byte_size(places.store.stat().st_size)
    return Check(
        "store", "good", f"{plural(len(rows), 'study')} in {plural(runs, 'run')}, {size}".replace("studys", "studies")
    )


def _terminal() -> Check:
    problems = []
    if "utf" not in (sys.__stdout__.encoding if sys.__stdout__ is not None else "").lower():
        problems.append(("its encoding is not UTF-8", "set LC_ALL=C.UTF-8"))
    if os.environ.get("COLORTERM", "") not in {"truecolor", "24bit"}:
        problems.append(("it does not say that it has 24-bit colours", "set COLORTERM=truecolor if it has"))
    size = shutil.get_terminal_size()
    if size.columns < 100 or size.lines < 30:
        problems.append((f"{size.columns} by {size.lines} characters", "100 by 30 show everything; 142 by 42 is best"))
    if problems:
        return Check("terminal", "limited", "; ".join(p for p, _ in problems), "; ".join(r for _, r in problems))
    return Check("terminal", "good", f"UTF-8, 24-bit colours, {size.columns} by {size.lines} characters")


def _stamps() -> Check:
    from zinc_kettle.driver.stamps import enable

    with socket.socket() as probe:
        kernel = enable(probe)
    if kernel:
        return Check("kernel stamps", "good", "arrivals are stamped by the kernel, whatever the machine does meanwhile")
    return Check(
        "kernel stamps",
        "limited",
        "not on this system: the driver stamps, a little later",
        "figures say so; on Linux they are exact",
    )


def _processor() -> list[Check]:
    from zinc_kettle.rigs.local import busy, machine_facts

    facts, now = machine_facts(), busy()
    cores = facts.get("physical_cores")
    out = [
        Check(
            "processor",
            "good",
            f"{facts.get('processor') or 'not named'}, {plural(cores or 1, 'core')}, "
            f"{byte_size(float(facts.get('memory_bytes') or 0))} of memory",
        )
    ]
    governor = facts.get("governor")
    if governor and governor != "performance":
        out.append(
            Check(
                "clock rate",
                "limited",
                f"governor {governor}: speed follows the load",
                "set it to performance while you measure: cpupower frequency-set -g performance",
            )
        )
    if facts.get("virtual"):
        out.append(
            Check(
                "virtual machine",
                "limited",
                "others share the hardware, and may take its time",
                "quiet_s in [limits] waits for a quiet moment; the caution stolen-time tells",
            )
        )
    used, stolen = float(now.get("cores") or 0.0), float(now.get("stolen_share") or 0.0)
    if used > BUSY_CORES or stolen > STOLEN_SHARE:
        out.append(
            Check(
                "quiet",
                "limited",
                f"{digits(used, significant=2)} cores are in use, {stolen:.0%} stolen",
                "end what is not needed before you measure",
            )
        )
    else:
        out.append(Check("quiet", "good", f"{digits(used, significant=2)} cores are in use"))
    return out


def _energy() -> Check:
    from zinc_kettle.rigs.agent.watch import Counters, Watts

    if Counters().microjoules() is not None:
        return Check("energy", "good", "counters of the processor can be read")
    if Watts().watts() is not None:
        return Check("energy", "limited", "a power reading, no counter", "energy is summed up from samples")
    there = Path("/sys/class/powercap").is_dir() and any(Path("/sys/class/powercap").iterdir())
    if there:
        return Check(
            "energy",
            "missing",
            "there are counters, and they may not be read",
            "as root: chmod a+r /sys/class/powercap/intel-rapl:*/energy_uj",
        )
    return Check(
        "energy",
        "missing",
        "no power figure can be read here",
        "type in what a wall meter shows: Rigs, w, load_w = 65 W",
    )


def _devices() -> Check:
    from zinc_kettle.rigs.agent.facts import graphics, nvml

    cards, told = graphics(""), nvml()
    if isinstance(told, list) and told:
        return Check("devices", "good", ", ".join(str(card.get("name")) for card in told))
    if cards:
        names = ", ".join(str(card.get("name")) for card in cards)
        why = told if isinstance(told, str) else "no library tells of it"
        return Check("devices", "limited", f"{names}: {why}", "memory and power are not sampled; install its driver")
    return Check("devices", "good", "none; models run on the processor")


def _engines(places: Places) -> list[Check]:
    from zinc_kettle.app.build import recipe_book

    try:
        recipes = recipe_book(places)
    except KettleError as error:
        return [Check("engine recipes", "broken", str(error), "mend the file in the folder recipes, or take it away")]
    out = []
    for name, recipe in recipes.items():
        if recipe.start is None:
            out.append(Check(f"engine {name}", "good", "runs already, at an address you give"))
        elif recipe.start.launcher and not recipe.start.python:
            package = recipe.start.launcher  # a launcher is called by the package it starts
            version = _version(package)
            if version:
                out.append(Check(f"engine {name}", "good", f"{package} {version}"))
            else:
                out.append(
                    Check(
                        f"engine {name}", "missing", f"{package} is not installed", "pip install 'zinc-kettle[engine]'"
                    )
                )
        else:
            program = recipe.start.argv[0] if recipe.start.argv else ""
            there = "{" in program or shutil.which(program) is not None
            out.append(
                Check(
                    f"engine {name}",
                    "good" if there else "missing",
                    "can be started" if there else f"there is no program {program}",
                    "" if there else "install it, or name its path in the recipe",
                )
            )
    return out


def _version(package: str) -> str:
    try:
        return metadata.version(package)
    except metadata.PackageNotFoundError:
        return ""


def _models(places: Places) -> Check:
    from zinc_kettle.app.planning import models_here

    found = models_here(places)
    if found:
        size = byte_size(sum(model.size_bytes for model in found))
        return Check("models", "good", f"{plural(len(found), 'file')} found, {size}")
    return Check(
        "models",
        "missing",
        "no file found in the data folder or in the usual ones",
        "zinc-kettle --models FOLDER finds yours; zinc-kettle synth brine-60m makes one to try",
    )


def _rigs(places: Places) -> Check:
    from zinc_kettle.app.build import rig_book

    try:
        plans = [plan for plan in rig_book(places).plans() if plan.reach in {"ssh", "url"}]
    except KettleError as error:
        return Check("rig file", "broken", str(error), "docs/rigs.md shows what it contains")
    if not plans:
        return Check("other machines", "good", "none named; docs/rigs.md says how")
    known = Path.home() / ".ssh" / "known_hosts"
    if any(plan.reach == "ssh" for plan in plans) and not known.is_file():
        return Check(
            "other machines",
            "limited",
            f"{plural(len(plans), 'rig')} named, and no known hosts",
            "connect once with ssh, and accept the machine's key",
        )
    return Check("other machines", "good", f"{plural(len(plans), 'rig')} named; zinc-kettle probe NAME asks one")


def _driver() -> Check:
    from zinc_kettle.app.selftest import test_driver

    try:
        found = asyncio.run(test_driver(4, driver_test_file()))
    except KettleError as error:
        return Check("driver", "broken", error.what, error.why or "report it with doctor --bundle")
    if "spread" not in found:
        return Check("driver", "broken", found.get("failed", "no result"), "report it with doctor --bundle")
    worst = max(found["spread"]["p99_ms"], found["burst"]["p99_ms"])
    said = f"stamps within {digits(worst, significant=2)} ms (99 of 100), by the {found.get('stamp', 'driver')}"
    if worst > EXACT_MS:
        return Check("driver", "limited", said, "the machine is busy: end what is not needed")
    return Check("driver", "good", said)


# a report of a bug
def write_bundle(places: Places, checks: Sequence[Check], out: Path, words: Sequence[str]) -> None:
    """What a developer needs to know of a bug, without what names the machine or its person.

    Args:
        places: Where things are kept.
        checks: What was found.
        out: The file, .zip.
        words: Names to hide.

    Raises:
        UsageError: It cannot be written.
    """
    private = Anonymiser(words)
    told: dict[str, Any] = {
        "version": __version__,
        "definitions": DEFINITIONS_VERSION,
        "python": platform.python_version(),
        "system": platform.system(),
        "release": platform.release(),
        "machine": platform.machine(),
        "made_s": round(time.time()),
        "packages": {name: _version(name) for name in PACKAGES},
        "checks": [{"name": c.name, "state": c.state, "found": c.found, "remedy": c.remedy} for c in checks],
    }
    log = ""
    if places.log.is_file():
        with places.log.open("rb") as file:
            file.seek(max(0, places.log.stat().st_size - LOG_BYTES))
            log = file.read().decode("utf-8", "replace")
    try:
        out.parent.mkdir(parents=True, exist_ok=True)
        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("doctor.json", json.dumps(private.value(told), indent=1, ensure_ascii=False))
            archive.writestr("log.txt", private.text(log))
    except OSError as error:
        raise UsageError(
            f"{out.name} cannot be written", why=str(error.strerror), remedy="choose another place"
        ) from error
