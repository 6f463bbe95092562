"""A study as a table of text, for the command line and for reports."""

from __future__ import annotations

from collections.abc import Mapping

from zinc_kettle.core.catalogue import MEASURES
from zinc_kettle.core.factors import label
from zinc_kettle.core.units import byte_size, duration, plural
from zinc_kettle.present.fit_view import FitRow, short_verdict, speed_text
from zinc_kettle.present.view import CAUTION_MARK, STATE_MARKS, StudyView
from zinc_kettle.present.words import bounds_text, value_text

LOAD_COLUMNS = ("decode", "throughput", "ttft", "ttft_p95", "latency_p95", "batch_wall")
COLUMNS = ("decode", "prefill_client", "ttft", "load_time", "memory_peak")


def columns_of_study(view: StudyView) -> tuple[str, ...]:
    """The measures a study's table shows: waits and rates where many ask at once."""
    many = view.study.load.shape != "closed" or any(int(c.cell.settings["concurrency"] or 1) > 1 for c in view.cells)
    return LOAD_COLUMNS if many else COLUMNS


def result_rows(view: StudyView, names: tuple[str, ...] | None = None) -> tuple[list[str], list[list[str]]]:
    """Headings and one row a cell: levels, state, then each measure with its bounds and unit."""
    names = names or columns_of_study(view)
    heads = [name.replace("_", " ") for name in view.study.vary]
    heads += ["state", *(MEASURES[name].title for name in names), "cautions"]
    rows = []
    for cell in view.cells:
        row = [label(level) for level in cell.cell.levels.values()]
        made_up = " SIMULATED" if view.simulated(cell) else ""
        row.append(f"{STATE_MARKS[cell.state]} {cell.state} {cell.done}/{cell.wanted}{made_up}")
        for name in names:
            text, unit = value_text(cell.value(name))
            bounds = bounds_text(cell.value(name))
            row.append("–" if text == "–" else " ".join(part for part in (text, bounds, unit) if part))
        codes = [c.code for c in cell.cautions]
        row.append(f"{CAUTION_MARK} {', '.join(codes)}" if codes else "")
        rows.append(row)
    return heads, rows


def plan_rows(
    view: StudyView, sizes: dict[int, float | None], seconds: dict[int, float], predicted: Mapping[int, FitRow]
) -> tuple[list[str], list[list[str]]]:
    """Headings and one row a cell of a plan: levels, state, model file, what Fit says of it, length of a repeat."""
    heads = [name.replace("_", " ") for name in view.study.vary]
    heads += ["state", "model file", "fit", "decode, predicted", "one repeat, about"]
    # Thousands of cells share a few files and launches: each is put into words once.
    words = {
        key: (short_verdict(row), speed_text(row.decode)) for key, row in {id(r): r for r in predicted.values()}.items()
    }
    files = {size: byte_size(size) for size in set(sizes.values()) if size is not None}
    rows = []
    for cell in view.cells:
        size, row = sizes.get(cell.cell.index), predicted.get(cell.cell.index)
        state = cell.state
        rows.append(
            [
                *(label(level) for level in cell.cell.levels.values()),
                f"{STATE_MARKS[state]} {state}",
                "not known" if size is None else files[size],
                *(("not known", "–") if row is None else words[id(row)]),
                duration(seconds[cell.cell.index]),
            ]
        )
    return heads, rows


def plan_line(view: StudyView, launches: int, seconds: float) -> str:
    """The size of a plan in one line."""
    repeats = view.study.repeats
    often = plural(repeats.count, "repeat")
    if repeats.until_percent is not None:
        often = f"{repeats.count} to {repeats.most} repeats until ±{repeats.until_percent:g}%"
    return (
        f"{plural(len(view.cells), 'cell')}, {often} each, {repeats.order}; "
        f"{launches} {'launch' if launches == 1 else 'launches'}, about {duration(seconds)} (a rough guess)"
    )
