"""What stands around a duel: its sides, its verdict, what differs, cautions, what would settle it."""

from __future__ import annotations

from collections.abc import Sequence

from rich.text import Text

from zinc_kettle.core.compare.duel import Duel, Rung
from zinc_kettle.core.compare.sides import Side
from zinc_kettle.core.text import capitalised
from zinc_kettle.present.duel import (
    caution_text,
    differences_line,
    effort_line,
    ladder_sum,
    pairs_line,
    repaid_line,
    rung_title,
    side_title,
    unlike_line,
    verdict,
)
from zinc_kettle.present.gate import gate_line
from zinc_kettle.tui.theme import Palette

NOTHING = "Choose two sides with a and b: levels, cells or whole runs."


def sides_text(sides: Sequence[Side], names: Sequence[str], trouble: str, palette: Palette) -> Text:
    """The sides by their letters; what is wrong where one cannot be found.

    Args:
        sides: Those found.
        names: As they were named.
        trouble: What is wrong.
        palette: The theme's colours.
    """
    out = Text(overflow="ellipsis")
    if trouble:
        out.append(f"✕ {trouble}", palette.failure)
        return out
    if not sides:
        return out.append(NOTHING, palette.muted)
    for letter, side in zip("ABCDEFGHIJKL", sides, strict=False):
        out.append(f"{letter} ", f"bold {palette.ink}")
        out.append(f"{rung_title(side, sides) if len(sides) > 2 else side_title(side)}   ", palette.ink)
    if len(sides) == 1:
        out.append("choose the other side with b", palette.muted)
    if any(side.results.run.simulated for side in sides):
        out.append("SIMULATED", f"bold {palette.caution}")
    return out


def verdict_text(found: Duel | None, rungs: Sequence[Rung], measure: str, palette: Palette) -> Text:
    """The answer in a sentence."""
    said = ""
    if rungs:
        said = f"from first to last: {verdict(rungs[-1].whole, measure, step=True)}"
    elif found is not None:
        said = verdict(found, measure)
    return Text(f"{capitalised(said)}." if said else "", f"bold {palette.copper}")


def beside_duel(found: Duel | None, measure: str, palette: Palette) -> Text:
    """What differs, how they were paired, what would settle it, and cautions: a line each."""
    out = Text()
    if found is None:
        return out
    differences = found.alignment.differences
    out.append("differs: ", palette.muted)
    out.append(differences_line(found), palette.ink)
    if len(differences) == 1:
        out.append(", the one thing: it is what made the difference", palette.muted)
    out.append(f" · {pairs_line(found)}", palette.muted)
    reasons = dict.fromkeys(u.reason for u in found.alignment.without)
    if unlike_line(found):
        out.append(f" · {unlike_line(found)}", palette.muted)
    if reasons:
        out.append(f" · {len(found.alignment.without)} without a counterpart: {'; '.join(reasons)}", palette.muted)
    more = effort_line(found, measure, smallest=found.a.results.study.repeats.smallest_percent / 100)
    if more:
        out.append("\nto settle it: ", palette.muted)
        out.append(more, palette.ink)
        out.append("; + adds them to the plan", palette.muted)
    if repaid_line(found):
        out.append(f"\n{repaid_line(found)}", palette.ink)
    said = gate_line(found, measure)
    if said:
        out.append("\nas a gate: ", palette.muted)
        out.append(said, palette.ink)
    for code in found.cautions:
        out.append("\n▲ ", palette.caution)
        out.append(code, palette.ink)
        out.append(f": {caution_text(found, code)}", palette.muted)
    return out


def beside_ladder(rungs: Sequence[Rung], measure: str, palette: Palette) -> Text:
    """Each change with its verdict, and whether the steps multiply to the whole."""
    out = Text()
    for rung in rungs:
        out.append(f"{differences_line(rung.step)}: ", palette.muted)
        out.append(verdict(rung.step, measure, step=True), palette.ink)
        if len(rung.step.alignment.differences) > 1:
            out.append("  ▲ ", palette.caution)
            out.append("two-changes", palette.muted)
        out.append("\n")
    total = ladder_sum(rungs, measure)
    if total:
        out.append(f"{capitalised(total)}.", palette.muted)
    return out
