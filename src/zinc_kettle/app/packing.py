"""Runs of a store into a bundle, without what names a person's machine, folders or keys."""

from __future__ import annotations

import contextlib
import getpass
import socket
import time
from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec

from zinc_kettle import __version__
from zinc_kettle.app.apart import work_folder
from zinc_kettle.config import Places
from zinc_kettle.core.anonymise import Anonymiser
from zinc_kettle.core.fingerprint import DEFINITIONS_VERSION
from zinc_kettle.core.plan.study import Study, without_texts
from zinc_kettle.core.record.telemetry import Trace
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.core.results import CellResults, KeptRepeat
from zinc_kettle.core.run.decisions import Decision, OnFailure
from zinc_kettle.errors import KettleError, UsageError
from zinc_kettle.formats.atomic_file import atomic_file
from zinc_kettle.formats.bundle.archive import ENDING, BundleWriter
from zinc_kettle.formats.bundle.rows import RequestWriter, Row, write_traces
from zinc_kettle.formats.bundle.runs import CarriedRun, NoteLine, RepeatLine, RunHead, run_parts
from zinc_kettle.formats.shared_study import prompt_files, shared_study, shared_text
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
        from zinc_kettle.app.build import rig_book

        for plan in rig_book(places).plans():
            out.update(word for word in (plan.host, plan.url.partition("://")[2].partition("/")[0]) if word)
    except KettleError:
        pass
    return out


def known_keys(places: Places, studies: Iterable[Study]) -> set[str]:
    """The keys that were sent to the engines of some studies, as far as they can still be read here."""
    from zinc_kettle.app.build import rig_book
    from zinc_kettle.driver.target import read_key
    from zinc_kettle.engines.endpoint import key_path

    named = {(e.key_variable, e.key_file) for s in studies if (e := s.endpoint) is not None}
    with contextlib.suppress(KettleError):
        named |= {(plan.key_variable, plan.key_file) for plan in rig_book(places).plans()}
    out = set()
    for variable, file in named:
        with contextlib.suppress(KettleError):  # a key that is not there any more cannot be looked for
            out.add(read_key(variable, key_path(file, places.keys)))
    return out - {""}


def pack(
    store: KettleStore,
    run_ids: Sequence[str],
    out: Path,
    *,
    without: Collection[str] = (),
    words: Collection[str] = (),
    secrets: Collection[str] = (),
) -> Packed:
    """Write runs into a bundle.

    Args:
        store: Where they are kept.
        run_ids: The runs; none may be running.
        out: The file.
        without: Of LEFT_OUT, what stays here.
        words: Names to hide wherever they stand.
        secrets: Keys, to be looked for in everything.

    Raises:
        UsageError: A run is still running, or the file cannot be written.
    """
    if out.suffix != ENDING:
        raise UsageError(f"{out.name} does not end in {ENDING}", remedy=f"{out.stem}{ENDING}")
    with atomic_file(out) as part:
        found = write_bundle(store, run_ids, part, private=Anonymiser(words, secrets), without=without)
    return replace(found, path=out)


def write_bundle(
    store: KettleStore,
    run_ids: Sequence[str],
    file: Path,
    *,
    private: Anonymiser,
    without: Collection[str] = (),
    living: bool = False,
) -> Packed:
    """Write runs into a file of our own.

    Args:
        store: Where they are kept.
        run_ids: The runs.
        file: What is there is overwritten.
        private: Takes out of it what should not leave a machine.
        without: Of LEFT_OUT, what is left out.
        living: Take runs that are being measured as they stand.

    Raises:
        UsageError: A run is still running.
    """
    with work_folder(store.path.parent) as work:
        writer = BundleWriter(file)
        try:
            counts = [
                _Run(store, run_id, frozenset(without), private, living=living).write(writer, f"runs/{n}", work)
                for n, run_id in enumerate(run_ids, start=1)
            ]
            digest = writer.close(
                tool=__version__,
                definitions=DEFINITIONS_VERSION,
                made_s=round(time.time(), 3),
                left_out=sorted(without),
            )
        except BaseException:
            writer.abandon()
            raise
    repeats, requests = (sum(c[i] for c in counts) for i in (0, 1))
    return Packed(file, file.stat().st_size, digest, len(run_ids), repeats, requests)


class _Run:
    """One run on its way into a bundle."""

    def __init__(
        self, store: KettleStore, run_id: str, without: frozenset[str], private: Anonymiser, *, living: bool
    ) -> None:
        self._results = open_run(store, run_id)
        if self._results.run.state == "running" and not living:
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
        text = "" if "answers" in self._without else self._private.answer(timeline.text)
        finish = None if timeline.finish is None else self._private.text(timeline.finish)
        odd = self._private.text(timeline.odd)
        return replace(timeline, error=error, odd=odd, text=text, finish=finish, counted=None)

    def _line(self, cell: CellResults, kept: KeptRepeat) -> RepeatLine:
        r, hide = kept.repeat, self._private.value
        failure = (
            None
            if kept.failure is None
            else msgspec.convert(hide(msgspec.to_builtins(kept.failure)), type(kept.failure))
        )
        trace = r.trace
        return RepeatLine(
            r.repeat_id,
            self._order[r.repeat_id],
            self._private.levels(cell.cell.levels),
            r.block,
            r.concurrency,
            "broken-off" if kept.state == "open" else kept.state,
            r.launch,
            hide(kept.facts) or None,
            r.machine,
            failure,
            r.driver_cpu_ns,
            r.wall_ns,
            r.extras,
            sampler_cpu_ns=0 if trace is None else trace.sampler_cpu_ns,
            highest_bytes=-1 if trace is None else trace.highest_bytes,
            energy_source="" if trace is None else self._private.text(trace.energy_source),
        )

    def _carried(self) -> CarriedRun:
        run, private = self._results.run, self._private
        study = self._study(self._results.schedule.study)
        facts = private.value(run.facts)
        for machine in (facts, *facts.get("rigs", {}).values()):
            if machine.get("busy"):
                machine["busy"]["top"] = []  # what else runs on a machine is nobody's business
        state = run.state if run.state == "measured" else "stopped"
        head = RunHead(run.run_id, run.study_id, run.number, state, run.created_s, run.simulated)
        decisions = tuple(_without_names(d, private) for d in run.decisions)
        notes = tuple(self._note(cell, text) for cell, text in run.notes)
        source = shared_text(study, prompt_files(study))
        return CarriedRun(head, study, facts, source, decisions, notes)

    def _note(self, cell: str | None, text: str) -> NoteLine:
        known = None if cell is None else self._results.study.by_key.get(cell)
        levels = None if known is None else self._private.levels(known.levels)
        return NoteLine(self._private.text(text), levels)

    def _study(self, study: Study) -> Study:
        """The plan, with prompts as they are or their fingerprints."""
        prompts = without_texts(study.prompts) if "prompts" in self._without else study.prompts
        return shared_study(replace(study, prompts=prompts), self._private)


def _without_names(decision: Decision, private: Anonymiser) -> Decision:
    """A decision as strangers may read it."""
    changes: dict[str, Any] = {"levels": private.levels(decision.levels)}
    if decision.says and not isinstance(decision, OnFailure):
        changes[decision.says] = private.text(getattr(decision, decision.says))
    return replace(decision, **changes)
