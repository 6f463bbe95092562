"""Runs of a store into a bundle, without what names a person's machine, folders or keys."""

from __future__ import annotations

import contextlib
import getpass
import os
import socket
import time
from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import TYPE_CHECKING

import msgspec

from zinc_kettle import __version__
from zinc_kettle.config import Places
from zinc_kettle.core.fingerprint import DEFINITIONS_VERSION
from zinc_kettle.core.plan import Study, to_plain, without_texts
from zinc_kettle.core.private import Private
from zinc_kettle.core.recipe import Endpoint
from zinc_kettle.core.results import CellResults, KeptRepeat
from zinc_kettle.core.telemetry import Trace
from zinc_kettle.core.timeline import Timeline
from zinc_kettle.errors import KettleError, UsageError
from zinc_kettle.formats.bundle.archive import ENDING, BundleWriter
from zinc_kettle.formats.bundle.rows import RequestWriter, Row, write_traces
from zinc_kettle.formats.bundle.runs import CarriedRun, NoteLine, RepeatLine, RunHead, prompt_files, run_parts
from zinc_kettle.formats.bundle.sources import NO_ADDRESS, passed_on
from zinc_kettle.store.reading import open_run, order_of

if TYPE_CHECKING:
    from zinc_kettle.store.store import KettleStore

LEFT_OUT = ("prompts", "answers")
"""What a person may keep to themselves."""


@dataclass(frozen=True, slots=True)
class Packed:
    """A bundle that was written."""

    path: Path
    size: int
    digest: str
    runs: int
    repeats: int
    requests: int


def hidden_words(places: Places) -> set[str]:
    """Names of this machine, of its person and of the machines in the rig file."""
    out = {socket.gethostname(), socket.gethostname().partition(".")[0]}
    with contextlib.suppress(KeyError, OSError):
        out.add(getpass.getuser())
    try:
        from zinc_kettle.wiring.build import rig_book

        for plan in rig_book(places).plans():
            out.update(word for word in (plan.host, plan.url.partition("://")[2].partition("/")[0]) if word)
    except KettleError:
        pass
    return out


def pack(
    store: KettleStore, run_ids: Sequence[str], out: Path, *, without: Collection[str] = (), words: Collection[str] = ()
) -> Packed:
    """Write runs into a bundle.

    Args:
        store: Where they are kept.
        run_ids: The runs; none may be running.
        out: The file.
        without: Of LEFT_OUT, what stays here.
        words: Names to hide wherever they stand.

    Raises:
        UsageError: A run is still running, or the file cannot be written.
    """
    if out.suffix != ENDING:
        raise UsageError(f"{out.name} does not end in {ENDING}", remedy=f"{out.stem}{ENDING}")
    part = out.with_name(f".{out.name}.{os.getpid()}.part")
    try:
        out.parent.mkdir(parents=True, exist_ok=True)
        with TemporaryDirectory(prefix=".zinc-kettle-", dir=out.parent) as folder:
            writer = BundleWriter(part)
            try:
                counts = [
                    _Run(store, run_id, frozenset(without), Private(words)).write(writer, f"runs/{n}", Path(folder))
                    for n, run_id in enumerate(run_ids, start=1)
                ]
                digest = writer.close(tool=__version__, definitions=DEFINITIONS_VERSION, made_s=round(time.time(), 3),
                                      left_out=sorted(without))  # fmt: skip
            except BaseException:
                writer.abandon()
                raise
        part.replace(out)
    except OSError as error:
        raise UsageError(f"{out.name} cannot be written", why=str(error.strerror or error),
                         remedy="choose another place") from error  # fmt: skip
    finally:
        part.unlink(missing_ok=True)
    repeats, requests = (sum(c[i] for c in counts) for i in (0, 1))
    return Packed(out, out.stat().st_size, digest, len(run_ids), repeats, requests)


class _Run:
    """One run on its way into a bundle."""

    def __init__(self, store: KettleStore, run_id: str, without: frozenset[str], private: Private) -> None:
        self._results = open_run(store, run_id)
        if self._results.run.state == "running":
            raise UsageError(f"{self._results.study.name} is being measured", remedy="pack it when it has ended")
        self._order = order_of(store, run_id)
        self._without, self._private = without, private

    def write(self, writer: BundleWriter, folder: str, work: Path) -> tuple[int, int]:
        """Add its parts; returns how many repeats and requests there are."""
        lines: list[RepeatLine] = []
        traces: list[tuple[int, Trace]] = []
        requests, count = RequestWriter(work / "requests.parquet"), 0
        for cell in self._results.cells:
            for kept in cell.read_repeats():
                for timeline in kept.repeat.timelines:
                    requests.add(Row(len(lines), self._request(timeline)))
                    count += 1
                if kept.repeat.trace is not None:
                    traces.append((len(lines), kept.repeat.trace))
                lines.append(self._line(cell, kept))
        requests.close()
        for name, data in run_parts(self._carried(), lines).items():
            writer.add(f"{folder}/{name}", data)
        writer.add_file(f"{folder}/requests.parquet", work / "requests.parquet")
        if traces:
            write_traces(traces, work / "traces.parquet")
            writer.add_file(f"{folder}/traces.parquet", work / "traces.parquet")
        return len(lines), count

    def _request(self, timeline: Timeline) -> Timeline:
        error = None if timeline.error is None else self._private.text(timeline.error)
        text = "" if "answers" in self._without else timeline.text
        return replace(timeline, error=error, odd=self._private.text(timeline.odd), text=text, counted=None)

    def _line(self, cell: CellResults, kept: KeptRepeat) -> RepeatLine:
        r, hide = kept.repeat, self._private.value
        failure = (
            None
            if kept.failure is None
            else msgspec.convert(hide(msgspec.to_builtins(kept.failure)), type(kept.failure))
        )
        trace = r.trace
        return RepeatLine(
            r.repeat_id, self._order[r.repeat_id], self._private.levels(cell.cell.levels), r.block, r.concurrency,
            "broken-off" if kept.state == "open" else kept.state, r.launch, hide(kept.facts) or None, r.machine,
            failure,
            r.driver_cpu_ns, r.wall_ns, r.extras,
            sampler_cpu_ns=0 if trace is None else trace.sampler_cpu_ns,
            highest_bytes=-1 if trace is None else trace.highest_bytes,
            energy_source="" if trace is None else self._private.text(trace.energy_source),
        )  # fmt: skip

    def _carried(self) -> CarriedRun:
        run, private = self._results.run, self._private
        study = self._study(self._results.schedule.study)
        facts = private.value(run.facts)
        for machine in (facts, *facts.get("rigs", {}).values()):
            if machine.get("busy"):
                machine["busy"]["top"] = []  # what else runs on a machine is nobody's business
        state = run.state if run.state == "measured" else "stopped"
        head = RunHead(run.run_id, run.study_id, run.number, state, run.created_s, run.simulated)
        decisions = tuple(replace(d, levels=private.levels(d.levels), text=private.text(d.text)) for d in run.decisions)
        notes = tuple(self._note(cell, text) for cell, text in run.notes)
        source = passed_on(run.source, texts=private.text, level=private.level, files=list(prompt_files(study)))
        return CarriedRun(head, study, facts, source, decisions, notes)

    def _note(self, cell: str | None, text: str) -> NoteLine:
        levels = None if cell is None else self._private.levels(self._results.cell(cell).cell.levels)
        return NoteLine(self._private.text(text), levels)

    def _study(self, study: Study) -> Study:
        """The plan, with prompts as they are or their fingerprints."""
        private, prompts = self._private, study.prompts
        prompts = without_texts(prompts) if "prompts" in self._without else prompts
        plain = to_plain(replace(study, prompts=replace(prompts, texts=(), recorded=(), tasks={})))
        hidden = msgspec.convert(private.value(plain), Study)
        design = replace(
            study.design, baseline=private.levels(study.design.baseline),
            without=tuple({n: tuple(map(private.level, v)) for n, v in rule.items()} for rule in study.design.without),
        )  # fmt: skip
        return replace(
            hidden, vary={name: tuple(map(private.level, levels)) for name, levels in study.vary.items()},
            hold=private.levels(study.hold), design=design,
            endpoint=None if study.endpoint is None else Endpoint(NO_ADDRESS, private.text(study.endpoint.model)),
            prompts=replace(prompts, files=tuple(f.replace("\\", "/").rpartition("/")[2] for f in prompts.files)),
        )  # fmt: skip
