"""The columns of the sheet: figures, strips, notes and cautions, the family over prompt length."""

from __future__ import annotations

from collections.abc import Mapping

from rich.text import Text

from zinc_kettle.core.breakdown import TimeSplit, time_split
from zinc_kettle.core.cautions.repeats import LOAD_REQUESTS
from zinc_kettle.core.family import DepthFall, PrefillSlope
from zinc_kettle.core.lengths import family_of
from zinc_kettle.core.measures import groups
from zinc_kettle.core.measures.kinds import Group, Measure
from zinc_kettle.core.record.repeat import Missing
from zinc_kettle.core.record.value import Value
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.present.charts import cell as charts
from zinc_kettle.present.lengths import fall_text, slope_text, turn_lines
from zinc_kettle.present.remarks import marks_text
from zinc_kettle.present.values import bounds_text, value_text
from zinc_kettle.tui.draw.chart import draw_panel
from zinc_kettle.tui.draw.split import split_bar
from zinc_kettle.tui.theme import Palette

MIN_TRACE_ROWS, MAX_TRACE_ROWS = 3, 9
FIXED_ROWS = 18
"""Lines of the strips that are no trace, with two requests in the waterfall."""
NAME, FIGURE, UNIT = 19, 7, 9


def figures(cell: CellResults, palette: Palette) -> Text:
    """Every figure with its bounds, in groups; the reason where there is none."""
    out = Text()
    reasons: dict[str, list[str]] = {}
    for group, members in groups().items():
        if _group(out, cell, group, members, reasons, palette):
            out.append("\n")
    for reason, titles in reasons.items():
        out.append(f"– {', '.join(titles)}: {reason}.\n", palette.muted)
    return out


def _group(
    out: Text, cell: CellResults, group: Group, members: list[Measure], reasons: dict[str, list[str]], palette: Palette
) -> bool:
    """Append a group; false where one sentence, or none, stands for all of it."""
    if group.only_under_load and all(len(r.measured) < LOAD_REQUESTS for r in cell.repeats):
        return False
    missing = [figure for m in members if isinstance(figure := cell.value(m.name), Missing)]
    if group.together and len(missing) == len(members):
        reasons.setdefault(missing[0].reason, []).append(group.together)
        return False
    out.append(f"{group.title}\n", palette.muted)
    for measure in members:
        figure = cell.value(measure.name)
        if not isinstance(figure, Value):
            reasons.setdefault(figure.reason, []).append(measure.title)
            out.append(f"{measure.title.ljust(NAME)}{'–'.rjust(FIGURE)}\n", palette.muted)
            continue
        text, unit = value_text(figure)
        out.append(measure.title.ljust(NAME), palette.ink)
        out.append(text.rjust(FIGURE), palette.muted if figure.thin else f"bold {palette.ink}")
        out.append(f" {unit}".ljust(UNIT), palette.muted)
        # There is no room for a word and bounds; those of a thin percentile say little.
        out.append(("thin" if figure.thin else bounds_text(figure)) + "\n", palette.muted)
    return True


def strips(results: StudyResults, cell: CellResults, width: int, height: int, palette: Palette) -> Text:
    """Repeats, where the time goes, requests, gaps and memory as pictures, the traces as tall as the room allows.

    Args:
        results: The run.
        cell: The cell.
        width: Room, in characters.
        height: Room, in lines.
        palette: The theme's colours.
    """
    split = time_split(results, cell)
    bar = split_bar(split, width, palette) if isinstance(split, TimeSplit) else Text()
    taken = sum(1 + len(line) // width for line in bar.plain.splitlines())
    rows = min(MAX_TRACE_ROWS, max(MIN_TRACE_ROWS, (height - FIXED_ROWS - taken) // 2))
    out = Text()
    for name in ("decode", "ttft"):
        out.append_text(draw_panel(charts.repeats_panel(cell, name), width, 1, palette))
        out.append("\n\n")
    if bar:
        out.append_text(bar)
        out.append("\n")
    lines = turn_lines(cell)
    if lines:
        out.append(f"{lines[0]}\n", palette.muted)
        out.append("\n".join(lines[1:]) + "\n\n", palette.ink)
    panels = [(charts.requests_panel(cell), 0), (charts.gaps_panel(cell), rows), (charts.memory_panel(cell), rows)]
    power = charts.power_panel(cell)
    if power.marks:
        panels.append((power, MIN_TRACE_ROWS))
    for panel, tall in panels:
        out.append_text(draw_panel(panel, width, tall, palette))
        out.append("\n\n")
    return out


def cautions(
    cell: CellResults, notes: list[str], answers: Mapping[str, str], palette: Palette, worked: str = ""
) -> Text:
    """Notes, cautions with evidence, advice and a person's reason where one is acknowledged, failures."""
    out = Text()
    # Notes first: cautions may be long, and what a person wrote must not be below the edge.
    out.append("notes\n", palette.muted)
    out.append("\n".join(notes) + "\n" if notes else "none; w adds one\n", palette.ink if notes else palette.muted)
    marked = marks_text(cell)
    if marked:
        out.append(f"answers marked: {marked}\n", palette.ink)
    out.append("\ncautions\n", palette.muted)
    if not cell.cautions:
        out.append("none\n" if cell.done else "none yet\n", palette.ink)
    for caution in cell.cautions:
        answer = answers.get(caution.code)
        out.append(f"▲ {caution.code}", f"bold {palette.caution}" if answer is None else palette.muted)
        out.append(f"  {caution.evidence}\n", palette.ink)
        if answer is None:
            out.append(f"  {caution.sentence} {caution.advice}\n", palette.muted)
        else:
            out.append(f"  acknowledged: {answer}\n", palette.ink)
    if cell.kept.failure is not None:
        out.append("\n✕ failed ", f"bold {palette.failure}")
        out.append(f"{cell.kept.failure.what}\n", palette.ink)
        out.append(f"{worked}\n" if worked else "", palette.muted)
    broken = sum(1 for r in cell.kept_repeats if r.state == "broken-off")
    if broken:
        out.append(f"\n{broken} repeat cut off by a stop: kept, not counted, measured again.\n", palette.muted)
    return out


def family(results: StudyResults, cell: CellResults, palette: Palette) -> Text:
    """Prefill as a slope and decode over depth, of the cells that differ in prompt length, or depth, only."""
    found = family_of(results, cell)
    out = Text()
    if found is None:
        return out
    deep = found.varied == "depth"
    out.append(f"\nfamily over {'depth' if deep else 'prompt length'}\n", palette.muted)
    if isinstance(found.slope, PrefillSlope):
        out.append(f"{slope_text(found.slope)}\n", palette.ink)
    elif not deep:
        out.append(f"– slope: {found.slope.reason}\n", palette.muted)
    if isinstance(found.fall, DepthFall):
        out.append(f"{fall_text(found.fall)}\n", palette.ink)
    elif deep:
        out.append(f"– {found.fall.reason}\n", palette.muted)
    return out
