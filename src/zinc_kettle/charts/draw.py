"""Draws a described chart with matplotlib, deterministically and without pyplot."""

from __future__ import annotations

import io
import textwrap
from typing import Any

from zinc_kettle.charts.marks import draw_marks
from zinc_kettle.charts.style import INK, MUTED, PAPER, safe
from zinc_kettle.core.chart import Axis, Cell, Chart, Panel, Ranges, Spans, extent, numbers_along, positions
from zinc_kettle.core.units import plain, scale

TITLE_CHARACTERS, NOTE_CHARACTERS = 15, 20
"""Characters to an inch at the sizes used; DejaVu Sans is a wide face."""
MOST_TICKS = 8


def draw(chart: Chart, kind: str) -> bytes:
    """Draw a chart.

    Args:
        chart: What to draw.
        kind: `svg` or `pdf`.

    Returns:
        The file's bytes, the same for the same chart.
    """
    import matplotlib as mpl
    from matplotlib.figure import Figure

    settings: Any = {
        "svg.hashsalt": "zinc-kettle",
        "svg.fonttype": "path",
        "pdf.fonttype": 42,
        "font.family": "DejaVu Sans",
        "font.size": 9,
        "axes.edgecolor": MUTED,
        "text.color": INK,
        "axes.labelcolor": INK,
        "xtick.color": INK,
        "ytick.color": INK,
    }
    dates = {"Date": None, "Creator": None}
    if kind == "pdf":
        dates = {"CreationDate": None, "ModDate": None, "Producer": None, "Creator": None}
    out = io.BytesIO()
    sizes = [_size(panel) for panel in chart.panels]
    width, height = max((w for w, _ in sizes), default=6.4), 1.5 + sum(h for _, h in sizes)
    with mpl.rc_context(settings):
        canvas = Figure(figsize=(width, height), facecolor=PAPER, layout="constrained")
        heights = [h for _, h in sizes]
        axes = canvas.subplots(len(chart.panels), 1, squeeze=False, gridspec_kw={"height_ratios": heights})[:, 0]
        for ax, panel in zip(axes, chart.panels, strict=True):
            _panel(ax, panel)
        note = textwrap.fill(" · ".join(chart.notes), int(width * NOTE_CHARACTERS))
        canvas.suptitle(_titles(chart, width), x=0.012, ha="left", fontsize=9, linespacing=1.5)
        canvas.supxlabel(safe(note), x=0.012, ha="left", fontsize=7, color=MUTED)
        canvas.savefig(out, format=kind, metadata=dates)
    return out.getvalue()


def _titles(chart: Chart, width: float) -> str:
    lines = [textwrap.fill(text, int(width * TITLE_CHARACTERS)) for text in (chart.title, chart.subtitle)]
    return safe("\n".join(lines))


def _size(panel: Panel) -> tuple[float, float]:
    """Inches across and up."""
    if any(isinstance(mark, Cell) for mark in panel.marks):
        return max(6.4, 1.5 + 1.45 * len(panel.x.labels)), 0.4 + 0.72 * len(panel.y.labels)
    if any(isinstance(mark, Spans) for mark in panel.marks):
        return 7.2, 0.8 + 0.28 * len(panel.y.labels)
    if any(isinstance(mark, Ranges) for mark in panel.marks):
        longest = max((len(name) for name in _row_names(panel, panel.y, "y")), default=0)
        return 9.0 + 0.07 * max(0, longest - 24), 0.8 + 0.3 * len(panel.y.labels)
    if panel.y.hidden:
        return 7.2, 0.9
    return 7.2, 2.0 if panel.x.hidden else 3.4


def _panel(ax: Any, panel: Panel) -> None:
    if panel.title:
        ax.set_title(safe(panel.title), loc="left", fontsize=9)
    if not panel.marks:
        ax.text(0.0, 0.5, safe(panel.empty or "nothing to draw"), transform=ax.transAxes, color=MUTED)
        ax.set_axis_off()
        return
    factors = _axis(ax, panel, "x"), _axis(ax, panel, "y")
    draw_marks(ax, panel, *factors)
    if panel.cells or panel.y.scale == "categories":
        ax.tick_params(length=0)
        if panel.cells:
            for spine in ax.spines.values():
                spine.set_visible(False)
    else:
        ax.grid(axis="y", color="#eceff1")
        ax.set_axisbelow(True)
    for side in ("top", "right", *(["left"] if panel.y.hidden else [])):
        ax.spines[side].set_visible(False)


def _row_names(panel: Panel, axis: Axis, which: str) -> list[str]:
    """Names of categories; of rows with what stands behind the name."""
    behind = {r: text for m in panel.marks if isinstance(m, Ranges) for r, text in zip(m.row, m.before, strict=False)}
    return [f"{name}   {behind[i]}" if which == "y" and behind.get(i) else name for i, name in enumerate(axis.labels)]


def _axis(ax: Any, panel: Panel, which: str) -> float:
    """Set one axis up; returns the factor from its values to what is shown."""
    from matplotlib.ticker import NullLocator

    axis: Axis = panel.x if which == "x" else panel.y
    values = positions(panel, "x" if which == "x" else "y")
    set_limits, set_ticks = getattr(ax, f"set_{which}lim"), getattr(ax, f"set_{which}ticks")
    set_label = getattr(ax, f"set_{which}label")
    if axis.scale == "categories":
        set_ticks(range(len(axis.labels)), [safe(label) for label in _row_names(panel, axis, which)])
        low, high = -0.5, len(axis.labels) - 0.5
        # Rows are read from the top.
        set_limits(*((high, low) if which == "y" else (low, high)))
        set_label(safe(axis.title))
        return 1.0
    low, high = extent(values, axis.low, axis.high)
    factor, unit = 1.0, ""
    if axis.unit and axis.unit != "×":
        _, unit, factor = scale(high, axis.unit)
    if axis.hidden:
        set_ticks([])
    room = 0.0 if axis.low is not None and axis.high is not None else 0.05 * (high - low)
    bottom, top = (low if axis.low is not None else low - room), (high if axis.high is not None else high + room)
    if axis.scale == "log" and bottom > 0:
        getattr(ax, f"set_{which}scale")("log")
    set_limits(bottom * factor, top * factor)
    if not axis.hidden:
        log = axis.scale == "log" and bottom > 0
        most = MOST_TICKS - 3 * (axis.unit == "×")
        at = numbers_along(axis, bottom * factor, top * factor, most, log=log)
        set_ticks(at, [f"{max(v, 1 / v):.3g}×" if axis.unit == "×" else plain(v) for v in at])
        getattr(ax, f"{which}axis").set_minor_locator(NullLocator())
    set_label(safe(f"{axis.title} ({unit})" if axis.title and unit else axis.title or unit) if not axis.hidden else "")
    return factor
