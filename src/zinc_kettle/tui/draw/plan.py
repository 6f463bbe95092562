"""A plan as text: headings, factors with their levels, sentences; and the place of each line, for editing in place."""

from __future__ import annotations

import textwrap
from collections.abc import Sequence
from dataclasses import dataclass

from rich.text import Text

from zinc_kettle.core.text import neutralise
from zinc_kettle.present.plan_lines import PlanLine
from zinc_kettle.tui.theme import Palette

HEAD = 14
"""Columns before what a section says."""
MOST_ROWS = 4
"""Of one line; a list of two hundred levels is told by its ends."""


@dataclass(frozen=True, slots=True)
class Placed:
    """Where a line of a plan stands."""

    row: int
    rows: int
    column: int
    """Where what it says begins."""


@dataclass(frozen=True)
class Page:
    """A plan drawn."""

    text: Text
    places: tuple[Placed, ...]

    def line_at(self, row: int) -> int | None:
        """The line that stands in a row."""
        return next((i for i, place in enumerate(self.places) if place.row <= row < place.row + place.rows), None)


def draw_plan(lines: Sequence[PlanLine], width: int, height: int, cursor: int, palette: Palette) -> Page:
    """A plan as a page.

    Args:
        lines: What it says.
        width: Room, in characters.
        height: Rows in sight: where there is room, sections stand apart.
        cursor: The selected line.
        palette: The theme's colours.
    """
    label = max((len(line.label) for line in lines if line.kind != "sentence"), default=0) + 2
    drawn = [_rows(line, width, min(label, 20)) for line in lines]
    heads = sum(1 for line in lines if line.heading)
    airy = sum(len(rows) for rows in drawn) + heads <= height
    out, places, row = Text(no_wrap=True), [], 0
    for i, (line, rows) in enumerate(zip(lines, drawn, strict=True)):
        if airy and i and line.heading:
            out.append("\n")
            row += 1
        places.append(Placed(row, len(rows), _column(line, min(label, 20))))
        for n, said in enumerate(rows):
            _append(out, line, said, first=n == 0, chosen=i == cursor, label=min(label, 20), palette=palette)
        row += len(rows)
    return Page(out, tuple(places))


def _column(line: PlanLine, label: int) -> int:
    return HEAD + (label if line.label else 0)


def _rows(line: PlanLine, width: int, label: int) -> list[str]:
    room = max(12, width - _column(line, label) - 1)
    rows = textwrap.wrap(neutralise(line.said, keep_newlines=False), room) or [""]
    if len(rows) > MOST_ROWS:
        rows = [*rows[: MOST_ROWS - 1], f"… {rows[-1]}"[:room]]
    return rows


def _append(out: Text, line: PlanLine, said: str, *, first: bool, chosen: bool, label: int, palette: Palette) -> None:
    out.append("▸ " if chosen and first else "  ", f"bold {palette.ink}")
    out.append((line.heading if first else "").ljust(HEAD - 2), palette.muted)
    name = line.label if first else ""
    if line.label:
        out.append(name.ljust(label)[:label], palette.ink if line.kind == "factor" else palette.muted)
    soft = line.default or line.kind == "add"
    style = palette.muted if soft else palette.ink
    if line.kind == "factor" or line.section == "question":
        style = f"bold {style}"
    out.append(said + "\n", f"{style} on {palette.panel}" if chosen else style)
