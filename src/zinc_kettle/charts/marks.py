"""Each mark of a chart, drawn with matplotlib."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from zinc_kettle.charts.style import COPPER, EMPTY, INK, MARKERS, MUTED, ZINC, colour, safe, text_colour
from zinc_kettle.core.chart import Band, Bars, Cell, Label, Line, Panel, Points, Ranges, Rule, Spans, Steps

SIDE_STEP = 0.03
"""Lines over categories stand so far beside each other, so that bounds of lines that meet stay readable."""
DASHES: tuple[Any, ...] = ("-", (0, (4, 1)), (0, (1, 1)), (0, (4, 1, 1, 1)))
"""Lines without points, told apart without colour."""
ROW_CHARACTERS = 76
"""Of a row of names inside a plot."""
MOST_INSIDE = 5
"""More series than that are named beside the plot."""
HATCHES = ("", "//", "", "\\\\", "..", "xx")
"""Parts of a bar, told apart without colour."""
LINE_STEP = 0.28
"""Between two lines of text in a cell."""


def draw_marks(ax: Any, panel: Panel, fx: float, fy: float) -> None:
    """Draw a panel's marks, its values times these factors, and a legend of its series.

    Args:
        ax: Axes of matplotlib.
        panel: What to draw.
        fx: Factor from the unit of the x axis to the one shown.
        fy: The same of the y axis.
    """
    series = sorted({mark.series for mark in panel.marks if isinstance(mark, (Line, Points, Bars, Steps))})
    beside = panel.x.scale == "categories"
    pointed = {mark.name for mark in panel.marks if isinstance(mark, Points)}
    for mark in panel.marks:
        shift = 0.0
        if beside and isinstance(mark, (Line, Points)):
            shift = (series.index(mark.series) - (len(series) - 1) / 2) * SIDE_STEP
        if isinstance(mark, Ranges):
            _ranges(ax, mark, fx)
        else:
            _draw(ax, mark, fx, fy, shift, lone=getattr(mark, "name", "") not in pointed)
    if ax.get_legend_handles_labels()[1]:
        _legend(ax)


def _legend(ax: Any) -> None:
    """Each series once; beside the plot where there are many, else where they hide least."""
    handles = dict(zip(*reversed(ax.get_legend_handles_labels()), strict=True))
    many = len(handles) > MOST_INSIDE
    columns = max(1, min(4, ROW_CHARACTERS // (max(map(len, handles)) + 8)))
    where: dict[str, Any] = {"loc": "upper left", "bbox_to_anchor": (1.01, 1.0)} if many else {"loc": "best"}
    ax.legend(
        handles.values(),
        handles.keys(),
        frameon=False,
        fontsize=7 if many else 8,
        ncols=1 if many else columns,
        **where,
    )


def _draw(ax: Any, mark: object, fx: float, fy: float, shift: float, *, lone: bool) -> None:
    if isinstance(mark, Cell):
        _cell(ax, mark)
    elif isinstance(mark, Points):
        _points(ax, mark, fx, fy, shift)
    elif isinstance(mark, Line):
        ax.plot(
            _times(mark.x, fx, shift),
            _times(mark.y, fy),
            color=colour(mark.tone, mark.series),
            linewidth=1.1 if mark.dashed else 1.6,
            linestyle=(0, (5, 3)) if mark.dashed else "-",
            label=safe(mark.name) or None if lone else None,
        )
    elif isinstance(mark, Steps):
        ax.step(
            _times(mark.x, fx),
            _times(mark.y, fy),
            where="post",
            color=colour(mark.tone, mark.series),
            linewidth=1.2,
            linestyle=DASHES[mark.series % len(DASHES)] if lone else "-",
            label=safe(mark.name) or None if lone else None,
        )
    elif isinstance(mark, Bars):
        ax.bar(
            _times(mark.x, fx),
            _times(mark.height, fy),
            width=0.6,
            color=colour("series", mark.series),
            label=safe(mark.name) or None,
        )
    elif isinstance(mark, Band):
        ax.fill_between(
            _times(mark.x, fx),
            _times(mark.low, fy),
            _times(mark.high, fy),
            alpha=0.18,
            linewidth=0,
            color=colour("series", mark.series),
        )
    elif isinstance(mark, Spans):
        lengths = [(end - start) * fx for start, end in zip(mark.start, mark.end, strict=True)]
        ax.barh(
            mark.row,
            lengths,
            left=_times(mark.start, fx),
            height=0.6,
            color=colour(mark.tone, mark.series),
            label=safe(mark.name) or None,
            edgecolor="#ffffff" if mark.tone == "series" else "none",
            hatch=HATCHES[mark.series % len(HATCHES)] if mark.tone == "series" else None,
        )
    elif isinstance(mark, Rule):
        (ax.axvline if mark.axis == "x" else ax.axhline)(
            mark.at * (fx if mark.axis == "x" else fy), color=colour(mark.tone, 0), linewidth=1.0, linestyle=(0, (4, 2))
        )
        _rule_label(ax, mark, fx, fy)
    elif isinstance(mark, Label):
        ax.annotate(
            safe(mark.whole),
            (mark.x * fx, mark.y * fy),
            xytext=(4, 0),
            textcoords="offset points",
            va="center",
            fontsize=7,
            color=colour(mark.tone, 0),
            annotation_clip=False,
        )


def _times(values: Sequence[float], factor: float, shift: float = 0.0) -> list[float]:
    return [value * factor + shift for value in values]


def _points(ax: Any, mark: Points, fx: float, fy: float, shift: float) -> None:
    x, y, tint = _times(mark.x, fx, shift), _times(mark.y, fy), colour(mark.tone, mark.series)
    marker = MARKERS[mark.series % len(MARKERS)]
    bounds = None
    if mark.low and mark.high:
        below = [(v - low) * fy for v, low in zip(mark.y, mark.low, strict=True)]
        above = [(high - v) * fy for v, high in zip(mark.y, mark.high, strict=True)]
        bounds = [below, above]
    ax.errorbar(
        x,
        y,
        yerr=bounds,
        color=tint,
        marker=marker,
        markersize=5,
        linestyle="none",
        capsize=3,
        clip_on=False,
        label=safe(mark.name) or None,
    )
    for i in mark.hollow:
        ax.plot(
            [x[i]],
            [y[i]],
            marker=marker,
            markersize=7,
            color="#ffffff",
            markeredgecolor=tint,
            linestyle="none",
            clip_on=False,
        )


def _ranges(ax: Any, mark: Ranges, fx: float) -> None:
    for row, value, low, high, tone in zip(mark.row, mark.value, mark.low, mark.high, mark.tones, strict=True):
        tint = colour(tone, 0)
        ax.plot([low * fx, high * fx], [row, row], color=tint, linewidth=2.2, solid_capstyle="butt", clip_on=True)
        ax.plot([value * fx], [row], color=tint, marker="o", markersize=5, clip_on=True)
    for row, text in zip(mark.row, mark.after, strict=False):
        ax.annotate(
            safe(text),
            (1.0, row),
            xycoords=("axes fraction", "data"),
            xytext=(8, 0),
            textcoords="offset points",
            va="center",
            fontsize=8,
            annotation_clip=False,
        )


def _rule_label(ax: Any, mark: Rule, fx: float, fy: float) -> None:
    if mark.label:
        at = (mark.at * fx, 1.0) if mark.axis == "x" else (1.0, mark.at * fy)
        frame = ("data", "axes fraction") if mark.axis == "x" else ("axes fraction", "data")
        ax.annotate(
            safe(mark.label),
            at,
            xycoords=frame,
            xytext=(2, -2),
            textcoords="offset points",
            fontsize=7,
            color=MUTED,
            va="top",
            ha="left" if mark.axis == "x" else "right",
        )


def _cell(ax: Any, mark: Cell) -> None:
    from matplotlib.colors import LinearSegmentedColormap
    from matplotlib.patches import Rectangle

    shade = LinearSegmentedColormap.from_list("zinc", list(ZINC))
    fill = EMPTY if mark.shade is None else (COPPER if mark.best else shade(mark.shade))
    ax.add_patch(Rectangle((mark.column - 0.48, mark.row - 0.46), 0.96, 0.92, facecolor=fill, edgecolor="none"))
    tint = text_colour(fill) if mark.shade is not None else INK
    top = mark.row - LINE_STEP * (len(mark.lines) - 1) / 2
    for i, text in enumerate(mark.lines):
        ax.text(
            mark.column,
            top + i * LINE_STEP,
            safe(text),
            ha="center",
            va="center",
            color=tint,
            fontweight="bold" if i == 0 and len(mark.lines) > 1 else "normal",
            fontsize=9 if i == 0 else 8,
        )
