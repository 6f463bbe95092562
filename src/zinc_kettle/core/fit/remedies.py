"""What would make a model fit, one change at a time; and the best quantization that does."""

from __future__ import annotations

from collections.abc import Callable, Container, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Literal

from zinc_kettle.core.fit.placement import Device, Placement, place
from zinc_kettle.core.fit.sizing import CONTEXT_STEP, LaunchSettings
from zinc_kettle.core.model_shape import ModelShape
from zinc_kettle.core.plan.factors import Level
from zinc_kettle.core.plan.recipe import SettingRole
from zinc_kettle.core.storage_types import CACHE_TYPES, LADDER, STORAGE_TYPES

GOOD = frozenset({"fits", "split"})
SMALLER_MICRO_BATCH = 128


@dataclass(frozen=True)
class Remedy:
    """One change and what it leads to."""

    what: str
    """Plain words: `context 4,096 instead of 32,768`."""
    cost: str
    """What it costs, in plain words."""
    shape: ModelShape
    placement: Placement
    changes: Mapping[SettingRole | Literal["quantization"], Level] = field(default_factory=dict)
    """The settings that change, by what they mean."""


def best_quantization(
    shape: ModelShape,
    wish: LaunchSettings,
    devices: Sequence[Device],
    *,
    among: Container[str] | None = None,
    keeps: Callable[[ModelShape, Placement], bool] = lambda _shape, _placement: True,
) -> tuple[str, Placement] | None:
    """The first of the ladder, best first, that fits without spilling and keeps the pace; None where none does.

    Args:
        shape: The model.
        wish: How it is to be run.
        devices: Memories of the rig.
        among: Quantizations it exists in; None for a model that is only a shape.
        keeps: Whether it is fast enough, as it would lie.
    """
    for name in LADDER:
        if among is not None and name not in among:
            continue
        placement = place(shape.at(name), wish, devices)
        if placement.state in GOOD and keeps(shape.at(name), placement):
            return name, placement
    return None


def remedies(
    shape: ModelShape, wish: LaunchSettings, devices: Sequence[Device], *, among: Container[str] | None = None
) -> list[Remedy]:
    """Single changes that make it fit without spilling, the least costly first; empty where it fits already.

    Args:
        shape: The model.
        wish: How it is to be run.
        devices: Memories of the rig.
        among: Quantizations it exists in: no other is advised. None for a model that is only a shape.
    """
    if place(shape, wish, devices).state in GOOD:
        return []
    tries = [
        _cache(shape, wish, devices),
        _context(shape, wish, devices),
        _slots(shape, wish, devices),
        _micro_batch(shape, wish, devices),
        _quantization(shape, wish, devices, among),
        _experts(shape, wish, devices),
    ]
    return [r for r in tries if r is not None]


def _good(shape: ModelShape, wish: LaunchSettings, devices: Sequence[Device]) -> Placement | None:
    placement = place(shape, wish, devices)
    return placement if placement.state in GOOD else None


def _cache(shape: ModelShape, wish: LaunchSettings, devices: Sequence[Device]) -> Remedy | None:
    below = [n for n, t in CACHE_TYPES.items() if t.bits_per_weight < CACHE_TYPES[wish.cache].bits_per_weight]
    for name in below:
        found = _good(shape, replace(wish, cache=name), devices)
        if found:
            return Remedy(
                f"KV cache at {name} instead of {wish.cache}",
                "answers may differ slightly",
                shape,
                found,
                {"cache-precision": name},
            )
    return None


def _context(shape: ModelShape, wish: LaunchSettings, devices: Sequence[Device]) -> Remedy | None:
    low, high = 0, wish.context // CONTEXT_STEP
    while low < high:  # the largest multiple that fits; what fits never grows with context
        middle = (low + high + 1) // 2
        if _good(shape, replace(wish, context=middle * CONTEXT_STEP), devices):
            low = middle
        else:
            high = middle - 1
    if low == 0 or low * CONTEXT_STEP >= wish.context:
        return None
    found = place(shape, replace(wish, context=low * CONTEXT_STEP), devices)
    return Remedy(
        f"context {low * CONTEXT_STEP:,} instead of {wish.context:,}",
        "longer conversations are cut",
        shape,
        found,
        {"context": low * CONTEXT_STEP},
    )


def _slots(shape: ModelShape, wish: LaunchSettings, devices: Sequence[Device]) -> Remedy | None:
    for slots in range(wish.slots - 1, 0, -1):
        found = _good(shape, replace(wish, slots=slots), devices)
        if found:
            return Remedy(
                f"{slots} slot{'s' if slots > 1 else ''} instead of {wish.slots}",
                "others wait in a queue",
                shape,
                found,
                {"slots": slots},
            )
    return None


def _micro_batch(shape: ModelShape, wish: LaunchSettings, devices: Sequence[Device]) -> Remedy | None:
    if wish.micro_batch <= SMALLER_MICRO_BATCH:
        return None
    found = _good(shape, replace(wish, micro_batch=SMALLER_MICRO_BATCH), devices)
    what = f"micro-batch {SMALLER_MICRO_BATCH} instead of {wish.micro_batch}"
    change: Mapping[SettingRole | Literal["quantization"], Level] = {"micro-batch": SMALLER_MICRO_BATCH}
    return Remedy(what, "prefill may be slower", shape, found, change) if found else None


def _quantization(
    shape: ModelShape, wish: LaunchSettings, devices: Sequence[Device], among: Container[str] | None
) -> Remedy | None:
    for name in LADDER:
        if among is not None and name not in among:
            continue
        if STORAGE_TYPES[name].bits_per_weight < shape.bits_per_weight - 0.05:
            smaller = shape.at(name)
            found = _good(smaller, wish, devices)
            if found:
                return Remedy(
                    f"{name} instead of {shape.main_type}",
                    "answers lose some quality",
                    smaller,
                    found,
                    {"quantization": name},
                )
    return None


def _experts(shape: ModelShape, wish: LaunchSettings, devices: Sequence[Device]) -> Remedy | None:
    if not shape.experts or wish.experts_in_main or len(devices) < 2:
        return None
    placement = place(shape, replace(wish, experts_in_main=True), devices)
    if placement.state != "shared":
        return None
    return Remedy(
        "experts in main memory, all else on the device",
        "slower than all on the device, faster than whole layers in main memory",
        shape,
        placement,
        {"experts-in-main": True},
    )
