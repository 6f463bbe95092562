"""A study as a table of text, for the command line and for reports."""

from __future__ import annotations

from collections.abc import Mapping
from itertools import islice

from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.plan.factors import label
from zinc_kettle.core.plan.study import BEST, Study
from zinc_kettle.core.results import StudyResults
from zinc_kettle.core.text import capitalised
from zinc_kettle.core.units import byte_size, duration, plural
from zinc_kettle.present.answer import answer
from zinc_kettle.present.findings import findings
from zinc_kettle.present.fit_rows import FitRow, short_verdict, speed_text
from zinc_kettle.present.planned import NOTHING_KNOWN, Planned
from zinc_kettle.present.remarks import PEN, remarks
from zinc_kettle.present.values import CAUTION_MARK, STATE_MARKS, whole_text

ONCE_COLUMNS = ("overall_output", "overall_requests", "ttft", "ttft_p95", "latency_p95", "batch_wall")
LOAD_COLUMNS = ("decode", "throughput", "ttft", "ttft_p95", "latency_p95", "batch_wall")
COLUMNS = ("decode", "prefill_client", "ttft", "load_time", "memory")
COLUMN_SETS: Mapping[str, tuple[str, ...]] = {
    "usual": (),
    "durations": ("load_time", "ttft", "prefill_client", "latency", "decode", "throughput"),
    "machine": ("memory", "memory_peak", "memory_device", "cpu", "device_load", "power", "hottest", "energy_token"),
}
"""Measures that are looked at together, by a name; the usual ones are those of the study's kind."""


def columns_of_study(results: StudyResults) -> tuple[str, ...]:
    """The measures a study's table shows: waits and rates where many ask at once."""
    study = results.study
    if study.load.shape in {"burst", "batch"}:
        return ONCE_COLUMNS
    many = study.load.shape != "closed" or any(int(c.settings["concurrency"] or 1) > 1 for c in study.cells)
    return LOAD_COLUMNS if many else COLUMNS


def result_rows(
    results: StudyResults, names: tuple[str, ...] | None = None, *, brief: bool = False, most: int | None = None
) -> tuple[list[str], list[list[str]]]:
    """Headings and one row per cell: levels, state, then each measure with its bounds and unit.

    Args:
        results: The run.
        names: Of the measures; those a study of its kind shows where none are given.
        brief: States as marks, for where it is said elsewhere whether figures are simulated.
        most: So many rows at most; all where nothing is said.
    """
    names, said = names or columns_of_study(results), remarks(results)
    heads = [name.replace("_", " ") for name in results.study.vary]
    heads += ["state", *(MEASURES[name].title for name in names), "cautions"]
    rows = []
    for cell in islice(results.cells, most):
        row = [label(level) for level in cell.cell.levels.values()]
        made_up = " SIMULATED" if results.simulated(cell) else ""
        state = "" if brief else f"{cell.state} "
        row.append(f"{STATE_MARKS[cell.state]} {state}{cell.done}/{cell.wanted}{'' if brief else made_up}")
        row += [whole_text(cell.value(name)) for name in names]
        answers = results.acknowledged(cell)
        codes = [f"({c.code})" if c.code in answers else c.code for c in cell.cautions]
        words = [f"{CAUTION_MARK} {', '.join(codes)}"] if codes else []
        row.append("  ".join([*words, *([f"{PEN} {said[cell.cell.key]}"] if cell.cell.key in said else [])]))
        rows.append(row)
    return heads, rows


def conclusions(results: StudyResults) -> list[str]:
    """The answer as a sentence, then a line a finding."""
    said = answer(results)
    return [f"{capitalised(said)}.", *(f"- {finding.text}" for finding in findings(results))]


def results_text(results: StudyResults) -> str:
    """Question, one tab-separated line per cell, answer and findings: what a person copies."""
    heads, rows = result_rows(results)
    return "\n".join(
        [
            results.study.question,
            "",
            *("\t".join(row) for row in (heads, *rows)),
            "",
            *conclusions(results),
        ]
    )


def plan_rows(results: StudyResults, planned: Mapping[str, Planned]) -> tuple[list[str], list[list[str]]]:
    """Headings and one row a cell of a plan: levels, state, model file, what Fit says of it, length of a repeat."""
    heads = [name.replace("_", " ") for name in results.study.vary]
    heads += ["state", "model file", "fit", "decode of one stream, predicted", "one repeat, about"]
    # Thousands of cells share a few launches: each is put into words once.
    fits: dict[int, tuple[str, str]] = {}
    rows = []
    for cell in results.cells:
        known = planned.get(cell.cell.key, NOTHING_KNOWN)
        size, seconds = known.size_bytes, known.seconds
        rows.append(
            [
                *(label(level) for level in cell.cell.levels.values()),
                f"{STATE_MARKS[cell.state]} {cell.state}",
                "not known" if size is None else byte_size(size),
                *_fit_words(known.fit, fits),
                "not known" if seconds is None else duration(seconds),
            ]
        )
    return heads, rows


def _fit_words(row: FitRow | None, known: dict[int, tuple[str, str]]) -> tuple[str, str]:
    if row is None:
        return "not known", "–"
    if id(row) not in known:
        known[id(row)] = short_verdict(row), speed_text(row.decode)
    return known[id(row)]


def question_text(study: Study) -> str:
    """What must be known for a study to end that is repeated until its question is answered."""
    asked, measure = study.repeats.until_answered or "", MEASURES[study.repeats.until_measure].title
    what = "which is best" if asked == BEST else f"what each {study.factors[asked].noun or asked} brings"
    return f"it is known {what} in {measure} (differences under {study.repeats.smallest_percent:g}% do not matter)"


def plan_line(results: StudyResults, launches: int, seconds: float | None) -> str:
    """The size of a plan in one line."""
    repeats = results.study.repeats
    often = plural(repeats.count, "repeat")
    if repeats.until_percent is not None:
        often = f"{repeats.count} to {repeats.most} repeats until ±{repeats.until_percent:g}%"
    elif repeats.until_answered is not None:
        often = f"{repeats.count} to {repeats.most} repeats until {question_text(results.study)}"
    takes = "how long is not known before the first repeat"
    if seconds is not None:
        takes = f"about {duration(seconds)} (a rough guess)"
    return (
        f"{plural(len(results.cells), 'cell')}, {often} each, {repeats.order}; "
        f"{launches} {'launch' if launches == 1 else 'launches'}, {takes}"
    )
