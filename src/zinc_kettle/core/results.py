"""What came out of a study: each cell with its state, its figures and its cautions, read from summaries.

Opening a study needs no timelines; those of a cell are asked for when its sheet is opened.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any, Literal, TypeVar

from zinc_kettle.core.cautions import Caution, Setting, timeline_cautions
from zinc_kettle.core.cautions.machine import SPILLED
from zinc_kettle.core.facts import EngineFacts, RunFacts, machine_of
from zinc_kettle.core.fingerprint import DEFINITIONS_VERSION
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.measures.kinds import OfFacts
from zinc_kettle.core.origin import ELSEWHERE
from zinc_kettle.core.plan.study import Cell, Study, shape_of
from zinc_kettle.core.record.repeat import Missing, Repeat
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.core.record.value import CellFigure, Value
from zinc_kettle.core.run.decisions import Acknowledge, Decision, Skip
from zinc_kettle.core.run.precision import look_level
from zinc_kettle.core.run.schedule import Schedule, Tally
from zinc_kettle.core.stats import Interval, median
from zinc_kettle.core.stats.interval import median_interval
from zinc_kettle.core.stats.waves import SEEN_BLOCKS, Memory, Waves, memory_of, pooled, steady
from zinc_kettle.core.summary import EMPTY, CellSummary, summarise

T = TypeVar("T")
RepeatState = Literal["open", "measured", "failed", "broken-off"]
"""`open` while it runs; `broken-off` was interrupted: kept and shown, not counted, measured again on resume."""
RunState = Literal["planned", "running", "stopped", "measured"]
FailureKind = Literal["launch", "driver", "requests", "measure"]
"""The engine did not start, the driver was lost, no request could be counted, or something else went wrong."""
CellState = Literal["planned", "partly", "measured", "failed", "skipped"]


@dataclass(frozen=True, slots=True)
class Failure:
    """Why a repeat failed."""

    kind: FailureKind
    what: str
    last_words: str = ""
    """The engine's, cleaned."""


@dataclass(frozen=True, slots=True)
class KeptRepeat:
    """One repeat whole, and how it ended."""

    state: RepeatState
    repeat: Repeat
    failure: Failure | None = None
    facts: EngineFacts = field(default_factory=EngineFacts)
    """What the engine said of itself at launch, and the launch line."""


@dataclass(frozen=True)
class CellKept:
    """What is kept of a cell for the list of cells: enough for every table and map."""

    summary: Callable[[], CellSummary] | CellSummary = EMPTY
    """Read when it is first asked for: a study of ten thousand cells opens without reading them all."""
    done: int = 0
    failed: int = 0
    failure: Failure | None = None
    """Of the last repeat that failed."""
    engine: EngineFacts = field(default_factory=EngineFacts)
    """What the engine of its last repeat said of itself."""


NO_REPEATS: tuple[KeptRepeat, ...] = ()
Loader = Callable[[str], Sequence[KeptRepeat]]
"""All repeats of a cell, by its key, in the order they ran."""
Bounded = Callable[[str, Value, tuple[float, ...]], Value]
"""A value of a measure's name with other bounds, given that measure of each repeat."""


class CellResults:
    """One cell.

    Args:
        cell: The cell.
        kept: What is kept of it.
        wanted: Repeats it is to have.
        setting: What its cautions need to know.
        load: Reads its repeats.
        skipped: A person left it out.
        bounded: Gives a value of this cell the bounds it has among the cells of its run.
        decisions: The log of its run.
        by_launch: The launches of its run were measured one after the other.
        waves: How a measure wanders over its run.
    """

    def __init__(
        self,
        cell: Cell,
        kept: CellKept,
        wanted: int,
        setting: Setting,
        load: Loader,
        *,
        skipped: bool,
        bounded: Bounded | None = None,
        decisions: Callable[[], Sequence[Decision]] = tuple,
        by_launch: bool = False,
        waves: Callable[[str], Waves] = lambda _name: Waves(),
    ) -> None:
        self.cell = cell
        self.by_launch = by_launch
        self.waves = waves
        self.kept = kept
        self.wanted = wanted
        self.skipped = skipped
        self._setting = setting
        self._load = load
        self._bounded = bounded
        self._decisions = decisions
        self._memories: dict[str, Memory] = {}
        self._reaches: dict[str, float] = {}
        self.ratios: dict[tuple[str, str], tuple[CellResults, Interval | None]] = {}
        """Ratios to other cells by their key and the measure, with the other cell as it was; kept by core.compare."""

    @cached_property
    def summary(self) -> CellSummary:
        """Its figures."""
        kept = self.kept.summary
        return kept if isinstance(kept, CellSummary) else kept()

    def memory(self, name: str) -> Memory:
        """What its repeats tell of how a measure wanders, kept: all cells of a run are asked after each repeat."""
        if name not in self._memories:
            self._memories[name] = memory_of(self.series(name))
        return self._memories[name]

    def reach(self, name: str) -> float:
        """How far a repeat lies from the median at most, as a share, kept for the same reason."""
        if name not in self._reaches:
            values = self.series(name)
            middle = median(values) if values else 0.0
            self._reaches[name] = max(abs(v / middle - 1) for v in values) if middle > 0 else 0.0
        return self._reaches[name]

    @property
    def done(self) -> int:
        """How many repeats are measured."""
        return self.kept.done

    @cached_property
    def not_needed(self) -> bool:
        """True where a search for the limit left it out: another combination asked for its load."""
        return self.skipped and any(
            isinstance(d, Skip) and d.by == "search" and d.means(self.cell.levels) for d in self.decisions
        )

    @property
    def decisions(self) -> Sequence[Decision]:
        """What was decided in its run; marks of its answers are among it."""
        return self._decisions()

    @property
    def state(self) -> CellState:
        """How the cell stands."""
        if self.skipped:
            return "skipped"
        if self.done and self.done >= self.wanted:
            return "measured"
        if self.done:
            return "partly"
        return "failed" if self.kept.failed else "planned"

    def value(self, name: str) -> CellFigure:
        """One measure, with its bounds or the reason it is missing."""
        source = MEASURES[name].source
        if isinstance(source, OfFacts):
            found, unit = source.figure(self.kept.engine, self.cell), MEASURES[name].unit
            return found if isinstance(found, Missing) else Value(found, found, found, "range", 1, unit, "files")
        figure = self.summary.value(name)
        if self._bounded is None or not isinstance(figure, Value) or figure.of != "repeats":
            return figure
        return self._bounded(name, figure, self.series(name))

    def series(self, name: str) -> tuple[float, ...]:
        """One measure of each repeat (of each launch for the load time), in order."""
        return self.summary.series.get(name, ())

    @property
    def cautions(self) -> tuple[Caution, ...]:
        """Cautions about this cell."""
        return self.summary.cautions

    @property
    def spilled(self) -> bool:
        """True where its model lies in slower memory than it should: the mistake that misleads most."""
        return any(caution.code == SPILLED.code for caution in self.cautions)

    @cached_property
    def kept_repeats(self) -> tuple[KeptRepeat, ...]:
        """All its repeats with their requests; read from the store when they are first asked for."""
        return tuple(self._load(self.cell.key))

    def read_repeats(self) -> Sequence[KeptRepeat]:
        """All its repeats with their requests, read once more and not kept: for who walks through a whole run."""
        return self._load(self.cell.key)

    @property
    def repeats(self) -> tuple[Repeat, ...]:
        """Repeats that count, with their requests."""
        return tuple(r.repeat for r in self.kept_repeats if r.state == "measured")

    def request_cautions(self, timeline: Timeline) -> list[Caution]:
        """Cautions about one of its requests."""
        templates = (r.repeat.extras.get("template_tokens") for r in self.kept_repeats)
        found = next((tokens for tokens in templates if tokens is not None), None)
        setting = self._setting if found is None else replace(self._setting, template_tokens=int(found))
        return timeline_cautions(timeline, setting)

    @property
    def simulated(self) -> bool:
        """True where what it holds was simulated and not measured."""
        return bool(self.kept.engine.get("simulated"))

    @property
    def title(self) -> str:
        """Its levels, as people say them."""
        return self.cell.title


@dataclass(frozen=True)
class RunInfo:
    """One run of a study: when, where, and how it stands."""

    run_id: str = ""
    """Empty for a study that is only planned; `NAME::ID` for somebody else's."""
    study_id: str = ""
    number: int = 0
    """Counted from 1 within its study."""
    state: RunState = "planned"
    created_s: float = 0.0
    """Seconds since 1970; 0 for a study that is only planned."""
    facts: RunFacts = field(default_factory=RunFacts)
    """Kind of machine; those of other rigs under `rigs`."""
    simulated: bool = False
    source: str = ""
    """The study file as it was."""
    decisions: tuple[Decision, ...] = ()
    notes: tuple[tuple[str | None, str], ...] = ()
    """Notes of the person: key of a cell, or None for the run, and the text."""

    @property
    def origin(self) -> str:
        """Name of the bundle or the file it came in, where it is somebody else's; empty for the person's own."""
        return self.run_id.rpartition(ELSEWHERE)[0]

    @property
    def place(self) -> str:
        """How it is named behind the name of its study's shelf: `NAME::` for somebody else's."""
        return f"{self.origin}{ELSEWHERE}" if self.origin else ""


class StudyResults:
    """A run of a study and its cells; changes only by `take`, `add_note` and `add_decision`.

    Args:
        study: As it was begun.
        run: Its run.
        kept: What is kept of each cell, by key; cells without an entry have nothing yet.
        load: Reads all repeats of a cell.
    """

    def __init__(
        self,
        study: Study,
        run: RunInfo | None = None,
        kept: Mapping[str, CellKept] | None = None,
        load: Loader = lambda _key: NO_REPEATS,
    ) -> None:
        self.run = run or RunInfo()
        self._load = load
        self.schedule = Schedule(study, self.run.decisions, self.run.run_id)
        self.study = self.schedule.whole
        """With the levels that were added while it ran."""
        self.cells = [self._cell(cell, (kept or {}).get(cell.key, CellKept())) for cell in self.study.cells]
        self._memo: dict[object, Any] = {}
        """What was computed of several cells; forgotten when a cell changes."""
        self._count()

    @classmethod
    def of_repeats(
        cls, study: Study, repeats: Mapping[str, Sequence[KeptRepeat]], run: RunInfo | None = None
    ) -> StudyResults:
        """From whole repeats by cell key, where they are all at hand."""
        info = run or RunInfo()
        kept = {key: cell_kept(study, study.by_key[key], info.facts, mine) for key, mine in repeats.items() if mine}
        return cls(study, info, kept, lambda key: repeats.get(key, NO_REPEATS))

    def _cell(self, cell: Cell, kept: CellKept) -> CellResults:
        setting = setting_of(self.study, cell, self.run.facts)
        until = self.study.repeats.adaptive
        values: tuple[float, ...] = ()
        if until and kept.done:
            summary = kept.summary if isinstance(kept.summary, CellSummary) else kept.summary()
            values = summary.series.get(self.study.repeats.until_measure, ())
        wanted = self.schedule.wanted(cell.key, Tally(values=values))
        if until and kept.done > len(values) and cell.key not in self.schedule.skipped:
            # Repeats without the figure that decides are made up for, as far as the plan goes.
            wanted = max(kept.done, min(wanted + kept.done - len(values), self.study.repeats.most))
        skipped = cell.key in self.schedule.skipped
        return CellResults(
            cell,
            kept,
            wanted,
            setting,
            self._load,
            skipped=skipped,
            bounded=self._bounds,
            decisions=lambda: self.run.decisions,
            by_launch=self.study.repeats.order == "by-launch",
            waves=self.waves,
        )

    def waves(self, name: str) -> Waves:
        """How a measure wanders over this run, from all its cells."""
        return self.once(("waves", name), lambda: pooled(c.memory(name) for c in self.cells if c.done))

    def _bounds(self, name: str, value: Value, series: tuple[float, ...]) -> Value:
        """A cell's value with bounds that carry the blocks' wandering, and that hold after looking again and again."""
        repeats = self.study.repeats
        if repeats.until_percent is not None and name == repeats.until_measure and len(series) == value.n:
            value = Value.of_interval(median_interval(series, level=look_level(repeats)), value.unit)
        if value.bound != "interval95":
            return value
        known = value.n >= SEEN_BLOCKS and self.once(("steady", name), lambda: steady(self._by_block(name)))
        return replace(_widened(value, self.waves(name).widening(value.n)), this_run=not known)

    def _by_block(self, name: str) -> list[dict[int, float]]:
        """A measure of each measured cell by block, where all of it is positive."""
        rows = ((c.summary.blocks, c.series(name)) for c in self.cells if c.done)
        return [
            dict(zip(blocks, values, strict=True))
            for blocks, values in rows
            if len(blocks) == len(values) and values and min(values) > 0
        ]

    def _count(self) -> None:
        self.done_repeats = sum(min(c.done, c.wanted) for c in self.cells)
        """Measured repeats of all cells."""
        self.wanted_repeats = sum(c.wanted for c in self.cells)
        """Repeats of the whole plan."""
        self.failed_cells = sum(1 for c in self.cells if c.state == "failed")
        """Cells in which nothing could be measured."""

    def cell(self, key: str) -> CellResults:
        """A cell by its key.

        Raises:
            KeyError: There is none.
        """
        return self.cells[self.study.by_key[key].index]

    def take(self, key: str, kept: CellKept) -> None:
        """Take what a cell has become; nothing else is computed again."""
        old = self.cell(key)
        new = self._cell(old.cell, kept)
        self.cells[old.cell.index] = new
        self.done_repeats += min(new.done, new.wanted) - min(old.done, old.wanted)
        self.wanted_repeats += new.wanted - old.wanted
        self.failed_cells += (new.state == "failed") - (old.state == "failed")
        # A new one, not a cleared one: a thread that is computing from the old cells keeps its result in the old one.
        self._memo = {}

    def once(self, key: object, make: Callable[[], T]) -> T:
        """What is computed of several cells, kept until one of them changes; also from a thread while they do."""
        memo = self._memo
        if key not in memo:
            memo[key] = make()
        found: T = memo[key]
        return found

    def acknowledged(self, cell: CellResults) -> dict[str, str]:
        """Cautions that a person has answered for a cell: the reason, the last one where there are several, by code."""
        mine = cell.cell.levels
        return {d.caution: d.reason for d in self.run.decisions if isinstance(d, Acknowledge) and d.means(mine)}

    def add_decision(self, decision: Decision) -> None:
        """Take a decision that has just been kept and that changes nothing of the plan."""
        self.run = replace(self.run, decisions=(*self.run.decisions, decision))
        self._memo = {}

    def add_note(self, key: str | None, text: str) -> None:
        """Take a note that has just been kept."""
        self.run = replace(self.run, notes=(*self.run.notes, (key, text)))

    def simulated(self, cell: CellResults) -> bool:
        """True where a cell's figures were simulated and not measured."""
        rigs = self.run.facts.get("rigs")
        if not rigs:
            return self.run.simulated
        return cell.simulated or bool(rigs.get(str(cell.cell.settings["rig"]), {}).get("simulated"))

    @property
    def definitions(self) -> int:
        """Version of the definitions its figures follow."""
        return DEFINITIONS_VERSION


def _widened(value: Value, times: float) -> Value:
    """Bounds so many times as far from the value: on a scale of ratios where all are positive."""
    if times == 1.0:
        return value
    middle, low, high = value.value, value.low, value.high
    if low > 0:
        return replace(value, low=middle * (low / middle) ** times, high=middle * (high / middle) ** times)
    return replace(value, low=middle - (middle - low) * times, high=middle + (high - middle) * times)


def setting_of(study: Study, cell: Cell, facts: RunFacts, template_tokens: float | None = None) -> Setting:
    """What cautions need to know of a cell.

    Args:
        study: The study.
        cell: One of its cells.
        facts: Those of the run.
        template_tokens: Tokens of the chat template, where they were counted.
    """
    threads, rig = cell.level("threads"), cell.settings["rig"]
    others, own = facts.get("rigs"), machine_of(facts, None if rig is None else str(rig))
    return Setting(
        threads=None if threads is None else int(threads),
        physical_cores=own.get("physical_cores"),
        here=rig is None or not others,
        natural=study.prompts.answers == "natural",
        reuse_meant=(bool(cell.level("prompt-cache")) and shape_of(study, cell) == "conversation")
        or cell.settings["depth"] is not None,
        template_tokens=None if template_tokens is None else int(template_tokens),
    )


def cell_kept(study: Study, cell: Cell, facts: RunFacts, repeats: Iterable[KeptRepeat]) -> CellKept:
    """What is kept of a cell, from its whole repeats in the order they ran.

    Args:
        study: The study.
        cell: One of its cells.
        facts: Those of the run.
        repeats: All of the cell, in the order they ran.
    """
    records = list(repeats)
    measured = [r.repeat for r in records if r.state == "measured"]
    failed = [r for r in records if r.state == "failed"]
    templates = [r.repeat.extras["template_tokens"] for r in records if "template_tokens" in r.repeat.extras]
    setting = setting_of(study, cell, facts, templates[0] if templates else None)
    summary = summarise(measured, [r.repeat for r in failed], setting)
    engine = next((r.facts for r in reversed(records) if r.facts), EngineFacts())
    return CellKept(summary, len(measured), len(failed), failed[-1].failure if failed else None, engine)
