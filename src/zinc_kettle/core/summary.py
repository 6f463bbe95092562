"""One cell: its repeats drawn together into values with bounds, kept so that a study opens without its timelines."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from zinc_kettle.core.cautions import KINDS, Caution, Setting, cell_cautions
from zinc_kettle.core.devices import DeviceUse, typical_use
from zinc_kettle.core.energy import energy_source
from zinc_kettle.core.family import PromptPoint, Turn, prompt_point, turns_of_requests
from zinc_kettle.core.fingerprint import DEFINITIONS_VERSION, fingerprint
from zinc_kettle.core.measures import MEASURES, per_repeat, repeat_figures
from zinc_kettle.core.measures.decode import ONE_CHUNK
from zinc_kettle.core.measures.kinds import OfCell, OfFacts, OverGaps, OverLaunches, OverRequests, PerRepeat
from zinc_kettle.core.record.repeat import Missing, Repeat
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.core.record.value import CellFigure, Value
from zinc_kettle.core.stats import median, median_interval, quantile, thin
from zinc_kettle.core.stats.interval import pooled_quantile_interval
from zinc_kettle.core.units import NS_PER_S

NOT_MEASURED = Missing("nothing was measured")


@dataclass(frozen=True)
class CellSummary:
    """All that is told of a cell, apart from single requests."""

    done: int = 0
    """Measured repeats."""
    failed: int = 0
    values: dict[str, CellFigure] = field(default_factory=dict)
    """Every measure by name."""
    series: dict[str, tuple[float, ...]] = field(default_factory=dict)
    """Every measure of each repeat that has it, in the order they ran; of each launch for the load time."""
    blocks: tuple[int, ...] = ()
    """The block of each measured repeat, in the order they ran."""
    cautions: tuple[Caution, ...] = ()
    prompt_points: tuple[PromptPoint, ...] = ()
    """Uncached prompt tokens and TTFT in seconds of each unqueued repeat: what a slope is fitted through."""
    turns: tuple[Turn, ...] = ()
    stamps: tuple[str, ...] = ()
    """Which stamps its figures use."""
    counted_by: tuple[str, ...] = ()
    """Where its token counts come from."""
    energy_sources: tuple[str, ...] = ()
    """What told its energy."""
    file_cached: float | None = None
    """Share of the model's file that was in memory before a load, the median over launches; None where not known."""
    took_s: float = 0.0
    """How long a repeat took, in the median: its load where it had one, warm-up, requests; 0 where nothing tells."""

    devices: tuple[DeviceUse, ...] = ()
    """What each fast device of its rig did, the median over repeats."""

    def value(self, name: str) -> CellFigure:
        """One measure.

        Raises:
            KeyError: No such measure.
        """
        return self.values.get(MEASURES[name].name, NOT_MEASURED)


EMPTY = CellSummary()
MEASURED: tuple[str, ...] = tuple(name for name, m in MEASURES.items() if not isinstance(m.source, OfFacts))
"""The measures that a summary holds."""
CATALOGUE = int(fingerprint([DEFINITIONS_VERSION, sorted(MEASURES), sorted(KINDS)], length=7), 16)
"""Changes with the definitions and with each measure or caution there is: a summary made under another is stale."""


def summarise(measured: Sequence[Repeat], failed: Sequence[Repeat] = (), setting: Setting | None = None) -> CellSummary:
    """Draw the repeats of a cell together.

    Args:
        measured: Repeats that count, in the order they ran.
        failed: Repeats that failed; they have cautions and no figures.
        setting: What cautions need to know besides.
    """
    requests = [t for r in measured for t in r.measured]
    points = [point for r in measured if (point := prompt_point(r)) is not None]
    return CellSummary(
        done=len(measured),
        failed=len(failed),
        values={name: cell_value(measured, name) for name in MEASURED} if measured else {},
        series={name: values for name in MEASURES if (values := tuple(series(measured, name)))},
        blocks=tuple(r.block for r in measured),
        cautions=tuple(cell_cautions([*measured, *failed], setting or Setting())),
        prompt_points=tuple(points),
        turns=tuple(turns_of_requests(requests)),
        stamps=tuple(sorted({t.stamp_source for t in requests})),
        counted_by=tuple(sorted({t.counted_by for t in requests})),
        energy_sources=tuple(sorted({source for r in measured if (source := energy_source(r))})),
        file_cached=_file_cached(measured),
        took_s=median(_lengths(measured)) if measured else 0.0,
        devices=typical_use([r.machine.devices for r in measured if r.machine is not None]),
    )


def _file_cached(repeats: Sequence[Repeat]) -> float | None:
    launches = {r.launch.launch_id: r.launch.file_cached_share for r in repeats if r.launch is not None}
    known = [share for share in launches.values() if share is not None]
    return median(known) if known else None


def _lengths(repeats: Sequence[Repeat]) -> list[float]:
    """Seconds of each repeat; a load counts with the first repeat of its launch."""
    out, seen = [], set[str]()
    for r in repeats:
        span = max(t.end_ns for t in r.timelines) - min(t.sent_ns for t in r.timelines)
        launch = r.launch
        if launch is not None and launch.launch_id not in seen:
            seen.add(launch.launch_id)
            span += launch.load_ns or 0
        out.append(span / NS_PER_S)
    return out


def cell_value(repeats: Sequence[Repeat], name: str) -> CellFigure:
    """One measure of a cell: median over repeats with interval or range; a reason where it cannot be had.

    Args:
        repeats: Finished repeats, in the order they ran.
        name: Of the measure.

    Raises:
        KeyError: No such measure.
    """
    source, unit = MEASURES[name].source, MEASURES[name].unit
    assert not isinstance(source, OfFacts), "nobody measures it"
    if not repeats:
        return NOT_MEASURED
    if isinstance(source, PerRepeat):
        return _over_repeats(repeats, name, unit)
    if isinstance(source, OverRequests):
        return _request_quantile(repeats, source.value, source.p, unit)
    if isinstance(source, OverGaps):
        return _gap_quantile(repeats, source, unit)
    if isinstance(source, OverLaunches):
        values = _of_launches(repeats, source)
        return _median(values, unit, of="launches") if values else Missing(source.missing)
    return source.figure(repeats)


def series(repeats: Sequence[Repeat], name: str) -> list[float]:
    """One measure of each repeat that has it, in order; of each launch where it belongs to launches."""
    source = MEASURES[name].source
    if isinstance(source, OverLaunches):
        return _of_launches(repeats, source)
    if isinstance(source, OverGaps):
        return [quantile(np.concatenate(gaps), source.p) for r in repeats if (gaps := _gaps(r, source))]
    if isinstance(source, OverRequests):
        pools = [_with_lost(answered, _waited(r)) for r in repeats if len(answered := _values(r, source.value))]
        return [quantile(pool, source.p) for pool in pools]
    if isinstance(source, OfCell | OfFacts):
        return []
    return per_repeat(repeats, name)


def _median(values: Sequence[float], unit: str, *, of: str = "repeats") -> Value:
    return Value.of_interval(median_interval(values), unit, of=of)


def _over_repeats(repeats: Sequence[Repeat], name: str, unit: str) -> CellFigure:
    values = per_repeat(repeats, name)
    if values:
        return _median(values, unit)
    reasons = [f[name] for f in (repeat_figures(r) for r in repeats) if name in f]
    return next((f for f in reasons if isinstance(f, Missing)), NOT_MEASURED)


def _of_launches(repeats: Sequence[Repeat], source: OverLaunches) -> list[float]:
    launches = {r.launch.launch_id: r.launch for r in repeats if r.launch is not None}
    return [value for launch in launches.values() if (value := source.value(launch)) is not None]


def _values(repeat: Repeat, value: Callable[[Timeline], float | None]) -> npt.NDArray[np.float64]:
    return np.array([v for t in repeat.measured if (v := value(t)) is not None], dtype=np.float64)


def _request_quantile(
    repeats: Sequence[Repeat], value: Callable[[Timeline], float | None], p: float, unit: str
) -> CellFigure:
    answered = [_values(r, value) for r in repeats]
    there = sum(len(g) for g in answered)
    if not there:
        return Missing("no request was answered")
    latest = max(float(g.max()) for g in answered if len(g))
    whole = [_with_lost(g, _waited(r), latest) for g, r in zip(answered, repeats, strict=True)]
    groups = [g for g in whole if len(g)]
    count = sum(len(g) for g in groups)
    # Where between two requests the percentile lies, by the rule of quantile(): beyond the last that was answered?
    beyond = p * (count - 1) > there - 1
    # Within one repeat requests are all there is to resample; they are then taken to be independent.
    of = "requests" if len(groups) == 1 else "repeats"
    if len(groups) == 1:
        groups = [groups[0][i : i + 1] for i in range(count)]
    found = pooled_quantile_interval(groups, p)
    return Value.of_interval(found, unit, of=of, thin=thin(count, p), beyond=beyond)


def _waited(repeat: Repeat) -> list[float]:
    """How long each request that was never answered had been waited for, in seconds."""
    return [(t.end_ns - t.wanted_ns) / NS_PER_S for t in repeat.lost]


def _with_lost(
    answered: npt.NDArray[np.float64], waited: Sequence[float], latest: float | None = None
) -> npt.NDArray[np.float64]:
    """What requests took, with those that failed as later than all that were answered.

    Args:
        answered: Shape (requests,), seconds.
        waited: How long each of the others had been waited for.
        latest: The latest answer; None for that of `answered`.
    """
    most = float(answered.max()) if latest is None else latest
    return np.concatenate([answered, [max(most, seconds) for seconds in waited]])


def _gaps(repeat: Repeat, source: OverGaps) -> list[npt.NDArray[np.float64]]:
    """The gaps of each request, in seconds."""
    some = [t for t in repeat.measured if len(t.stamps) > 1]
    if not source.tokens:
        return [t.chunk_gaps_ns / NS_PER_S for t in some]
    return [t.token_gaps_ns / NS_PER_S for t in some if t.token_gaps_ns is not None]


def _gap_quantile(repeats: Sequence[Repeat], source: OverGaps, unit: str) -> CellFigure:
    by_repeat, p = [_gaps(r, source) for r in repeats], source.p
    alone = len(repeats) == 1
    groups = by_repeat[0] if alone else [np.concatenate(gaps) for gaps in by_repeat if gaps]
    if not groups:
        some = any(len(t.stamps) > 1 for r in repeats for t in r.measured)
        return Missing("the engine does not say how many tokens each chunk holds") if some else ONE_CHUNK
    of, count = "requests" if alone else "repeats", sum(len(g) for g in groups)
    return Value.of_interval(pooled_quantile_interval(groups, p), unit, of=of, thin=thin(count, p))
