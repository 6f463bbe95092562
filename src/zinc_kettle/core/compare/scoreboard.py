"""Configurations by their score over the tasks of the suite: on one scale, whoever measured them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from zinc_kettle.core.compare.lineup import Entrant, Group, Left, Lineup, Place, all_in_turn, by_size, ranked, shared
from zinc_kettle.core.compare.score import FULL, SCORED, Reference, full_seconds, scored_cells
from zinc_kettle.core.preferences import Money

NO_SCORE = (
    "it has no task with three repeats that is as the reference's: texts, lengths, load, or the version of the "
    "definitions differ"
)


def scoreboard(entrants: Sequence[Entrant], reference: Reference) -> Lineup:
    """Sides from the highest score to the lowest, over the tasks that all of them and the reference have.

    Args:
        entrants: One for each configuration; see `core.compare.score.configurations`.
        reference: What has 100.
    """
    work = {e.name: scored_cells(e.side, reference) for e in entrants}
    left = [Left(e, NO_SCORE) for e in entrants if not work[e.name]]
    groups, count = [], 0
    for title, members in by_size([e for e in entrants if work[e.name]]).items():
        kept, cells, lost = shared(members, SCORED, work)
        left += lost
        if kept:
            count = max(count, len(cells[kept[0].name]))
            places = ranked(kept, cells, SCORED, "", Money(), None)
            groups.append(Group(title, tuple(_scored(place, reference) for place in places)))
    there = [place.entrant for group in groups for place in group.places]
    return Lineup(SCORED, "score", tuple(groups), tuple(left), count, paired=all_in_turn(there), reference=reference)


def _scored(place: Place, reference: Reference) -> Place:
    value, low, high = (FULL * full_seconds(place.cells, reference) / v for v in (place.value, place.high, place.low))
    return replace(place, value=value, low=low, high=high)


def best_of_each(found: Lineup, factor: str) -> Lineup:
    """The same with only the best place of each level of a factor, in each class of size.

    Args:
        found: The lineup.
        factor: Such as `rig` or `model`.
    """
    groups = []
    for group in found.groups:
        firsts: dict[frozenset[object], Place] = {}
        for place in group.places:
            firsts.setdefault(frozenset(cell.cell.settings.get(factor) for cell in place.cells), place)
        groups.append(replace(group, places=tuple(firsts.values())))
    return replace(found, groups=tuple(groups))
