"""Where the time of a token goes as one bar, with its parts named below."""

from __future__ import annotations

from rich.text import Text

from zinc_kettle.core.breakdown import TimeSplit
from zinc_kettle.core.text import capitalised
from zinc_kettle.core.units import digits
from zinc_kettle.present.breakdown import basis, part_lines, sentence
from zinc_kettle.tui.theme import Palette

MARKS = ("█", "▓", "█", "▓", "▒", "░")
"""Each part has a mark and a colour of its own: told apart without colour, too."""


def split_bar(split: TimeSplit, width: int, palette: Palette) -> Text:
    """A bar as long as the measured time, its parts in it; then what it says."""
    parts = part_lines(split)
    of = "token" if split.streams == 1 else f"step of {split.streams} streams"
    out = Text(f"where the time goes, {digits(split.step_s * 1e3)} ms a {of}\n", palette.muted)
    colours = [palette.series[i % len(palette.series)] for i in range(len(parts))]
    whole = max(split.step_s, sum(seconds for _, seconds, _ in parts))
    at = drawn = 0.0
    for i, (_, seconds, _) in enumerate(parts):
        at += seconds / whole * width
        cells = round(at) - round(drawn)
        out.append(MARKS[i % len(MARKS)] * cells, colours[i])
        drawn = at
    if split.rest_s < 0:
        measured = round(split.step_s / whole * width)
        out.append("\n" + " " * max(0, measured - 10) + "measured ▲", palette.muted)
    out.append("\n")
    line = 0
    for i, (name, seconds, share) in enumerate(parts):
        said = f"{MARKS[i % len(MARKS)]} {name} {digits(seconds * 1e3, significant=2)} ms, {share:.0%}"
        if line and line + len(said) + 3 > width:
            out.append("\n")
            line = 0
        out.append("   " if line else "")
        out.append(said[:1], colours[i])
        out.append(said[1:], palette.ink)
        line += len(said) + (3 if line else 0)
    said = sentence(split)
    out.append(f"\n{capitalised(said)}.\n", f"bold {palette.ink}")
    out.append(f"{basis(split)}\n", palette.muted)
    return out
