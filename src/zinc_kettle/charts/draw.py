"""Draws a described figure with matplotlib, deterministically and without pyplot."""

from __future__ import annotations

import io
import textwrap
from typing import Any

from zinc_kettle.present.figure import LineFigure, MapFigure

INK, MUTED, PAPER, EMPTY = "#23282c", "#6b757c", "#ffffff", "#eceff1"
ZINC = ("#e1e7ea", "#7f98a5")
COPPER = "#c8752e"
SERIES = ("#c8752e", "#3d6478", "#7a8f99", "#8a5a83", "#5d7a4f", "#a88c2c", "#23282c", "#b04a4a")
MARKERS = "osD^vPX*"
TITLE_CHARACTERS, NOTE_CHARACTERS = 15, 20
"""Characters to an inch at the sizes used; DejaVu Sans is a wide face."""
DARK_BELOW = 0.52
"""Brightness of a patch below which its text is white."""


def draw(figure: MapFigure | LineFigure, kind: str) -> bytes:
    """Draw a figure.

    Args:
        figure: What to draw.
        kind: `svg` or `pdf`.

    Returns:
        The file's bytes, the same for the same figure.
    """
    import matplotlib as mpl
    from matplotlib.figure import Figure

    settings: Any = {
        "svg.hashsalt": "zinc-kettle", "svg.fonttype": "path", "pdf.fonttype": 42,
        "font.family": "DejaVu Sans", "font.size": 9, "axes.edgecolor": MUTED, "text.color": INK,
        "axes.labelcolor": INK, "xtick.color": INK, "ytick.color": INK,
    }  # fmt: skip
    dates = {"Date": None, "Creator": None}
    if kind == "pdf":
        dates = {"CreationDate": None, "ModDate": None, "Producer": None, "Creator": None}
    out = io.BytesIO()
    with mpl.rc_context(settings):
        canvas = Figure(figsize=_size(figure), facecolor=PAPER, layout="constrained")
        if isinstance(figure, MapFigure):
            _map(canvas, figure)
        else:
            _lines(canvas, figure)
        width = canvas.get_figwidth()
        note = textwrap.fill(figure.note, int(width * NOTE_CHARACTERS))
        canvas.suptitle(_titles(figure, width), x=0.012, ha="left", fontsize=9, linespacing=1.5)
        canvas.supxlabel(note, x=0.012, ha="left", fontsize=7, color=MUTED)
        canvas.savefig(out, format=kind, metadata=dates)
    return out.getvalue()


def _titles(figure: MapFigure | LineFigure, width: float) -> str:
    lines = [textwrap.fill(text, int(width * TITLE_CHARACTERS)) for text in (figure.title, figure.subtitle)]
    # $ would start a formula.
    return "\n".join(lines).replace("$", r"\$")


def _size(figure: MapFigure | LineFigure) -> tuple[float, float]:
    if isinstance(figure, LineFigure):
        return 7.2, 4.6
    panels = len(figure.panels)
    width = max(6.4, 1.5 + 1.45 * len(figure.columns))
    return width, 1.5 + panels * (0.4 + 0.72 * len(figure.rows))


def _map(canvas: Any, figure: MapFigure) -> None:
    from matplotlib.colors import LinearSegmentedColormap, Normalize

    colours = list(ZINC) if figure.better != "less" else list(reversed(ZINC))
    shade = LinearSegmentedColormap.from_list("zinc", colours)
    values = [p.value for _, rows in figure.panels for row in rows for p in row if p.value is not None]
    norm = Normalize(min(values, default=0.0), max(values, default=1.0) or 1.0)
    axes = canvas.subplots(len(figure.panels), 1, squeeze=False)[:, 0]
    for ax, (title, rows) in zip(axes, figure.panels, strict=True):
        for r, row in enumerate(rows):
            for c, patch in enumerate(row):
                colour = EMPTY if patch.value is None else (COPPER if patch.best else shade(norm(patch.value)))
                ax.add_patch(_rectangle(c, r, colour))
                _words(ax, c, r, patch.lines, _text_colour(colour))
        ax.set_xlim(-0.5, len(figure.columns) - 0.5)
        ax.set_ylim(len(figure.rows) - 0.5, -0.5)
        ax.set_xticks(range(len(figure.columns)), [_safe(level) for level in figure.columns])
        ax.set_yticks(range(len(figure.rows)), [_safe(level) for level in figure.rows])
        ax.set_xlabel(figure.columns_name)
        ax.set_ylabel(figure.rows_name)
        ax.tick_params(length=0)
        if title:
            ax.set_title(_safe(title), loc="left", fontsize=9)
        for spine in ax.spines.values():
            spine.set_visible(False)


def _rectangle(column: int, row: int, colour: Any) -> Any:
    from matplotlib.patches import Rectangle

    return Rectangle((column - 0.48, row - 0.46), 0.96, 0.92, facecolor=colour, edgecolor="none")


def _words(ax: Any, column: int, row: int, lines: tuple[str, ...], colour: str) -> None:
    step = 0.28
    top = row - step * (len(lines) - 1) / 2
    for i, text in enumerate(lines):
        weight = "bold" if i == 0 and len(lines) > 1 else "normal"
        ax.text(
            column, top + i * step, _safe(text), ha="center", va="center", color=colour, fontweight=weight,
            fontsize=9 if i == 0 else 8,
        )  # fmt: skip


def _text_colour(colour: Any) -> str:
    from matplotlib.colors import to_rgb

    red, green, blue = to_rgb(colour)
    return "#ffffff" if 0.299 * red + 0.587 * green + 0.114 * blue < DARK_BELOW else INK


def _safe(text: str) -> str:
    return text.replace("$", r"\$")


def _lines(canvas: Any, figure: LineFigure) -> None:
    ax = canvas.subplots()
    for i, line in enumerate(figure.lines):
        below = [y - low for y, low in zip(line.y, line.low, strict=True)]
        above = [high - y for y, high in zip(line.y, line.high, strict=True)]
        # Side by side, so that bounds of lines that meet stay readable.
        shift = (i - (len(figure.lines) - 1) / 2) * 0.03
        ax.errorbar(
            [x + shift for x in line.x], line.y, yerr=[below, above], color=SERIES[i % len(SERIES)],
            marker=MARKERS[i % len(MARKERS)], markersize=5, linewidth=1.6, capsize=3, label=_safe(line.name) or None,
        )  # fmt: skip
    ax.set_xticks(range(len(figure.x_levels)), [_safe(level) for level in figure.x_levels])
    ax.set_xlim(-0.4, len(figure.x_levels) - 0.6)
    ax.set_ylim(bottom=0)
    ax.set_xlabel(figure.x_name)
    ax.set_ylabel(figure.y_name)
    ax.grid(axis="y", color=EMPTY)
    ax.set_axisbelow(True)
    for side in ("top", "right"):
        ax.spines[side].set_visible(False)
    if any(line.name for line in figure.lines):
        ax.legend(frameon=False, fontsize=8, loc="best")
