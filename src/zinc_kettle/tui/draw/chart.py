"""Charts as text: panels of marks on axes, in braille, blocks and characters, in the theme's colours.

Draws everything core.chart describes but grids of cells, which have a cursor and a window of their own (tui.draw.map).
"""

from __future__ import annotations

from rich.cells import cell_len
from rich.text import Text

from zinc_kettle.core.chart import Chart, Label, Panel, Points, Ranges, Rule, Spans, Tone, positions
from zinc_kettle.core.text import shorten
from zinc_kettle.core.units import plain
from zinc_kettle.tui.draw.plot import Cross, draw_plot, lines_around
from zinc_kettle.tui.draw.scale import DOT, HOLLOW, OVER, Scale, number, tone_colour
from zinc_kettle.tui.theme import Palette

NAME_ROOM = 11
"""Characters left of rows for their names."""
SPAN_MARKS: dict[Tone, str] = {"waiting": "▒", "busy": "█", "failure": "█"}
PART_MARKS = ("█", "▓", "▒", "░", "▚", "▞")
"""Parts of a bar: told apart without colour, too."""


def draw_chart(
    chart: Chart, width: int, height: int, palette: Palette, *, cross: Cross | None = None, headed: bool = True
) -> Text:
    """A chart of plots under each other, with its title, its legend and its notes.

    Args:
        chart: What to draw.
        width: Room, in characters.
        height: Room, in lines.
        palette: The theme's colours.
        cross: Where a crosshair stands, in which panel.
        headed: With its title and its notes.
    """
    out = Text(no_wrap=True)
    if headed:
        out.append(f"{shorten(chart.title, width)}\n", f"bold {palette.ink}")
        out.append(f"{shorten(chart.subtitle, width)}\n", palette.muted)
    each = (height - 3 * headed) // max(1, len(chart.panels))
    for place, panel in enumerate(chart.panels):
        here = cross if cross is not None and cross.panel == place else None
        # Panels that share their series are named once, below the last of them.
        legend = place == len(chart.panels) - 1 or _named(panel) != _named(chart.panels[place + 1])
        tall = max(4, each - bool(panel.title) - lines_around(panel, width, legend=legend))
        out.append_text(draw_panel(panel, width, tall, palette, cross=here, legend=legend))
        out.append("\n")
    if headed:
        out.append(shorten(" · ".join(chart.notes), width), palette.muted)
    return out


def _named(panel: Panel) -> set[str]:
    return {name for name in (getattr(mark, "name", "") for mark in panel.marks) if name and name != "ideal"}


def draw_panel(
    panel: Panel,
    width: int,
    height: int,
    palette: Palette,
    *,
    titled: bool = True,
    cross: Cross | None = None,
    legend: bool = True,
) -> Text:
    """One panel in so many characters; says why where there is nothing to draw.

    Args:
        panel: What to draw; no grid of cells.
        width: Characters across.
        height: Lines, the title's and the x axis's not counted.
        palette: The theme's colours.
        titled: Put the panel's title above it.
        cross: Where a crosshair stands.
        legend: Name the series of a plot below it.
    """
    out = Text(no_wrap=True)
    if titled and panel.title:
        out.append(f"{shorten(panel.title, width)}\n", palette.muted)
    if not panel.marks:
        out.append(panel.empty or "nothing to draw", palette.muted)
    elif any(isinstance(mark, Spans) for mark in panel.marks):
        out.append_text(_rows(panel, width, palette))
    elif any(isinstance(mark, Ranges) for mark in panel.marks):
        out.append_text(_ranges(panel, width, palette))
    elif panel.y.hidden:
        out.append_text(_strip(panel, width, palette))
    else:
        out.append_text(draw_plot(panel, width, height, palette, cross, legend=legend))
    return out


# a single line of dots
def _strip(panel: Panel, width: int, palette: Palette) -> Text:
    scale = Scale.of(panel.x, positions(panel, "x"), width)
    row: list[tuple[str, str]] = [("·", palette.faint)] * width
    for mark in panel.marks:
        if isinstance(mark, Rule) and mark.axis == "x":
            row[scale.at(mark.at)] = (OVER, tone_colour(mark.tone, 0, palette))
    for mark in panel.marks:
        if isinstance(mark, Points):
            _strip_points(mark, scale, row, palette)
    out = Text(no_wrap=True)
    for char, colour in row:
        out.append(char, colour)
    left, right = number(scale.low, panel.x), number(scale.high, panel.x)
    out.append("\n" + left + right.rjust(max(1, width - len(left))), palette.muted)
    return out


def _strip_points(mark: Points, scale: Scale, row: list[tuple[str, str]], palette: Palette) -> None:
    counts: dict[int, int] = {}
    for i, value in enumerate(mark.x):
        place = scale.at(value)
        counts[place] = counts.get(place, 0) + 1
        char = HOLLOW if i in mark.hollow else (DOT if counts[place] == 1 else str(min(9, counts[place])))
        colour = palette.caution if i in mark.hollow else tone_colour(mark.tone, mark.series, palette)
        row[place] = (char, colour)


# lying bars in rows
def _rows(panel: Panel, width: int, palette: Palette) -> Text:
    labels = {round(m.y): m for m in panel.marks if isinstance(m, Label)}
    said = max((cell_len(m.text) for m in labels.values()), default=0)
    names = min(width // 3, max([NAME_ROOM, *(cell_len(n) + 1 for n in panel.y.labels)]))
    room = max(8, width - names - said - 2)
    scale = Scale.of(panel.x, positions(panel, "x"), room)
    out = Text(no_wrap=True)
    for row, name in enumerate(panel.y.labels):
        out.append(shorten(name, names - 1).ljust(names), palette.muted)
        used = 0
        for mark in panel.marks:
            if isinstance(mark, Spans):
                used = _row_of(mark, row, scale, used, out, palette)
        if row in labels:
            label = labels[row]
            out.append(f" {label.whole}", tone_colour(label.tone, 0, palette))
        out.append("\n")
    kinds = {(m.tone, m.series): m for m in panel.marks if isinstance(m, Spans) and m.name}
    for m in kinds.values():
        out.append(f"{_span_mark(m)} ", tone_colour(m.tone, m.series, palette))
        out.append(f"{m.name}  ", palette.muted)
    out.rstrip()
    return out


def _span_mark(mark: Spans) -> str:
    return PART_MARKS[mark.series % len(PART_MARKS)] if mark.tone == "series" else SPAN_MARKS.get(mark.tone, "█")


def _row_of(mark: Spans, row: int, scale: Scale, used: int, out: Text, palette: Palette) -> int:
    """Append a row's bars of one mark; returns the place they end at."""
    for where, start, end in zip(mark.row, mark.start, mark.end, strict=True):
        if where == row:
            first = max(used, scale.at(start))
            last = max(first + (1 if end > start and mark.tone == "waiting" else 0), scale.at(end))
            out.append(" " * (first - used))
            out.append(_span_mark(mark) * (last - first), tone_colour(mark.tone, mark.series, palette))
            used = last
    return used


# lying intervals in rows
def _ranges(panel: Panel, width: int, palette: Palette) -> Text:
    marks = [m for m in panel.marks if isinstance(m, Ranges)]
    before, after = [m.before for m in marks], [m.after for m in marks]
    names = min(width // (3 if width > 110 else 4), max([cell_len(n) for n in panel.y.labels], default=0)) + 1
    left = max([cell_len(text) for texts in before for text in texts], default=0)
    right = min(width * 11 // 20, max([cell_len(text) for texts in after for text in texts], default=0))
    room = max(10, width - names - left - right - 4)
    scale = Scale.of(panel.x, positions(panel, "x"), room)
    out = Text(no_wrap=True)
    for mark in marks:
        for place, row in enumerate(mark.row):
            tone = tone_colour(mark.tones[place], 0, palette)
            out.append(shorten(panel.y.labels[row], names - 1).ljust(names), tone)
            said = mark.before[place] if mark.before else ""
            out.append(f"{said.rjust(left)}  ", palette.ink)
            out.append_text(_range_line(panel, mark, place, scale, palette))
            said = mark.after[place] if mark.after else ""
            out.append(f"  {shorten(said, right)}\n", tone if mark.tones[place] != "ink" else palette.ink)
    ends = [f"{plain(float(f'{v:.3g}'))}" if not panel.x.unit else number(v, panel.x) for v in (scale.low, scale.high)]
    space = room - sum(map(len, ends)) - 2
    middle = panel.x.title if len(panel.x.title) <= space else shorten(panel.x.title.replace(" is better", ""), space)
    line = middle.center(room - sum(map(len, ends)))
    out.append(" " * (names + left + 2) + ends[0] + line + ends[1], palette.muted)
    return out


def _range_line(panel: Panel, mark: Ranges, place: int, scale: Scale, palette: Palette) -> Text:
    """One row: the rules of the panel, the interval, the point."""
    row: list[tuple[str, str]] = [("·", palette.faint)] * scale.places
    for rule in panel.marks:
        if isinstance(rule, Rule) and rule.axis == "x":
            row[scale.at(rule.at)] = OVER, tone_colour(rule.tone, 0, palette)
    colour = tone_colour(mark.tones[place], 0, palette)
    first, last = scale.at(mark.low[place]), scale.at(mark.high[place])
    for at in range(first, last + 1):
        crossed = row[at][0] == OVER
        row[at] = ("┿" if crossed else "━"), colour
    row[scale.at(mark.value[place])] = DOT, colour
    return Text.assemble(*row)
