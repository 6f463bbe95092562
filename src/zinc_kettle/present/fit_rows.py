"""Fit as rows: each candidate model on one rig, with where it goes, how fast it may run, and what would make it fit."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from zinc_kettle.core.fit.placement import Device, Placement, place
from zinc_kettle.core.fit.predict import Calibration, Prediction, placed_speed, prefill_speed
from zinc_kettle.core.fit.remedies import GOOD, Remedy, best_quantization, remedies
from zinc_kettle.core.fit.sizing import DEPTH_SHARE, LaunchSettings
from zinc_kettle.core.model_shape import ModelShape
from zinc_kettle.core.rig import BUSY_CORES, Rig
from zinc_kettle.core.units import byte_size, digits

Placing = Callable[[ModelShape, LaunchSettings, Sequence[Device]], Placement]


@dataclass(frozen=True)
class Candidate:
    """A model one may want to run."""

    name: str
    shape: ModelShape | None
    where: str
    """`file`, or `made up` for the rehearsal's models."""
    family: str = ""
    """Models that differ only in quantization share it."""
    trouble: str = ""
    levels: Mapping[str, str] = field(default_factory=dict)
    """How a study names it."""

    @property
    def key(self) -> str:
        """What tells it from all others."""
        return f"{self.name} {self.where} {' '.join(self.levels.values())}"


@dataclass(frozen=True, slots=True)
class Measured:
    """The decode speed a study measured of a model on a rig, with a single stream."""

    value: float
    low: float
    high: float
    how: str
    """With which settings, and in which study."""


@dataclass(frozen=True)
class FitRow:
    """One candidate on one rig."""

    candidate: Candidate
    placement: Placement | None
    decode: Prediction | None = None
    prefill: Prediction | None = None
    reason: str = ""
    """Why there is no placement or no prediction."""
    best: bool = False
    """The highest precision of its family that fits and keeps the pace."""
    keeps_pace: bool | None = None
    """Whether its predicted speed keeps the pace, band and all; None where the pace lies within the band, or nothing is
    predicted."""
    measured: Measured | None = None
    """What was measured of it on this rig."""

    @property
    def fast_enough(self) -> bool:
        """True where it keeps the pace by what was measured, else by what is predicted."""
        speed = self.measured or self.decode
        return speed is not None and self.keeps_pace is not False and (self.pace is None or speed.value >= self.pace)

    pace: float | None = None
    """The decode speed that is needed."""


@dataclass(frozen=True)
class Detail:
    """What the chosen row shows besides."""

    remedies: list[Remedy] = field(default_factory=list)
    speeds: list[Prediction | None] = field(default_factory=list)
    """Decode that is predicted with each of them."""
    best: tuple[str, Placement] | None = None
    paced: bool = False
    """True where the best is known to keep the pace, by a predicted speed."""
    slow: bool = False
    """True where something fits, but nothing that keeps the pace."""


def fit_rows(
    candidates: Sequence[Candidate],
    rig: Rig,
    wish: LaunchSettings,
    *,
    threads: int | None,
    calibration: Calibration,
    depth: float | None = None,
    pace: float | None = None,
    measured: Mapping[str, Measured] | None = None,
    placing: Placing = place,
) -> list[FitRow]:
    """A row for each candidate, in their order.

    Args:
        candidates: Models to ask about.
        rig: The rig, with its facts.
        wish: How the model is to be run.
        threads: None for the best known.
        calibration: What was fitted to measurements on it before.
        depth: Tokens in context at which decode is predicted; None for half of it full.
        pace: The decode speed that is needed, tokens per second; None for any.
        measured: What was measured on this rig, by the candidate's name.
        placing: Finds where a model goes; `place`, or one that keeps what it found, for who asks ten thousand times.
    """
    devices = rig.devices()
    deep = wish.context * DEPTH_SHARE if depth is None else depth
    rows = [_row(c, rig, devices, wish, threads, calibration, deep, placing) for c in candidates]
    told = measured or {}
    believed = rig.probe is None or rig.probe.busy_cores <= BUSY_CORES
    rows = [
        replace(
            r,
            pace=pace,
            keeps_pace=_keeps(r.decode, pace) if believed else None,
            measured=told.get(r.candidate.name),
        )
        for r in rows
    ]
    marked = set()
    for family in {r.candidate.family for r in rows if r.candidate.family}:
        good = [r for r in rows if r.candidate.family == family and r.placement and r.placement.state in GOOD]
        enough = [r for r in good if r.fast_enough]  # a choice needs a figure
        if enough:
            marked.add(id(max(enough, key=_bits)))
    return [replace(r, best=True) if id(r) in marked else r for r in rows]


def _keeps(decode: Prediction | Measured | None, pace: float | None) -> bool | None:
    if decode is None or pace is None:
        return None
    return True if decode.low >= pace else False if decode.high < pace else None


FILTERS = ("all", "what fits", "what fits and keeps the pace")
SORTS = ("as found", "fastest first", "highest precision first", "smallest first")


def chosen_rows(rows: Sequence[FitRow], which: str, order: str) -> list[FitRow]:
    """Rows that pass a filter, in an order.

    Args:
        rows: All of them.
        which: One of FILTERS.
        order: One of SORTS.
    """
    out = list(rows)
    if which != FILTERS[0]:
        out = [r for r in out if r.placement is not None and r.placement.works]
    if which == FILTERS[2]:
        out = [r for r in out if r.fast_enough]
    if order == SORTS[1]:
        out.sort(key=lambda r: -(r.decode.value if r.decode else 0.0))
    elif order == SORTS[2]:
        out.sort(key=lambda r: -_bits(r))
    elif order == SORTS[3]:
        out.sort(key=lambda r: r.candidate.shape.weights_bytes if r.candidate.shape else 0)
    return out


def _bits(row: FitRow) -> float:
    return row.candidate.shape.bits_per_weight if row.candidate.shape else 0.0


def _row(
    candidate: Candidate,
    rig: Rig,
    devices: list[Device],
    wish: LaunchSettings,
    threads: int | None,
    calibration: Calibration,
    depth: float,
    placing: Placing,
) -> FitRow:
    if candidate.shape is None:
        return FitRow(candidate, None, reason=candidate.trouble)
    if not devices:
        return FitRow(candidate, None, reason=rig.trouble or "how much memory the rig has is not known")
    placement = placing(candidate.shape, wish, devices)
    machine = rig.machine(threads)
    if not placement.works:
        return FitRow(candidate, placement)
    decode = placed_speed(candidate.shape, placement, machine, calibration, depth=depth, cache=wish.cache)
    prefill = None
    if machine is not None and placement.layers_on_devices == 0:
        prefill = prefill_speed(candidate.shape, machine, calibration)
    reason = "" if decode else "no prediction without a bandwidth: probe the rig, or type it in"
    return FitRow(candidate, placement, decode, prefill, reason)


def detail(
    row: FitRow,
    rig: Rig,
    wish: LaunchSettings,
    rows: Sequence[FitRow] = (),
    *,
    calibration: Calibration | None = None,
    threads: int | None = None,
) -> Detail:
    """What would make it fit, and the best quantization that does and that keeps the pace.

    Args:
        row: The row.
        rig: The rig, with its facts.
        wish: How the model is to be run.
        rows: All rows: a model of a file is only advised in quantizations that are among them.
        calibration: For the speed of other quantizations; nothing is held against a pace without it.
        threads: Of these predictions.
    """
    devices, shape = rig.devices(), row.candidate.shape
    if shape is None or not devices:
        return Detail()
    among = None
    if row.candidate.where == "file":
        family = [r.candidate.shape for r in rows or (row,) if r.candidate.family == row.candidate.family]
        among = {s.main_type for s in family if s is not None}

    def speed_of(other: ModelShape, placement: Placement) -> Prediction | None:
        if calibration is None:
            return None
        depth, cache = placement.wish.context * DEPTH_SHARE, placement.wish.cache
        return placed_speed(other, placement, rig.machine(threads), calibration, depth=depth, cache=cache)

    def keeps(other: ModelShape, placement: Placement) -> bool:
        speed = None if row.pace is None else speed_of(other, placement)
        return speed is None or row.pace is None or speed.value >= row.pace

    best = best_quantization(shape, wish, devices, among=among, keeps=keeps)
    fits = best_quantization(shape, wish, devices, among=among)
    found = remedies(shape, wish, devices, among=among)
    speeds = [speed_of(remedy.shape, remedy.placement) for remedy in found]
    paced = row.pace is not None and best is not None and speed_of(shape.at(best[0]), best[1]) is not None
    return Detail(found, speeds, best, paced, slow=best is None and fits is not None)


def remedy_lines(more: Detail) -> list[tuple[str, str]]:
    """Each remedy, and what it costs: `answers lose some quality; about 12 tok/s`."""
    out = []
    for remedy, speed in zip(more.remedies, more.speeds, strict=True):
        told = "" if speed is None else f"; about {digits(speed.value, significant=2)} tok/s"
        out.append((remedy.what, f"{remedy.cost}{told}"))
    return out


def verdict(row: FitRow) -> str:
    """The state in plain words, with its headroom."""
    placement = row.placement
    if placement is None:
        return row.reason
    headroom = placement.headroom_bytes
    if placement.state == "will not fit":
        return f"will not fit: {byte_size(-headroom)} too much"
    on = placement.layers_on_devices
    words = {
        "fits": "fits",
        "split": "fits, split over several devices",
        "shared": f"shared: {on} of {placement.layers} layers on devices, the rest in main memory, as chosen",
        "spills": f"spills: {on} of {placement.layers} layers on devices, the rest in slower main memory",
    }
    return f"{words[placement.state]}; {byte_size(headroom)} to spare{pace_words(row)}"


def pace_words(row: FitRow) -> str:
    """`, keeps the pace of 5.3 tok/s`; empty where no pace was asked for, or nothing is predicted."""
    if row.pace is None or (row.decode is None and row.measured is None):
        return ""
    needed = f"the pace of {digits(row.pace, significant=2)} tok/s"
    said = ""
    keeps = row.keeps_pace
    if row.measured is not None:
        keeps, said = _keeps(row.measured, row.pace), ", measured"
    words = {True: "keeps", False: "is slower than", None: "may or may not keep"}
    return f"; {words[keeps]} {needed}{said}"


def short_verdict(row: FitRow) -> str:
    """The state and its one number, for a line of a list."""
    placement = row.placement
    if placement is None:
        return row.reason
    if placement.state == "will not fit":
        return f"will not fit, {byte_size(-placement.headroom_bytes)} short"
    if placement.state in {"spills", "shared"}:
        return f"{placement.state}, {placement.layers_on_devices} of {placement.layers} on device"
    return f"{placement.state}, {byte_size(placement.headroom_bytes)} spare"


def speed_text(prediction: Prediction | None) -> str:
    """`12.1 tok/s (9.0–16)`; a dash where there is none."""
    if prediction is None:
        return "–"
    two = (digits(prediction.low, significant=2), digits(prediction.high, significant=2))
    return f"{digits(prediction.value, significant=2)} tok/s ({two[0]}–{two[1]})"


def fit_record(row: FitRow, rig: Rig | None, wish: LaunchSettings) -> dict[str, Any]:
    """A row as one JSON object."""
    shape, placement = row.candidate.shape, row.placement
    out: dict[str, Any] = {
        "model": row.candidate.name,
        "rig": rig.name if rig else None,
        "simulated": bool(rig and rig.simulated),
        "reason": row.reason or None,
        "context": wish.context,
        "slots": wish.slots,
        "cache_precision": wish.cache,
    }
    if shape is not None:
        out |= {
            "architecture": shape.architecture,
            "layers": shape.layers,
            "heads": shape.heads,
            "kv_heads": max(shape.kv_heads, default=0),
            "head_dim": shape.key_dim,
            "weights": shape.weights,
            "weight_type": shape.main_type,
            "label": shape.label,
            "bits_per_weight": round(shape.bits_per_weight, 4),
            "bits_by_kind": {k: round(v, 4) for k, v in shape.bits_by_kind().items()},
            "notes": list(shape.notes),
        }
    if placement is not None:
        out |= sizes_record(placement)
        out |= {"state": placement.state, "headroom_bytes": placement.headroom_bytes, "best": row.best}
    out |= {"pace": row.pace, "keeps_pace": row.keeps_pace}
    out["measured"] = (
        None
        if row.measured is None
        else {
            "value": row.measured.value,
            "low": row.measured.low,
            "high": row.measured.high,
            "unit": "tokens/s",
            "how": row.measured.how,
        }
    )
    for name, prediction in (("decode", row.decode), ("prefill", row.prefill)):
        out[name] = (
            None
            if prediction is None
            else {
                "value": prediction.value,
                "low": prediction.low,
                "high": prediction.high,
                "unit": "tokens/s",
                "origin": prediction.origin,
                "predicted": True,
            }
        )
    return out


def sizes_record(placement: Placement) -> dict[str, Any]:
    """The sizes of a placement as JSON values."""
    need = placement.sizes
    return {
        "weights_bytes": need.weights_bytes,
        "kv_bytes": need.kv_bytes,
        "buffers_bytes": need.buffers_bytes,
        "repacked_bytes": need.repacked_bytes,
        "engine_bytes": need.engine_bytes,
        "total_bytes": need.total_bytes,
        "placement": [
            {
                "device": s.device.name,
                "layers": s.layers,
                "weights_bytes": s.weights_bytes,
                "kv_bytes": s.kv_bytes,
                "buffers_bytes": s.buffers_bytes,
                "usable_bytes": s.device.usable_bytes,
                "headroom_bytes": s.headroom_bytes,
            }
            for s in placement.shares
        ],
    }
