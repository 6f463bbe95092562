"""`gate`: let a new build through, or not."""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Optional

import typer

from zinc_kettle.app.build import experiment, open_store, read_study
from zinc_kettle.app.side_names import Sides
from zinc_kettle.cli import output
from zinc_kettle.cli.commands.run import Reporter, run_until_stopped
from zinc_kettle.cli.options import JsonOption, StoreOption
from zinc_kettle.config import Places, places
from zinc_kettle.core.compare.gate import LEAST, MOST, Gate, GateVerdict, gate, planned_looks
from zinc_kettle.core.compare.sides import Side
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.plan.study import Study
from zinc_kettle.core.problem import nearest
from zinc_kettle.core.run.decisions import GateAsked, More
from zinc_kettle.core.text import capitalised
from zinc_kettle.core.units import duration
from zinc_kettle.errors import EngineChangedError, UsageError
from zinc_kettle.formats.atomic_file import atomic_file
from zinc_kettle.formats.junit import write_junit
from zinc_kettle.present.answer import main_measure
from zinc_kettle.present.duel import side_title
from zinc_kettle.present.findings import known_measure
from zinc_kettle.present.gate import gate_json, gate_lines, gate_markdown, gate_rows, gate_sentence
from zinc_kettle.session.progress import Began, Event
from zinc_kettle.store.plans import plan_key
from zinc_kettle.store.reading import shelf
from zinc_kettle.store.store import KettleStore

CODES: dict[GateVerdict, int] = {"fine": 0, "worse": 1, "failed": 1, "open": 3}
FIRST = 0
"""The look of a gate that begins a run of its own."""
TIMES_PLANNED = 4
"""The most repeats where nobody says: so many times those of the study."""


@dataclass(frozen=True)
class GateOptions:
    """How a gate is asked for."""

    against: str
    worse_than: str
    measures: Sequence[str]
    most: int
    """The most repeats of each cell; 0 for what is usual."""
    open_passes: bool
    """What is not settled ends with 0 and a warning."""
    junit: Path | None
    markdown: Path | None
    more_failures: str = "1%"
    """How much the share of failed requests may grow."""

    def question(self, levels: str, planned: Sequence[int]) -> str:
        """What is asked, as far as it decides what is measured."""
        measures = ",".join(self.measures)
        return f"{self.against} worse than {self.worse_than} in {measures} at {levels} after {list(planned)}"


def run_gate(study: str, asked: GateOptions, store_path: Path | None, *, as_json: bool) -> int:
    """Measure a study file, or take a kept run, and hold it against another; returns the exit code.

    Raises:
        UsageError: No such study, side or measure, or the two did other work.
    """
    allowed = _share(asked.worse_than)
    _share(asked.more_failures, "--more-failures", least=0.0)
    for name in asked.measures:
        _check_measure(name)
    path, levels = _file(study)
    where = places(store_path, study=path)
    store = open_store(where)
    begun = time.monotonic()
    if path is None:
        found = _held(where, store, study, asked, allowed)
    else:
        stopped = _measured(where, store, path, levels, asked, allowed)
        if stopped is None:
            output.note("stopped; everything measured is kept")
            return 1
        found = stopped
    _tell(found, asked, took_s=time.monotonic() - begun, as_json=as_json)
    if found.verdict == "open" and asked.open_passes:
        output.note("not settled, and let through as asked")
        return 0
    return CODES[found.verdict]


def _share(text: str, option: str = "--worse-than", *, least: float = LEAST) -> float:
    matched = re.fullmatch(r"\s*([0-9.]+)\s*(%?)\s*", text)
    try:
        value = float(matched[1]) / 100 if matched else -1.0
    except ValueError:
        value = -1.0
    if not least <= value <= MOST:
        raise UsageError(
            f"{option} {text}: this is no share that may be lost",
            remedy=f"3%, for instance; from {100 * least:g}% to {100 * MOST:g}%",
        )
    return value


def _check_measure(name: str) -> None:
    if MEASURES[known_measure(name)].better == "neither":
        raise UsageError(
            f"{MEASURES[name].title} has no better, so it cannot get worse",
            remedy="decode, ttft or memory, for instance",
        )


def _file(study: str) -> tuple[Path | None, str]:
    """The study file that is meant, and the levels behind it; None where a kept run is."""
    for named, levels in ((study, ""), study.rpartition("@")[::2]):
        if named.endswith(".toml"):
            if not Path(named).is_file():
                raise UsageError(
                    f"there is no file {named}", remedy="a study file, or STUDY:RUN for a run that is kept"
                )
            return Path(named), levels
    return None, ""


def _held(where: Places, store: KettleStore, study: str, asked: GateOptions, allowed: float) -> Gate:
    finder = Sides(where, lambda: store)
    return _gate(finder.side(_against(study, asked.against)), finder.side(study), asked, allowed, 1, (1,))


def _against(study: str, against: str) -> str:
    """The other side; `@levels` alone means the same run."""
    return f"{study.partition('@')[0]}{against}" if against.startswith("@") else against


def _measured(
    where: Places, store: KettleStore, path: Path, levels: str, asked: GateOptions, allowed: float
) -> Gate | None:
    """Measure until the gate is settled, or its repeats are spent; None where a person stopped it."""
    study, source = read_study(path, where)
    same = asked.against.startswith("@")
    if not same:  # found before anything is measured
        Sides(where, lambda: store).side(asked.against)
    most = asked.most or TIMES_PLANNED * study.repeats.most
    planned = planned_looks(study.repeats.most, most)
    question = asked.question(levels, planned)
    look = _unfinished(store, study, question)
    while look <= len(planned):
        reporter = Reporter(study, store, as_json=False)
        work = experiment(study, where, store, _asking(store, reporter, question), source=source, fresh=look == FIRST)
        try:
            if not run_until_stopped(work) or not reporter.run_id:
                return None
        except EngineChangedError as error:
            if look == FIRST:
                raise
            output.note(f"{error} A new run is begun.")
            look = FIRST
            continue
        look = max(look, 1)
        finder = Sides(where, lambda: store)
        place = f"{study.name}:{reporter.results.run.number}"
        new = finder.side(f"{place}@{levels}" if levels else place)
        old = finder.side(f"{place}{asked.against}" if same else asked.against)
        found = _gate(old, new, asked, allowed, look, planned)
        if found.verdict != "open" or look == len(planned):
            return found
        further = planned[look] - planned[look - 1]
        output.note(f"{gate_sentence(found)}: {further} more repeats of each")
        store.decide(reporter.run_id, More(time.time(), by="tool", count=further))
        look += 1
    raise AssertionError("there is always a last look")


def _asking(store: KettleStore, reporter: Reporter, question: str) -> Callable[[Event], None]:
    """Enters what is asked into the log of the run as it begins, so that a gate that is killed can go on."""

    def take(event: Event) -> None:
        reporter(event)
        if isinstance(event, Began) and not any(isinstance(d, GateAsked) for d in store.decisions(event.run_id)):
            store.decide(event.run_id, GateAsked(time.time(), by="tool", question=question))

    return take


def _unfinished(store: KettleStore, study: Study, question: str) -> int:
    """The look that a gate which was killed would have taken next; FIRST where there is none that asked the same."""
    key = plan_key(study)
    newest = next((row.runs[0] for row in shelf(store) if row.plan_key == key and row.runs), None)
    if newest is None or newest.state != "stopped":
        return FIRST
    log = store.decisions(newest.run_id)
    if not any(isinstance(d, GateAsked) and d.question == question for d in log):
        return FIRST
    output.note(f"run {newest.number} of a gate that was interrupted is taken up again")
    return 1 + sum(isinstance(d, More) for d in log)


def _gate(old: Side, new: Side, asked: GateOptions, allowed: float, look: int, planned: Sequence[int]) -> Gate:
    names = tuple(dict.fromkeys(asked.measures)) or (main_measure(new.results.study),)
    more = _share(asked.more_failures, "--more-failures", least=0.0)
    found = gate(old, new, names, worse_than=allowed, look=look, planned=planned, more_failures=more)
    if not found.duel.alignment.pairs and not found.failed:
        reasons = sorted({u.reason for u in found.duel.alignment.without})
        raise UsageError(
            f"{side_title(new)} cannot be held against {side_title(old)}",
            why="; ".join(reasons),
            remedy="measure the same study on both sides",
        )
    return found


def _tell(found: Gate, asked: GateOptions, *, took_s: float, as_json: bool) -> None:
    if asked.junit is not None:
        write_junit(found, asked.junit, took_s=took_s, open_passes=asked.open_passes)
    if asked.markdown is not None:
        try:
            with atomic_file(asked.markdown) as part:
                part.write_text(gate_markdown(found) + "\n", encoding="utf-8")
        except OSError as error:
            raise UsageError(f"{asked.markdown.name} cannot be written", why=str(error.strerror)) from error
    if as_json:
        output.json_line(gate_json(found))
        return
    said = gate_sentence(found)
    output.line(f"{capitalised(said)}.")
    output.line(f"A {side_title(found.duel.a)}")
    output.line(f"B {side_title(found.duel.b)}")
    output.line()
    output.table(("measure", "A", "B", "B over A", "verdict"), gate_rows(found))
    output.line()
    for line in gate_lines(found):
        output.line(line)
    output.note(f"took {duration(took_s)}")


EXAMPLES = (
    "zinc-kettle gate nightly.study.toml --against baseline.kettle::nightly --junit speed.xml",
    "zinc-kettle gate builds@engine=new --against @engine=old --worse-than 2% --measure decode",
)


def command(
    study: Annotated[str, typer.Argument(help="A study file, to be measured, or STUDY[:RUN][@levels] that is kept.")],
    against: Annotated[
        str, typer.Option("--against", help="STUDY[:RUN][@levels], NAME::STUDY, FILE.kettle::STUDY, or @levels.")
    ],
    worse_than: Annotated[str, typer.Option("--worse-than", help="Largest acceptable loss per measure.")] = "3%",
    measures: Annotated[
        Optional[list[str]],  # noqa: UP045
        typer.Option("--measure", help="What is guarded; may be given several times. The study's own without it."),
    ] = None,
    more_failures: Annotated[
        str, typer.Option("--more-failures", help="How much the share of failed requests may grow.")
    ] = "1%",
    most: Annotated[
        int,
        typer.Option("--most", min=0, max=10_000, help="The most repeats of each cell; 4 times the plan's without."),
    ] = 0,
    unsettled: Annotated[
        str, typer.Option("--unsettled", help="fail (3) or pass (0, with a warning): where it is not settled.")
    ] = "fail",
    junit: Annotated[Optional[Path], typer.Option("--junit", help="Write JUnit XML into this file.")] = None,  # noqa: UP045
    markdown: Annotated[Optional[Path], typer.Option("--markdown", help="Write a summary into it.")] = None,  # noqa: UP045
    store: StoreOption = None,
    as_json: JsonOption = False,
) -> None:
    """Pass or fail a new build: 0 not worse, 1 worse, 3 not settled; measures until the answer is known."""
    if unsettled not in {"fail", "pass"}:
        raise UsageError(
            f"--unsettled {unsettled}: it either fails or passes", remedy=nearest(unsettled, ("fail", "pass"))
        )
    asked = GateOptions(against, worse_than, measures or (), most, unsettled == "pass", junit, markdown, more_failures)
    raise typer.Exit(run_gate(study, asked, store, as_json=as_json))
