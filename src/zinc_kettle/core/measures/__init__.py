"""Every measure: one entry with its function, unit and words. Definitions and reasons: docs/measures.md.

To add one, write its function and its entry in the file of its subject; sheets, help, JSON and docs follow. A figure
that cannot be had is a `Missing` with a reason, never a guess.
"""

from __future__ import annotations

from collections.abc import Sequence

from zinc_kettle.core.measures import decode, machine, model, power, prefill, speculation, traffic
from zinc_kettle.core.measures import latency as answering
from zinc_kettle.core.measures.kinds import Group, Measure, PerRepeat
from zinc_kettle.core.record.repeat import Figure, Missing, Repeat

MEASURES: dict[str, Measure] = {
    measure.name: measure
    for subject in (answering, traffic, prefill, decode, speculation, power, machine, model)
    for measure in subject.MEASURES
}
"""By name, in the order in which sheets and tables show them."""
MAP_MEASURES: tuple[str, ...] = tuple(m.name for m in sorted(MEASURES.values(), key=lambda m: m.map_rank) if m.map_rank)
"""What the map can show, in the order its key walks through them."""
_PER_REPEAT = {name: m.source.figure for name, m in MEASURES.items() if isinstance(m.source, PerRepeat)}


def groups() -> dict[Group, list[Measure]]:
    """The measures as they stand together on the sheet."""
    out: dict[Group, list[Measure]] = {}
    for measure in MEASURES.values():
        if measure.sheet:
            out.setdefault(measure.group, []).append(measure)
    return out


def repeat_figures(repeat: Repeat) -> dict[str, Figure]:
    """Every measure that a single repeat has, by name, kept with it; empty where nothing was measured."""
    if repeat.measured and not repeat.figures:
        repeat.figures.update({name: figure(repeat) for name, figure in _PER_REPEAT.items()})
    return repeat.figures


def per_repeat(repeats: Sequence[Repeat], name: str) -> list[float]:
    """One measure of single repeats, of those that have it, in order."""
    figures = [f[name] for f in (repeat_figures(r) for r in repeats) if name in f]
    return [f for f in figures if not isinstance(f, Missing)]
