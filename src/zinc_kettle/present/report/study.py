"""The sections of a study: what was asked, what came out and how sure that is, how it was measured and with what."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace

from zinc_kettle.core.cautions import KINDS
from zinc_kettle.core.facts import EngineFacts, MachineFacts
from zinc_kettle.core.plan.factors import HERE, label
from zinc_kettle.core.plan.study import shape_of
from zinc_kettle.core.plan.traffic import SHAPES
from zinc_kettle.core.record.value import Value
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.core.rig import FACT_KINDS
from zinc_kettle.core.stats.interval import MIN_FOR_INTERVAL
from zinc_kettle.core.units import byte_size, plural
from zinc_kettle.present.answer import answer
from zinc_kettle.present.charts import offered
from zinc_kettle.present.charts.kinds import Subject
from zinc_kettle.present.dates import day
from zinc_kettle.present.decided import effort_text
from zinc_kettle.present.findings import findings
from zinc_kettle.present.report.document import (
    Block,
    Grid,
    Listing,
    Paragraph,
    Picture,
    Span,
    bullets,
    lead_paragraph,
    paragraph,
    sentence,
)
from zinc_kettle.present.table import question_text, result_rows

MOST_CURVES = 3
NOT_CURVES = frozenset({"map", "lines", "predicted"})
MOST_ROWS = 60
"""Cells a table shows; a study of thousands has its tables in files."""


@dataclass(frozen=True, slots=True)
class SectionKind:
    """A section a part may have."""

    name: str
    title: str
    help: str
    make: Callable[[Subject], list[Block]]


def _answer(s: Subject) -> list[Block]:
    out: list[Block] = [lead_paragraph(sentence(answer(s.results, s.measure, brief=True)))]
    more = effort_text(s.results, s.measure)
    return [*out, *([paragraph(sentence(more))] if more else []), paragraph(certainty(s.results, s.measure))]


def certainty(results: StudyResults, measure: str) -> str:
    """What the bounds of a study's figures are, and how often its claims may be wrong."""
    kinds = {v.bound for c in results.cells if c.done and isinstance(v := c.value(measure), Value)}
    said = []
    if "interval95" in kinds:
        said.append(
            "Bounds are 95% intervals of the median over repeats, by order statistics, widened by how the "
            "machine wandered during the run."
        )
    if "range" in kinds:
        said.append(
            f"With fewer than {MIN_FOR_INTERVAL} repeats of a cell the range that was seen is shown; it claims nothing."
        )
    said.append(
        "What is called best was held against all other cells at once: of twenty studies of equal cells, "
        "at most one would call any of them better."
    )
    return " ".join(said)


def _map(s: Subject) -> list[Block]:
    kinds = {kind.name: kind for kind in offered(s)}
    charts: list[Block] = [Picture(kinds[n].build(s), n) for n in ("map",) if n in kinds]
    heads, rows = result_rows(s.results, brief=True)
    shown = tuple(tuple(row) for row in rows[:MOST_ROWS])
    more = f"The first {MOST_ROWS} of {len(rows):,} cells." if len(rows) > MOST_ROWS else ""
    return [*charts, Grid(tuple(heads), shown, more)]


def _curves(s: Subject) -> list[Block]:
    kinds = [kind for kind in offered(s) if kind.of == "study" and kind.name not in NOT_CURVES][:MOST_CURVES]
    kinds = kinds or [kind for kind in offered(s) if kind.name == "lines"]
    return [Picture(kind.build(s), kind.name) for kind in kinds]


def _findings(s: Subject) -> list[Block]:
    said = [finding.text for finding in findings(s.results, s.measure) if finding.tone != "caution"]
    return [bullets(said)] if said else []


def _method(s: Subject) -> list[Block]:
    return [paragraph(method(s.results))]


def method(results: StudyResults) -> str:
    """How a study was measured, in a paragraph."""
    study, repeats, cells = results.study, results.study.repeats, results.cells
    shapes = {shape_of(study, c.cell) for c in cells}
    asked = sorted({c.cell.requests(study) for c in cells})
    often = plural(repeats.count, "repeat")
    if repeats.until_answered:
        often = f"{repeats.count} to {repeats.most} repeats, until {question_text(study)}"
    elif repeats.until_percent:
        often = f"{repeats.count} to {repeats.most} repeats, until the interval is within {repeats.until_percent:g}%"
    if repeats.order == "interleaved":
        order = "blocks of all cells, shuffled and mirrored, so that what the machine does meanwhile hits all alike"
    else:
        order = "launch by launch"
    requests = plural(asked[0], "request") if len(asked) == 1 else f"{asked[0]} to {asked[-1]} requests"
    loads = " or ".join(sorted(f"{shape} ({SHAPES[shape]})" for shape in shapes))
    prompts = _prompts(results)
    stamps = sorted({stamp for c in cells for stamp in c.summary.stamps})
    by = " and ".join({"kernel": "the kernel", "user": "the driver"}[stamp] for stamp in stamps) or "nothing yet"
    return (
        f"{plural(len(cells), 'cell')}, each measured with {often}, in {order}. A repeat is {requests} after "
        f"{plural(repeats.warm_up, 'warm-up request')}; load: {loads}. {prompts} "
        f"Arrival of each piece of output was stamped by {by}. Figures follow version {results.definitions} of the "
        "definitions and were computed from the stamps."
    )


def _prompts(results: StudyResults) -> str:
    prompts = results.study.prompts
    if prompts.texts or "texts" in prompts.withheld:
        said = f"Prompts are made from {plural(max(1, len(prompts.texts)), 'text')} of the study"
    elif prompts.recorded:
        said = f"Prompts are {plural(len(prompts.recorded), 'recorded conversation')}"
    elif prompts.tasks:
        said = f"Prompts are those of the tasks {', '.join(prompts.tasks)}"
    else:
        said = "Prompts are made-up words of an exact length"
    salted = {bool(c.cell.settings["salt"]) for c in results.cells}
    said += ", each begun with a salt of its own, so that no cache can answer." if salted == {True} else "."
    if prompts.answers == "natural":
        said += " Answers end where the model ends them, at the length asked for at the latest."
    return said


RIG_FACTS = {kind.name: kind.title for kind in FACT_KINDS.values() if kind.reported}


def _rigs(s: Subject) -> list[Block]:
    facts = s.results.run.facts
    named: dict[str, MachineFacts] = {**facts.get("rigs", {})}
    if not named or any(c.cell.settings["rig"] in {None, HERE} for c in s.results.cells):
        named = {"this machine": facts, **named}
    rows = [
        (name, *(_fact(key, known.get(key)) for key in RIG_FACTS), _devices(known)) for name, known in named.items()
    ]
    return [Grid(("rig", *RIG_FACTS.values(), "devices"), tuple(rows))]


def _fact(key: str, value: object) -> str:
    if value is None:
        return "–"
    if isinstance(value, bool):
        return "yes" if value else "no"
    return byte_size(float(str(value))) if key.endswith("_bytes") else str(value)


def _devices(known: MachineFacts) -> str:
    said = [
        f"{d.get('name', 'device')}" + (f", {byte_size(size)}" if (size := d.get("memory_bytes")) else "")
        for d in known.get("graphics", ())
    ]
    return "; ".join(said) or ("simulated" if known.get("simulated") else "none")


def _engine(s: Subject) -> list[Block]:
    rows: dict[tuple[str, ...], None] = {}
    for cell in s.results.cells:
        if cell.kept.engine:
            rows[_engine_row(cell.kept.engine)] = None
    heads = ("engine", "version", "recipe", "model file", "size", "sha256")
    return [Grid(heads, tuple(rows))] if rows else [paragraph("No engine was started yet.")]


def _engine_row(facts: EngineFacts) -> tuple[str, ...]:
    file = facts.get("file", {})
    size = file.get("size_bytes")
    return (
        facts.get("engine", "–"),
        facts.get("version", "–"),
        facts.get("recipe", "–"),
        file.get("name", "–"),
        byte_size(size) if size else "–",
        file.get("sha256", "–"),
    )


def _settings(s: Subject) -> list[Block]:
    study = s.results.study
    factors = study.factors
    rows = [
        (name.replace("_", " "), ", ".join(label(v) for v in levels), "varied", _meaning(factors, name))
        for name, levels in study.vary.items()
    ]
    rows += [(name.replace("_", " "), label(v), "held", _meaning(factors, name)) for name, v in study.hold.items()]
    rows.append(("seed", str(study.seed), "held", "of prompts, orders and arrivals"))
    rows.append(("temperature", f"{study.temperature:g}", "held", "of sampling"))
    return [Grid(("setting", "level", "", "meaning"), tuple(rows))]


def _meaning(factors: Mapping[str, object], name: str) -> str:
    return str(getattr(factors.get(name), "meaning", "")).replace("`", "")


def _cautions(s: Subject) -> list[Block]:
    seen: dict[str, list[CellResults]] = {}
    for cell in s.results.cells:
        for caution in cell.cautions if cell.done or cell.kept.failed else ():
            seen.setdefault(caution.code, []).append(cell)
    rows = []
    for code, cells in sorted(seen.items(), key=lambda item: -len(item[1])):
        first = next(c for c in cells[0].cautions if c.code == code)
        reasons = dict.fromkeys(r for c in cells if (r := s.results.acknowledged(c).get(code)))
        where = plural(len(cells), "cell") if len(cells) > 1 else cells[0].title
        rows.append((f"▲ {code}", where, KINDS[code].sentence, first.evidence, "; ".join(reasons) or "–"))
    if not rows:
        return [paragraph("None was raised.")]
    return [Grid(("caution", "where", "what it means", "seen", "what was said of it"), tuple(rows))]


def _left_out(s: Subject) -> list[Block]:
    results, counts = s.results, dict.fromkeys(("warm-up", "cold", "failed", "failed repeat", "broken-off"), 0)
    for cell in results.cells:
        for kept in cell.read_repeats():
            counts["failed repeat"] += kept.state == "failed"
            counts["broken-off"] += kept.state == "broken-off"
            for t in kept.repeat.timelines:
                counts["warm-up"] += t.role == "warmup"
                counts["cold"] += t.role == "measured" and t.cold
                counts["failed"] += t.role == "measured" and not t.usable
    skipped = [c.title for c in results.cells if c.skipped and not c.not_needed]
    said = [
        f"{plural(counts['warm-up'], 'warm-up request')}, which never count.",
        *([f"{plural(counts['cold'], 'first request')} after a load."] if counts["cold"] else []),
        *([f"{plural(counts['failed'], 'request')} that failed."] if counts["failed"] else []),
        *([f"{plural(counts['failed repeat'], 'repeat')} that failed."] if counts["failed repeat"] else []),
        *([f"{plural(counts['broken-off'], 'repeat')} that was interrupted."] if counts["broken-off"] else []),
        *([f"Cells a person left out: {', '.join(skipped)}."] if skipped else []),
    ]
    flukes = sum(any(c.code == "fluke" for c in cell.cautions) for cell in results.cells)
    kept_in = f" Flukes were kept in, and are marked in {plural(flukes, 'cell')}." if flukes else ""
    return [bullets(said), paragraph(f"Nothing else was left out.{kept_in}")]


def _notes(s: Subject) -> list[Block]:
    by_key = {c.cell.key: c.title for c in s.results.cells}
    said = [text if cell is None else f"{by_key.get(cell, 'a cell')}: {text}" for cell, text in s.results.run.notes]
    return [bullets(said)] if said else []


def _repeat(s: Subject) -> list[Block]:
    name = s.results.study.name
    say = (
        Span("Keep the file below as "),
        Span(f"{name}.study.toml", "code"),
        Span(" and measure it with "),
        Span(f"zinc-kettle run {name}.study.toml", "code"),
        Span("."),
    )
    return [Paragraph(say), Listing(s.study_text.strip(), "toml")]


SECTIONS: tuple[SectionKind, ...] = (
    SectionKind("answer", "Answer", "what came out, and how sure that is", _answer),
    SectionKind("map", "Map", "every cell, as a map and as a table", _map),
    SectionKind("curves", "Curves", "the charts that support it", _curves),
    SectionKind("findings", "Findings", "what else was seen", _findings),
    SectionKind("method", "Method", "how it was measured, in a paragraph", _method),
    SectionKind("rigs", "Rigs", "the machines", _rigs),
    SectionKind("engine", "Engine and model files", "which engine, and which files by their hashes", _engine),
    SectionKind("settings", "Settings", "what varied, and what was held", _settings),
    SectionKind("cautions", "Cautions", "what may be wrong, and what was said of it", _cautions),
    SectionKind("left-out", "Left out", "what does not count", _left_out),
    SectionKind("notes", "Notes", "what was noted while it ran", _notes),
    SectionKind("repeat", "How to repeat it", "the study file", _repeat),
)
"""In the order of the report."""


def study_sections(subject: Subject) -> list[tuple[SectionKind, list[Block]]]:
    """The sections of a study that have something to say."""
    made = [(kind, kind.make(subject)) for kind in SECTIONS]
    return [(kind, blocks) for kind, blocks in made if blocks]


def when(results: StudyResults) -> str:
    """`which-rig, run 1, 2026-11-27, measured`."""
    run = results.run
    return f"{run.place}{results.study.name}, run {run.number}, {day(run.created_s)}, {run.state}" + (
        ", SIMULATED" if run.simulated else ""
    )


def renamed(blocks: list[Block], prefix: str) -> list[Block]:
    """Blocks whose charts have names of their own in a document of several parts."""
    return [replace(b, name=f"{prefix}-{b.name}") if isinstance(b, Picture) else b for b in blocks]
