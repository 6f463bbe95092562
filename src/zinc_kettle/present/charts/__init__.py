"""The kinds of chart there are. To add one, write its builder and its entry in a file and name it in CHART_KINDS."""

from __future__ import annotations

from zinc_kettle.core.chart import Chart
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.errors import UsageError
from zinc_kettle.present.charts import cell, curves, lines, map, planes, shares, turns
from zinc_kettle.present.charts.kinds import ChartKind, Subject

CHART_KINDS: dict[str, ChartKind] = {
    kind.name: kind
    for kind in (
        map.MAP,
        lines.LINES,
        planes.FRONTIER,
        curves.LOAD_KIND,
        curves.SCALING_KIND,
        curves.TTFT_KIND,
        curves.DEPTH_KIND,
        turns.TURNS,
        planes.SIZE,
        curves.MEMORY_KIND,
        shares.LATENCY,
        shares.WHERE,
        planes.ENERGY,
        planes.PREDICTED,
        cell.REPEATS,
        cell.REQUESTS,
        cell.TRACES,
    )
}
"""By name, in the order in which they are offered."""


def offered(subject: Subject) -> list[ChartKind]:
    """The kinds the data allow."""
    return [kind for kind in CHART_KINDS.values() if not kind.needs(subject)]


def build(kind: str, subject: Subject) -> Chart:
    """A chart of a study, or of one of its cells.

    Raises:
        UsageError: There is no such kind or measure, or the data do not allow it.
    """
    if kind not in CHART_KINDS:
        raise UsageError(f"there is no chart kind {kind!r}", remedy="one of: " + ", ".join(CHART_KINDS))
    if subject.measure not in MEASURES:
        raise UsageError(f"there is no measure {subject.measure!r}", remedy="one of: " + ", ".join(MEASURES))
    missing = CHART_KINDS[kind].needs(subject)
    if missing:
        raise UsageError(f"the chart {kind!r} cannot be drawn", why=missing, remedy=_instead(subject))
    return CHART_KINDS[kind].build(subject)


def _instead(subject: Subject) -> str:
    names = [kind.name for kind in offered(subject)]
    return f"these can be drawn: {', '.join(names)}" if names else "measure the study first"
