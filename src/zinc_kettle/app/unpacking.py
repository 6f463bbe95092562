"""Bundles of other people into stores of their own, beside the person's."""

from __future__ import annotations

import shutil
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path

from zinc_kettle.app.apart import check_regular, read_apart, work_folder
from zinc_kettle.core.record.repeat import Repeat
from zinc_kettle.core.record.telemetry import Trace
from zinc_kettle.core.results import KeptRepeat, RunInfo
from zinc_kettle.core.run.schedule import widened
from zinc_kettle.errors import BundleError, KettleError, UsageError
from zinc_kettle.formats.bundle.archive import Bundle, BundleList, plain_toml
from zinc_kettle.formats.bundle.rows import read_requests, read_traces, trace_from
from zinc_kettle.formats.bundle.runs import CarriedRun, RepeatLine, read_repeats, read_run
from zinc_kettle.formats.toml import read_toml
from zinc_kettle.store.bundle_import import ImportedRepeat, Intake
from zinc_kettle.store.reading import open_run
from zinc_kettle.store.store import KettleStore

STORE, ABOUT = "kettle.db", "about.toml"


@dataclass(frozen=True, slots=True)
class Unpacked:
    """A bundle that was unpacked."""

    name: str
    """Of its folder; a side of a comparison names it as `NAME::STUDY`."""
    folder: Path
    runs: tuple[str, ...]
    """`STUDY:RUN` of each."""
    digest: str
    left_out: tuple[str, ...]


def unpack(file: Path, to: Path) -> Unpacked:
    """Check a bundle, and make a store of it.

    Args:
        file: The bundle.
        to: A folder that is not there yet; it appears when all is well.

    Raises:
        BundleError: It is damaged, or cannot be trusted.
        UsageError: The folder cannot be made.
    """
    path = file.expanduser()
    check_regular(path)
    with Bundle(path) as bundle:  # what is wrong with its shape is found at once
        found = bundle.list
    if to.exists():
        raise UsageError(f"{to.name} was unpacked before", remedy="give it another name with --as NAME")
    try:
        with work_folder(to.parent) as work:
            folder = work / "bundle"
            folder.mkdir(mode=0o700)
            told = read_apart(path, folder)
            folder.rename(to)
    except OSError as error:
        raise UsageError(f"{to} cannot be written", why=str(error.strerror or error)) from error
    return Unpacked(to.name, to, tuple(told), found.digest, found.left_out)


def into_store(path: Path, folder: Path) -> list[str]:
    """Check a bundle, and write its runs into a new store in a folder, with a note of where they are from.

    Returns:
        `STUDY:RUN` of each run.

    Raises:
        BundleError: It is damaged, or cannot be trusted.
    """
    names, found = take_runs(path, folder)
    told = {
        "from": path.name[:200],
        "digest": found.digest,
        "made_s": found.made_s,
        "tool": found.tool,
        "definitions": found.definitions,
        "left_out": list(found.left_out),
    }
    (folder / ABOUT).write_bytes(plain_toml(told))
    return names


def take_runs(path: Path, folder: Path) -> tuple[list[str], BundleList]:
    """Check a bundle, and write its runs into the store of a folder.

    Returns:
        `STUDY:RUN` of each run, and what the bundle says of itself.

    Raises:
        BundleError: It is damaged, or cannot be trusted.
    """
    with Bundle(path) as bundle:
        bundle.verify()
        # All that is cheap to check comes before anything is written.
        runs = [(part, run, _lines(bundle, part, run)) for part in bundle.list.runs for run in [read_run(bundle, part)]]
        store = KettleStore(folder / STORE)
        try:
            names = [_take(bundle, part, run, lines, store, folder) for part, run, lines in runs]
        finally:
            store.close()
        return names, bundle.list


def _lines(bundle: Bundle, part: str, run: CarriedRun) -> list[RepeatLine]:
    return list(read_repeats(bundle, part, widened(run.study, run.decisions)))


def _take(bundle: Bundle, part: str, run: CarriedRun, lines: list[RepeatLine], store: KettleStore, folder: Path) -> str:
    cells = {tuple(sorted(c.levels.items())): c.key for c in widened(run.study, run.decisions).cells}
    info = RunInfo(
        run.head.run,
        run.head.study,
        run.head.number,
        "measured" if run.head.state == "measured" else "stopped",
        run.head.created_s,
        run.facts,
        run.head.simulated,
        run.source,
        run.decisions,
        tuple((None if n.levels is None else cells.get(tuple(sorted(n.levels.items()))), n.text) for n in run.notes),
    )
    try:
        intake = Intake(store, run.study, info)
        intake.repeats(
            ImportedRepeat(_kept(line), line.place, cells[tuple(sorted(line.levels.items()))], line.levels)
            for line in lines
        )
        _requests(bundle, part, intake, lines, folder)
        _try_figures(bundle, store, run)
    except KettleError as error:
        if isinstance(error, BundleError):
            raise
        raise BundleError(bundle.path.name, f"has a run that cannot be kept, {part}", why=error.what) from error
    return f"{run.study.name}:{run.head.number}"


def _requests(bundle: Bundle, part: str, intake: Intake, lines: list[RepeatLine], folder: Path) -> None:
    with _extracted(bundle, f"{part}/requests.parquet", folder) as file:
        for rows in read_requests(file, f"{bundle.path.name}: {part}/requests.parquet"):
            if any(not 0 <= row.repeat < len(lines) for row in rows):
                raise BundleError(bundle.path.name, "contains a request for an unknown repeat")
            intake.requests([(lines[row.repeat].id, row.timeline) for row in rows])
    if bundle.has(f"{part}/traces.parquet"):
        with _extracted(bundle, f"{part}/traces.parquet", folder) as file:
            intake.traces(_traces(bundle, part, file, lines))


def _traces(bundle: Bundle, part: str, file: Path, lines: Sequence[RepeatLine]) -> Iterator[tuple[Repeat, Trace]]:
    for place, columns in read_traces(file, f"{bundle.path.name}: {part}/traces.parquet"):
        if not 0 <= place < len(lines):
            raise BundleError(bundle.path.name, "contains a trace for an unknown repeat")
        line = lines[place]
        try:
            trace = replace(
                trace_from(columns),
                sampler_cpu_ns=line.sampler_cpu_ns,
                highest_bytes=line.highest_bytes,
                energy_source=line.energy_source,
            )
        except (TypeError, ValueError) as error:
            raise BundleError(bundle.path.name, "has a trace that cannot be", why=str(error)) from error
        yield replace(_kept(line).repeat, trace=trace), trace


@contextmanager
def _extracted(bundle: Bundle, name: str, folder: Path) -> Iterator[Path]:
    if not bundle.has(name):
        raise BundleError(bundle.path.name, f"has no {name}")
    file = folder / "part.parquet"
    bundle.extract(name, file)
    try:
        yield file
    finally:
        file.unlink()


def _kept(line: RepeatLine) -> KeptRepeat:
    repeat = Repeat(
        line.id,
        line.block,
        line.concurrency,
        (),
        line.launch,
        line.machine,
        None,
        line.driver_cpu_ns,
        line.wall_ns,
        dict(line.extras),
    )
    return KeptRepeat(line.state, repeat, line.failure, line.facts or {})


def _try_figures(bundle: Bundle, store: KettleStore, run: CarriedRun) -> None:
    """Compute every figure once: what cannot be computed is found here, and not on somebody's screen."""
    try:
        for cell in open_run(store, run.head.run).cells:
            cell.summary  # noqa: B018 - computed and kept when it is asked for
    except (ArithmeticError, ValueError, TypeError, KeyError, IndexError, AttributeError, AssertionError) as error:
        raise BundleError(bundle.path.name, "holds figures that cannot be computed", why=str(error)[:120]) from error


@dataclass(frozen=True, slots=True)
class Other:
    """A bundle that is unpacked, as the shelf shows it."""

    name: str
    folder: Path
    made_s: float
    digest: str

    @property
    def store(self) -> Path:
        """Its store."""
        return self.folder / STORE


def others(folder: Path) -> list[Other]:
    """What was unpacked into a folder, by name."""
    out = []
    for path in sorted(folder.iterdir()) if folder.is_dir() else ():
        if (path / STORE).is_file() and not path.name.startswith("."):
            try:
                about = read_toml(path / ABOUT)[0]
                out.append(Other(path.name, path, float(about.get("made_s", 0)), str(about.get("digest", ""))))
            except (KettleError, ValueError, TypeError):
                out.append(Other(path.name, path, 0.0, ""))
    return out


def forget(other: Other) -> None:
    """Take an unpacked bundle off the shelf for good."""
    shutil.rmtree(other.folder)
