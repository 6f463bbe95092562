"""What stands beside a plan: what it would cost, and what is wrong or doubtful about it."""

from __future__ import annotations

from collections.abc import Sequence

from rich.text import Text

from zinc_kettle.core.problem import Problem
from zinc_kettle.core.results import StudyResults
from zinc_kettle.core.text import capitalised
from zinc_kettle.core.units import byte_size, duration, plural
from zinc_kettle.present.planned import Costs, dropped_text
from zinc_kettle.tui.theme import Palette

LETTERS = "ABCDEFGH"
"""Keys that go to a problem."""


def cost_text(results: StudyResults, costs: Costs | None, palette: Palette) -> Text:
    """Cells, repeats, launches, time and memory.

    Args:
        results: The study, planned.
        costs: What it would take; None while that is found out.
        palette: The theme's colours.
    """
    study = results.study
    most = len(results.cells) * study.repeats.most
    often = f"up to {most:,}" if study.repeats.adaptive else f"{most:,}"
    out = Text()
    out.append(f"{plural(len(results.cells), 'cell')}, {often} repeats", f"bold {palette.ink}")
    if study.capacity.factor:
        out.append(f", up to {study.capacity.steps} loads", f"bold {palette.ink}")
    if costs is None:
        return out.append("\nfinding out what fits and how long it takes …", palette.muted)
    if costs.launches:
        out.append(f", {costs.launches:,} {'launch' if costs.launches == 1 else 'launches'}", palette.ink)
    if costs.seconds is None:
        out.append(" · how long is not known before the first repeat", palette.muted)
    else:
        out.append(" · about ", palette.ink)
        out.append(duration(costs.seconds), f"bold {palette.copper}")
        out.append(", roughly" if not study.repeats.adaptive else " at most, roughly", palette.muted)
    if costs.worst is not None and costs.worst.placement is not None:
        placement = costs.worst.placement
        out.append(f"\nmemory up to {byte_size(placement.sizes.total_bytes)}", palette.ink)
        room = placement.headroom_bytes
        words = f"{byte_size(room)} to spare" if room >= 0 else f"{byte_size(-room)} too much"
        out.append(f", {words}", palette.muted if room >= 0 else palette.failure)
    rows = [cell.fit for cell in costs.planned.values() if cell.fit is not None and cell.fit.reason]
    if rows:
        out.append(f"\n{rows[0].reason}", palette.muted)
    if costs.not_fitting:
        out.append(f"\n⊘ {plural(costs.not_fitting, 'cell')} will not fit", palette.failure)
    if costs.dropped is not None:
        out.append(f"\n▲ {dropped_text(results, costs)}", palette.caution)
    return out


def doubts_text(problems: Sequence[Problem], doubts: Sequence[Problem], palette: Palette) -> Text:
    """What keeps it from being measured, then what is doubtful, each with the key that goes there."""
    out = Text()
    if not problems and not doubts:
        return out.append("nothing is wrong with this plan, and nothing doubtful", palette.muted)
    for letter, (problem, mark, colour) in zip(
        LETTERS,
        [*((p, "✕", palette.failure) for p in problems), *((d, "▲", palette.caution) for d in doubts)],
        strict=False,
    ):
        out.append(f"{letter} ", f"bold {palette.ink}")
        out.append(f"{mark} ", colour)
        out.append(problem.what, palette.ink)
        rest = ". ".join(word for word in (problem.why, f"Try: {problem.remedy}" if problem.remedy else "") if word)
        out.append(f". {capitalised(rest)}\n" if rest else "\n", palette.muted)
    more = len(problems) + len(doubts) - len(LETTERS)
    if more > 0:
        out.append(f"and {more} more", palette.muted)
    return out
