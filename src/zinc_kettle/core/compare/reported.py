"""Figures that somebody else reported: never measured here, and always said to be so."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from zinc_kettle.core.plan.factors import Level


@dataclass(frozen=True, slots=True)
class Reported:
    """One figure of somebody else."""

    source: str
    """Who reports it, and where."""
    measure: str
    """Name of the measure."""
    value: float
    """In the measure's unit."""
    low: float | None = None
    high: float | None = None
    rig: str = ""
    model: str = ""
    quantization: str = ""
    workload: str = ""
    levels: Mapping[str, Level] = field(default_factory=dict)
    """Levels of factors, such as threads."""

    @property
    def name(self) -> str:
        """What it is a figure of, without its levels."""
        what = " ".join(word for word in (self.rig, self.model, self.quantization) if word)
        return f"{what or 'others'} (reported by {self.source})"

    @property
    def at(self) -> str:
        """Its levels, as they were given: `threads 4`; empty where there are none."""
        return ", ".join(f"{name.replace('_', ' ')} {level}" for name, level in self.levels.items())


def series(figures: Iterable[Reported], measure: str, factor: str) -> dict[str, list[tuple[float, Reported]]]:
    """Figures of one measure over the levels of a factor, by name, in ascending order of the level."""
    out: dict[str, list[tuple[float, Reported]]] = {}
    for figure in figures:
        level = figure.levels.get(factor)
        if figure.measure == measure and isinstance(level, int) and not isinstance(level, bool):
            out.setdefault(figure.name, []).append((float(level), figure))
    return {name: sorted(points, key=lambda p: p[0]) for name, points in out.items()}


def pairs(figures: Iterable[Reported], x: str, y: str) -> dict[str, list[tuple[Reported, Reported]]]:
    """Two measures of the same thing at the same levels, by name."""
    places: dict[tuple[object, ...], dict[str, Reported]] = {}
    for figure in figures:
        place = figure.name, figure.workload, tuple(sorted(figure.levels.items()))
        places.setdefault(place, {})[figure.measure] = figure
    out: dict[str, list[tuple[Reported, Reported]]] = {}
    for both in places.values():
        if x in both and y in both:
            out.setdefault(both[x].name, []).append((both[x], both[y]))
    return out


def of_measure(figures: Iterable[Reported], measure: str) -> list[Reported]:
    """Figures of one measure, the largest first."""
    return sorted((f for f in figures if f.measure == measure), key=lambda f: -f.value)
