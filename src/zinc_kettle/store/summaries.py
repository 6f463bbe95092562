"""What is told of a cell, as the store keeps it; only ever a copy of what its requests give again."""

from __future__ import annotations

import msgspec

from zinc_kettle.core.cautions import KINDS, Caution
from zinc_kettle.core.devices import DeviceUse
from zinc_kettle.core.family import PromptPoint, Turn
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.record.repeat import Missing
from zinc_kettle.core.record.value import CellFigure, Value
from zinc_kettle.core.stats.interval import Bound
from zinc_kettle.core.summary import CellSummary
from zinc_kettle.errors import StoreError


class StoredValue(msgspec.Struct, array_like=True, gc=False):
    """A headline; its unit is the measure's."""

    value: float
    low: float
    high: float
    bound: Bound
    n: int
    of: str
    thin: bool
    beyond: bool = False


class StoredSummary(msgspec.Struct):
    """A cell's summary; a figure that is missing is its reason."""

    done: int
    failed: int
    values: dict[str, StoredValue | str]
    series: dict[str, tuple[float, ...]]
    blocks: tuple[int, ...]
    cautions: list[tuple[str, str]]
    prompt_points: tuple[PromptPoint, ...]
    turns: tuple[Turn, ...]
    stamps: tuple[str, ...]
    took_s: float = 0.0
    counted_by: tuple[str, ...] = ()
    energy_sources: tuple[str, ...] = ()
    file_cached: float | None = None
    devices: tuple[DeviceUse, ...] = ()


_encode = msgspec.msgpack.Encoder().encode
_decode = msgspec.msgpack.Decoder(StoredSummary).decode


def encode_summary(s: CellSummary) -> bytes:
    """A summary for keeping."""
    values = {name: _stored(figure) for name, figure in s.values.items()}
    cautions = [(c.code, c.evidence) for c in s.cautions]
    told = StoredSummary(
        s.done,
        s.failed,
        values,
        s.series,
        s.blocks,
        cautions,
        s.prompt_points,
        s.turns,
        s.stamps,
        took_s=s.took_s,
        counted_by=s.counted_by,
        energy_sources=s.energy_sources,
        file_cached=s.file_cached,
        devices=s.devices,
    )
    return _encode(told)


def _stored(figure: CellFigure) -> StoredValue | str:
    if isinstance(figure, Missing):
        return figure.reason
    f = figure
    return StoredValue(f.value, f.low, f.high, f.bound, f.n, f.of, f.thin, f.beyond)


def decode_summary(data: bytes) -> CellSummary:
    """Read what `encode_summary` wrote.

    Raises:
        StoreError: It is damaged.
    """
    try:
        s = _decode(data)
    except msgspec.MsgspecError as error:
        raise StoreError("a stored cell summary cannot be read", why=str(error)) from error
    return CellSummary(
        s.done,
        s.failed,
        {name: _figure(name, kept) for name, kept in s.values.items() if name in MEASURES},
        s.series,
        s.blocks,
        tuple(Caution(*c) for c in s.cautions if c[0] in KINDS),
        s.prompt_points,
        s.turns,
        s.stamps,
        took_s=s.took_s,
        counted_by=s.counted_by,
        energy_sources=s.energy_sources,
        file_cached=s.file_cached,
        devices=s.devices,
    )


def _figure(name: str, kept: StoredValue | str) -> CellFigure:
    if isinstance(kept, str):
        return Missing(kept)
    unit = MEASURES[name].unit
    return Value(kept.value, kept.low, kept.high, kept.bound, kept.n, unit, kept.of, kept.thin, kept.beyond)
