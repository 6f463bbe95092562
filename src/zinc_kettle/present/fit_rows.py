"""Fit as rows: each candidate model on one rig, with where it goes, how fast it may run, and what would make it fit."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from zinc_kettle.core.fit.placement import Device, Placement, place
from zinc_kettle.core.fit.predict import Calibration, Prediction, placed_speed, prefill_speed
from zinc_kettle.core.fit.remedies import GOOD, Remedy, best_quantization, remedies
from zinc_kettle.core.fit.sizing import Wish
from zinc_kettle.core.model_shape import ModelShape
from zinc_kettle.core.rig import Rig
from zinc_kettle.core.units import byte_size, digits

DEPTH_SHARE = 0.5
"""Speed is predicted with the context half full."""


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
    """The best quantization of its family that fits."""


@dataclass(frozen=True)
class Detail:
    """What the chosen row shows besides."""

    remedies: list[Remedy] = field(default_factory=list)
    best: tuple[str, Placement] | None = None


def fit_rows(
    candidates: Sequence[Candidate],
    rig: Rig,
    wish: Wish,
    *,
    threads: int | None,
    calibration: Calibration,
    depth: float | None = None,
) -> list[FitRow]:
    """A row for each candidate, in their order.

    Args:
        candidates: Models to ask about.
        rig: The rig, with its facts.
        wish: How the model is to be run.
        threads: None for the best known.
        calibration: What was fitted to measurements on it before.
        depth: Tokens in context at which decode is predicted; None for half of it full.
    """
    devices = rig.devices()
    deep = wish.context * DEPTH_SHARE if depth is None else depth
    rows = [_row(c, rig, devices, wish, threads, calibration, deep) for c in candidates]
    marked = set()
    for family in {r.candidate.family for r in rows if r.candidate.family}:
        good = [r for r in rows if r.candidate.family == family and r.placement and r.placement.state in GOOD]
        if good:
            marked.add(id(max(good, key=_bits)))
    return [
        r if id(r) not in marked else FitRow(r.candidate, r.placement, r.decode, r.prefill, r.reason, best=True)
        for r in rows
    ]


def _bits(row: FitRow) -> float:
    return row.candidate.shape.bits_per_weight if row.candidate.shape else 0.0


def _row(
    candidate: Candidate, rig: Rig, devices: list[Device], wish: Wish, threads: int | None, calibration: Calibration,
    depth: float,
) -> FitRow:  # fmt: skip
    if candidate.shape is None:
        return FitRow(candidate, None, reason=candidate.trouble)
    if not devices:
        return FitRow(candidate, None, reason=rig.trouble or "how much memory the rig has is not known")
    placement = place(candidate.shape, wish, devices)
    machine = rig.machine(threads)
    if not placement.works:
        return FitRow(candidate, placement)
    decode = placed_speed(candidate.shape, placement, machine, calibration, depth=depth, cache=wish.cache)
    prefill = None
    if machine is not None and placement.layers_on_devices == 0:
        prefill = prefill_speed(candidate.shape, machine, calibration)
    reason = "" if decode else "no prediction without a bandwidth: probe the rig, or type it in"
    return FitRow(candidate, placement, decode, prefill, reason)


def detail(row: FitRow, rig: Rig, wish: Wish) -> Detail:
    """What would make it fit, and the best quantization that does."""
    devices, shape = rig.devices(), row.candidate.shape
    if shape is None or not devices:
        return Detail()
    return Detail(remedies(shape, wish, devices), best_quantization(shape, wish, devices))


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
    return f"{words[placement.state]}; {byte_size(headroom)} to spare"


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


def fit_record(row: FitRow, rig: Rig | None, wish: Wish) -> dict[str, Any]:
    """A row as one JSON object."""
    shape, placement = row.candidate.shape, row.placement
    out: dict[str, Any] = {
        "model": row.candidate.name, "rig": rig.name if rig else None,
        "simulated": bool(rig and rig.simulated), "reason": row.reason or None,
        "context": wish.context, "slots": wish.slots, "cache_precision": wish.cache,
    }  # fmt: skip
    if shape is not None:
        out |= {
            "architecture": shape.architecture, "layers": shape.layers, "heads": shape.heads,
            "kv_heads": max(shape.kv_heads, default=0), "head_dim": shape.key_dim, "weights": shape.weights,
            "weight_type": shape.main_type, "label": shape.label, "bits_per_weight": round(shape.bits_per_weight, 4),
            "bits_by_kind": {k: round(v, 4) for k, v in shape.bits_by_kind().items()}, "notes": list(shape.notes),
        }  # fmt: skip
    if placement is not None:
        out |= sizes_record(placement)
        out |= {"state": placement.state, "headroom_bytes": placement.headroom_bytes, "best": row.best}
    for name, prediction in (("decode", row.decode), ("prefill", row.prefill)):
        out[name] = None if prediction is None else {
            "value": prediction.value, "low": prediction.low, "high": prediction.high, "unit": "tokens/s",
            "origin": prediction.origin, "predicted": True,
        }  # fmt: skip
    return out


def sizes_record(placement: Placement) -> dict[str, Any]:
    """The sizes of a placement as JSON values."""
    need = placement.sizes
    return {
        "weights_bytes": need.weights_bytes, "kv_bytes": need.kv_bytes, "buffers_bytes": need.buffers_bytes,
        "repacked_bytes": need.repacked_bytes, "engine_bytes": need.engine_bytes, "total_bytes": need.total_bytes,
        "placement": [
            {
                "device": s.device.name, "layers": s.layers, "weights_bytes": s.weights_bytes, "kv_bytes": s.kv_bytes,
                "buffers_bytes": s.buffers_bytes, "usable_bytes": s.device.usable_bytes,
                "headroom_bytes": s.headroom_bytes,
            }
            for s in placement.shares
        ],
    }  # fmt: skip
