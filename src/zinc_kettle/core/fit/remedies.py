"""What would make a model fit, by one change or by two; and the best quantization that does."""

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
SMALLER_CACHE = "q8_0"
LEAST_CONTEXT = 2048
"""What is left of a context has to be of some use."""
LONGER = 1.25
"""A pair of changes has to leave so much more context than one to be told."""
Changes = Mapping[SettingRole | Literal["quantization"], Level]


@dataclass(frozen=True)
class _Change:
    """What a change is called, what it costs, and the settings."""

    what: str
    cost: str
    changes: Changes


@dataclass(frozen=True)
class Remedy:
    """One change and what it leads to."""

    what: str
    """Plain words: `context 4,096 instead of 32,768`."""
    cost: str
    """What it costs, in plain words."""
    shape: ModelShape
    placement: Placement
    changes: Changes = field(default_factory=dict)
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
    """Changes that make it fit without spilling, the least costly first, then pairs of changes that leave a higher
    precision or a longer context than one alone; empty where it fits already.

    Args:
        shape: The model.
        wish: How it is to be run.
        devices: Memories of the rig.
        among: Quantizations it exists in: no other is advised. None for a model that is only a shape.
    """
    if place(shape, wish, devices).state in GOOD:
        return []
    single = {
        "cache": _cache(shape, wish, devices),
        "micro-batch": _micro_batch(shape, wish, devices),
        "context": _context(shape, wish, devices),
        "slots": _slots(shape, wish, devices),
        "experts": _experts(shape, wish, devices),
        "quantization": _quantization(shape, wish, devices, among),
    }
    found = [r for r in single.values() if r is not None]
    found += _pairs(shape, wish, devices, among, single["context"], single["quantization"])
    if not found:
        last = _all_three(shape, wish, devices, among) or _spilling(shape, wish, devices, among)
        found += [] if last is None else [last]
    return found


def _smaller(shape: ModelShape, among: Container[str] | None) -> list[str]:
    """Quantizations of fewer bits than it has, the finest first."""
    here = [name for name in LADDER if among is None or name in among]
    return [name for name in here if STORAGE_TYPES[name].bits_per_weight < shape.bits_per_weight - 0.05]


def _all_three(
    shape: ModelShape, wish: LaunchSettings, devices: Sequence[Device], among: Container[str] | None
) -> Remedy | None:
    """A smaller cache, a smaller quantization and a shorter context together: the finest that leaves some context."""
    cache, lighter = _cache_change(SMALLER_CACHE, wish), replace(wish, cache=SMALLER_CACHE)
    for name in _smaller(shape, among):
        context = _context(shape.at(name), lighter, devices)
        if context is not None and _kept(context) >= min(LEAST_CONTEXT, wish.context):
            return _both(cache, _both(_quantization_change(name, shape), context), joined=", ")
    return None


def _spilling(
    shape: ModelShape, wish: LaunchSettings, devices: Sequence[Device], among: Container[str] | None
) -> Remedy | None:
    """The finest quantization with which it loads at all, where nothing keeps it out of slower memory."""
    if place(shape, wish, devices).works:
        return None
    for name in _smaller(shape, among):
        placement = place(shape.at(name), wish, devices)
        if placement.works:
            change = _quantization_change(name, shape)
            on = f"{placement.layers_on_devices} of {placement.layers} layers on devices"
            return Remedy(
                change.what, f"{change.cost}; {on}, the rest slower", shape.at(name), placement, change.changes
            )
    return None


def _pairs(
    shape: ModelShape,
    wish: LaunchSettings,
    devices: Sequence[Device],
    among: Container[str] | None,
    shorter: Remedy | None,
    smaller: Remedy | None,
) -> list[Remedy]:
    """A cheap change that is not enough by itself, with a shorter context or a smaller quantization: of each kind the
    pair that leaves the most, where it leaves more than that change alone."""
    contexts, quantizations = [], []
    for first, lighter in _lighter(shape, wish):
        if place(shape, lighter, devices).state in GOOD:
            continue
        context = _context(shape, lighter, devices)
        if context is not None and context.placement.wish.context > (0 if shorter is None else LONGER * _kept(shorter)):
            contexts.append(_both(first, context))
        quantization = _quantization(shape, lighter, devices, among)
        bits = 0.0 if smaller is None else smaller.shape.bits_per_weight
        if quantization is not None and quantization.shape.bits_per_weight > bits + 0.05:
            quantizations.append(_both(first, quantization))
    longest = max(contexts, key=_kept, default=None)
    finest = max(quantizations, key=lambda r: r.shape.bits_per_weight, default=None)
    return [r for r in (longest, finest) if r is not None]


def _kept(remedy: Remedy) -> int:
    return remedy.placement.wish.context


def _lighter(shape: ModelShape, wish: LaunchSettings) -> list[tuple[_Change, LaunchSettings]]:
    """Changes that cost little: a cache of one byte, smaller micro-batches."""
    out: list[tuple[_Change, LaunchSettings]] = []
    if CACHE_TYPES[wish.cache].bits_per_weight > CACHE_TYPES[SMALLER_CACHE].bits_per_weight:
        out.append((_cache_change(SMALLER_CACHE, wish), replace(wish, cache=SMALLER_CACHE)))
    if wish.micro_batch > SMALLER_MICRO_BATCH:
        out.append((_micro_batch_change(wish), replace(wish, micro_batch=SMALLER_MICRO_BATCH)))
    return out


def _both(first: _Change, second: Remedy, joined: str = " and ") -> Remedy:
    return replace(
        second,
        what=f"{first.what}{joined}{second.what}",
        cost=f"{first.cost}; {second.cost}",
        changes={**first.changes, **second.changes},
    )


def _good(shape: ModelShape, wish: LaunchSettings, devices: Sequence[Device]) -> Placement | None:
    placement = place(shape, wish, devices)
    return placement if placement.state in GOOD else None


def _cache(shape: ModelShape, wish: LaunchSettings, devices: Sequence[Device]) -> Remedy | None:
    below = [n for n, t in CACHE_TYPES.items() if t.bits_per_weight < CACHE_TYPES[wish.cache].bits_per_weight]
    for name in below:
        found = _good(shape, replace(wish, cache=name), devices)
        if found:
            change = _cache_change(name, wish)
            return Remedy(change.what, change.cost, shape, found, change.changes)
    return None


def _cache_change(name: str, wish: LaunchSettings) -> _Change:
    return _Change(
        f"KV cache at {name} instead of {wish.cache}", "answers may differ slightly", {"cache-precision": name}
    )


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
    change = _micro_batch_change(wish)
    return Remedy(change.what, change.cost, shape, found, change.changes) if found else None


def _micro_batch_change(wish: LaunchSettings) -> _Change:
    what = f"micro-batch {SMALLER_MICRO_BATCH} instead of {wish.micro_batch}"
    return _Change(what, "prefill may be slower", {"micro-batch": SMALLER_MICRO_BATCH})


def _quantization(
    shape: ModelShape, wish: LaunchSettings, devices: Sequence[Device], among: Container[str] | None
) -> Remedy | None:
    for name in _smaller(shape, among):
        smaller = shape.at(name)
        found = _good(smaller, wish, devices)
        if found:
            change = _quantization_change(name, shape)
            return Remedy(change.what, change.cost, smaller, found, change.changes)
    return None


def _quantization_change(name: str, shape: ModelShape) -> _Change:
    return _Change(f"{name} instead of {shape.main_type}", "answers lose some quality", {"quantization": name})


def _experts(shape: ModelShape, wish: LaunchSettings, devices: Sequence[Device]) -> Remedy | None:
    """Experts in main memory, of as few layers as are enough."""
    if not shape.experts or wish.expert_layers_in_main or len(devices) < 2:
        return None

    def with_experts(layers: int) -> Placement:
        return place(shape, replace(wish, expert_layers_in_main=layers), devices)

    if with_experts(shape.layers).state != "shared":
        return None
    low, high = 0, shape.layers
    while high - low > 1:  # what is shared stays so with more of them
        middle = (low + high) // 2
        low, high = (low, middle) if with_experts(middle).state == "shared" else (middle, high)
    every = high == shape.layers
    return Remedy(
        f"experts of {'all' if every else f'{high} of {shape.layers}'} layers in main memory, all else on the device",
        "slower than all on the device, faster than whole layers in main memory",
        shape,
        with_experts(high),
        {"experts-in-main": True} if every else {"expert-layers-in-main": high},
    )
