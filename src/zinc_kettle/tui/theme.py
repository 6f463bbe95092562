"""Cool zinc greys and one warm copper, dark and light."""

from __future__ import annotations

from dataclasses import dataclass

from textual.theme import Theme


@dataclass(frozen=True)
class Palette:
    """Colours as hexadecimal RGB, for drawing in cells."""

    name: str
    dark: bool
    paper: str
    panel: str
    ink: str
    muted: str
    faint: str
    copper: str
    copper_ink: str
    """Text on copper."""
    on_zinc: str
    """Copper that can be read on the zinc of a map."""
    low: str
    high: str
    """The zinc of the smallest and of the largest value of a map."""
    caution: str
    failure: str
    series: tuple[str, ...]
    """Lines of a chart, the first in copper; told apart by brightness too."""


DARK = Palette(
    name="zinc-dark",
    dark=True,
    paper="#14181b",
    panel="#1c2226",
    ink="#e3e9ec",
    muted="#8b979e",
    faint="#39434a",
    copper="#e08a45",
    copper_ink="#1b1209",
    on_zinc="#ffb878",
    low="#27323a",
    high="#6f8a98",
    caution="#e5c453",
    failure="#e0685f",
    series=("#e08a45", "#8fb4c6", "#5f7a88", "#c08fb8", "#93b37f", "#d8c069", "#e3e9ec", "#e0685f"),
)
LIGHT = Palette(
    name="zinc-light",
    dark=False,
    paper="#f3f5f6",
    panel="#e4e9eb",
    ink="#1d2327",
    muted="#5c686f",
    faint="#c3ccd1",
    copper="#b4571a",
    copper_ink="#ffffff",
    on_zinc="#7a3206",
    low="#dbe2e6",
    high="#86a0ad",
    caution="#8a6400",
    failure="#b3322a",
    series=("#b4571a", "#2f566a", "#7f98a5", "#7d4676", "#4c6b3d", "#8a6f14", "#1d2327", "#b3322a"),
)
PALETTES = {palette.name: palette for palette in (DARK, LIGHT)}


def theme(palette: Palette) -> Theme:
    """The palette as a Textual theme. Copper is `accent` alone; tabs, keys and bars are zinc."""
    return Theme(
        name=palette.name,
        dark=palette.dark,
        primary=palette.high,
        secondary=palette.muted,
        accent=palette.copper,
        warning=palette.caution,
        error=palette.failure,
        success=palette.high,
        foreground=palette.ink,
        background=palette.paper,
        surface=palette.paper,
        panel=palette.panel,
        variables={
            "footer-key-foreground": palette.ink,
            "footer-description-foreground": palette.muted,
            "footer-background": palette.panel,
            "block-cursor-background": palette.panel,
            "block-cursor-foreground": palette.ink,
            "block-cursor-text-style": "none",
            "block-cursor-blurred-background": palette.panel,
            "scrollbar": palette.faint,
            "scrollbar-background": palette.paper,
            "border": palette.faint,
        },
    )


def blend(low: str, high: str, share: float) -> str:
    """A colour between two, share in [0, 1]."""
    share = min(1.0, max(0.0, share))
    pairs = [(int(low[i : i + 2], 16), int(high[i : i + 2], 16)) for i in (1, 3, 5)]
    return "#" + "".join(f"{round(a + (b - a) * share):02x}" for a, b in pairs)


def readable(background: str, palette: Palette) -> str:
    """Ink for a background: dark on bright, bright on dark."""
    red, green, blue = (int(background[i : i + 2], 16) for i in (1, 3, 5))
    bright = (0.299 * red + 0.587 * green + 0.114 * blue) / 255
    return "#12161a" if bright > 0.5 else "#f2f6f8"
