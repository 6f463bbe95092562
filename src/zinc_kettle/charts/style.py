"""Colours and shapes of exported charts: light, told apart in grey too."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from zinc_kettle.core.chart import Tone

INK, MUTED, PAPER, EMPTY = "#23282c", "#6b757c", "#ffffff", "#eceff1"
ZINC = ("#e1e7ea", "#7f98a5")
COPPER = "#c8752e"
SERIES = ("#c8752e", "#3d6478", "#7a8f99", "#8a5a83", "#5d7a4f", "#a88c2c", "#23282c", "#b04a4a")
MARKERS = "osD^vPX*"
TONES: dict[Tone, str] = {
    "ink": INK,
    "muted": MUTED,
    "faint": "#c3ccd1",
    "best": COPPER,
    "caution": "#8a6400",
    "failure": "#b3322a",
    "waiting": "#c3ccd1",
    "busy": "#3d6478",
}
DARK_BELOW = 0.52
"""Brightness of a cell below which its text is white."""


def colour(tone: Tone, series: int) -> str:
    """Of a mark."""
    return SERIES[series % len(SERIES)] if tone == "series" else TONES[tone]


def text_colour(background: Any) -> str:
    """Readable on a background."""
    from matplotlib.colors import to_rgb

    red, green, blue = to_rgb(background)
    return "#ffffff" if 0.299 * red + 0.587 * green + 0.114 * blue < DARK_BELOW else INK


def safe(text: str) -> str:
    """Text as it is: $ would start a formula."""
    return text.replace("$", r"\$")


def font_folder() -> Path:
    """The folder with the face the charts are set in."""
    from matplotlib import get_data_path

    return Path(get_data_path()) / "fonts" / "ttf"
