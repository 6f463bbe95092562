"""The point a crosshair stands on, in words, and the points of a chart as a table."""

from __future__ import annotations

from rich.text import Text

from zinc_kettle.core.chart import Chart
from zinc_kettle.core.chart_view import Spot, View, spots
from zinc_kettle.core.units import digits, plain
from zinc_kettle.tui.theme import Palette


def spot_text(chart: Chart, spot: Spot | None, at: int, many: int, view: View, palette: Palette) -> Text:
    """Series, place, value and bounds of a point; below it how the chart is looked at.

    Args:
        chart: The chart.
        spot: The point; None where there is none.
        at: Its number, from 1.
        many: How many there are.
        view: How it is looked at.
        palette: The theme's colours.
    """
    out = Text(no_wrap=True, overflow="ellipsis")
    if spot is None:
        return out.append("no point to stand on", palette.muted)
    panel = chart.panels[spot.panel]
    where = panel.x.labels[round(spot.x)] if panel.x.scale == "categories" and panel.x.labels else plain(spot.x)
    out.append(f"{spot.series or 'point'}  ", f"bold {palette.ink}")
    out.append(f"{panel.x.title} {where if panel.x.labels else _number(spot.x)}: ", palette.muted)
    out.append(f"{panel.y.title.partition(' (')[0]} {_bounded(spot)}{_unit(panel.y.title)}", f"bold {palette.copper}")
    out.append(f"   point {min(at, many)} of {many}", palette.muted)
    said = []
    if view.hidden:
        said.append(f"hidden: {', '.join(sorted(view.hidden))}")
    if view.window is not None:
        said.append(f"zoomed to {_number(view.window[0])}–{_number(view.window[1])}")
    if view.log:
        said.append(f"other scale: {', '.join(sorted(view.log))}")
    out.append("\n" + "; ".join(said) + ("; u shows all" if said else ""), palette.muted)
    return out


def _number(value: float) -> str:
    return plain(value) if value == round(value) else digits(value)


def _bounded(spot: Spot) -> str:
    if spot.low is None or spot.high is None or spot.high <= spot.low:
        return digits(spot.y)
    half = (spot.high - spot.low) / 2
    low, value, high = (digits(v, spread=half) for v in (spot.low, spot.y, spot.high))
    return f"{value} ({low}–{high})"


def _unit(title: str) -> str:
    return f" {title.rpartition('(')[2].rstrip(')')}" if title.endswith(")") else ""


def points_text(chart: Chart) -> str:
    """Every point of a chart as a tab-separated table, with its title."""
    lines = [chart.title, chart.subtitle]
    for place, panel in enumerate(chart.panels):
        lines += ["", "\t".join(("series", panel.x.title, panel.y.title, "low", "high"))]
        for s in spots(chart):
            if s.panel == place:
                cells = (s.series, _plain(s.x), _plain(s.y), _plain(s.low), _plain(s.high))
                lines.append("\t".join(cells))
    return "\n".join([*lines, "", *chart.notes])


def _plain(value: float | None) -> str:
    return "" if value is None else f"{value:.6g}"
