"""Where a model's parts go: over fast devices layer by layer, the rest in main memory; and whether that holds."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Literal

from zinc_kettle.core.facts import PlacementFacts
from zinc_kettle.core.fit.sizing import REQUEST_BYTES, LaunchSettings, Sizes, layer_kv_bytes, sizes
from zinc_kettle.core.model_shape import ModelShape

State = Literal["fits", "split", "shared", "spills", "will not fit"]
"""`fits` one memory · `split` over several devices · `shared` with main memory because that was wished · `spills` into
main memory because the devices are too small · `will not fit` at all."""
STATE_MARKS: dict[State, str] = {"fits": "●", "split": "●", "shared": "◐", "spills": "◐", "will not fit": "⊘"}
SYSTEM_SHARE = 0.04
"""Main memory the system keeps for itself, as a share and at least SYSTEM_BYTES."""
SYSTEM_BYTES = 500_000_000
DEVICE_BYTES = 400_000_000
"""Memory a graphics device's driver keeps for itself; typed in or gathered free memory overrides it."""


@dataclass(frozen=True, slots=True)
class Device:
    """A memory that weights can lie in."""

    name: str
    main: bool
    capacity_bytes: int
    bandwidth_bytes_per_s: float | None = None
    flops: float | None = None

    @property
    def usable_bytes(self) -> int:
        """Capacity less what system or driver keep."""
        kept = max(SYSTEM_BYTES, SYSTEM_SHARE * self.capacity_bytes) if self.main else DEVICE_BYTES
        return max(0, int(self.capacity_bytes - kept))


@dataclass
class Share:
    """What one memory holds."""

    device: Device
    layers: int = 0
    weights_bytes: int = 0
    kv_bytes: int = 0
    buffers_bytes: int = 0
    experts_bytes: int = 0
    """Of the weights: those of experts."""

    @property
    def total_bytes(self) -> int:
        """All it holds."""
        return self.weights_bytes + self.kv_bytes + self.buffers_bytes

    @property
    def headroom_bytes(self) -> int:
        """What is left of what is usable; negative where it does not hold."""
        return self.device.usable_bytes - self.total_bytes


@dataclass(frozen=True)
class Placement:
    """A model laid out over a rig's memories."""

    state: State
    sizes: Sizes
    shares: tuple[Share, ...]
    """Fast devices first, main memory last."""
    layers: int
    wish: LaunchSettings = field(default_factory=LaunchSettings)

    @property
    def headroom_bytes(self) -> int:
        """What is left where the model lies: of all devices that hold it together, else of main memory; what is missing
        in all, as a negative number, if it does not fit."""
        missing = sum(min(0, s.headroom_bytes) for s in self.shares if s.total_bytes)
        if missing:
            return missing
        fast = [s.headroom_bytes for s in self.shares if s.layers and not s.device.main]
        *_, main = self.shares
        return sum(fast) if fast and not main.layers and not main.experts_bytes else main.headroom_bytes

    @property
    def works(self) -> bool:
        """True unless it does not fit at all."""
        return self.state != "will not fit"

    @property
    def layers_on_devices(self) -> int:
        """Layers that lie on fast devices."""
        return sum(s.layers for s in self.shares if not s.device.main)

    @property
    def device_bandwidth(self) -> float | None:
        """Read bandwidth of the devices that hold the layers, in bytes per second: of several, which are read one after
        the other, all they hold over the time that takes.

        None where a device does not tell, and where main memory holds layers or experts too: then no single
        bandwidth sets the limit.
        """
        main = next(s for s in self.shares if s.device.main)
        fast = [s for s in self.shares if s.layers and not s.device.main]
        if not fast or main.layers or main.experts_bytes:
            return None
        times = [s.weights_bytes / rate for s in fast if (rate := s.device.bandwidth_bytes_per_s)]
        return sum(s.weights_bytes for s in fast) / sum(times) if len(times) == len(fast) else None

    @property
    def output_on_device(self) -> bool:
        """True where the last layer, and with it the output matrix, lies on a device."""
        return bool(self.layers_on_devices) and not next(s for s in self.shares if s.device.main).layers

    def plain(self) -> PlacementFacts:
        """What is kept of it with a measurement."""
        return {"state": self.state, "layers_on_devices": self.layers_on_devices, "bandwidth": self.device_bandwidth}


def place(shape: ModelShape, wish: LaunchSettings, devices: Sequence[Device]) -> Placement:
    """Lay a model out as engines do: as many layers as fit on the fast devices, in order, on each in proportion to its
    room; the rest in main memory.

    Weights that an engine repacks count once: the mapped pages they came from are dropped when memory is wanted.
    The input embedding stays in main memory, the output matrix goes with the last layer: where it is the embedding
    itself, a copy of it. Every memory that works on layers has working buffers of its own.

    Args:
        shape: The model.
        wish: How it is to be run.
        devices: The rig's memories; exactly one is main memory.

    Raises:
        ValueError: No main memory, or several.
    """
    mains = [d for d in devices if d.main]
    if len(mains) != 1:
        raise ValueError("a rig has exactly one main memory")
    need = sizes(shape, wish)
    shares = _laid(shape, wish, need, devices, None)
    on_devices = sum(s.layers for s in shares[:-1])
    if on_devices > 1 and len(shares) > 2:
        # What one card after the other can hold is known; engines lay it on all of them, by the room of each.
        even = _laid(
            shape, wish, need, devices, _in_proportion(on_devices, [s.device.usable_bytes for s in shares[:-1]])
        )
        if all(s.headroom_bytes >= 0 for s in even[:-1] if s.total_bytes):
            shares = even
    return Placement(_state(shape, wish, shares[:-1], shares[-1]), need, tuple(shares), shape.layers, wish)


def _in_proportion(layers: int, rooms: Sequence[int]) -> list[int]:
    """So many layers over devices by the room of each: layer `i` goes where the middle of its place falls."""
    ends = [sum(rooms[: i + 1]) / (sum(rooms) or 1) for i in range(len(rooms))]
    places = [
        next((i for i, end in enumerate(ends) if (n + 0.5) / layers <= end), len(rooms) - 1) for n in range(layers)
    ]
    return [places.count(i) for i in range(len(rooms))]


def _laid(
    shape: ModelShape, wish: LaunchSettings, need: Sizes, devices: Sequence[Device], counts: Sequence[int] | None
) -> list[Share]:
    """Shares of the fast devices, then of main memory; so many layers on each device, or as many as fit in order."""
    fast = [Share(d) for d in devices if not d.main]
    main = Share(next(d for d in devices if d.main))
    weights, experts, loose = _by_layer(shape)
    cache = layer_kv_bytes(shape, wish)
    main.weights_bytes += loose
    main.buffers_bytes += need.engine_bytes + REQUEST_BYTES
    allowed = shape.layers if wish.device_layers is None else wish.device_layers
    copy = shape.bytes_of("embedding") if shape.tied else 0
    at = 0
    for layer in range(shape.layers):
        moved = experts[layer] if layer < wish.expert_layers_in_main else 0
        output = copy if layer == shape.layers - 1 else 0
        size = weights[layer] - moved + cache[layer] + output
        target = main
        if counts is not None:
            while at < len(fast) and fast[at].layers >= counts[at]:
                at += 1
            target = fast[at] if at < len(fast) else main
        elif layer < allowed:
            while at < len(fast) and fast[at].headroom_bytes < size + (0 if fast[at].layers else need.buffers_bytes):
                at += 1
            target = fast[at] if at < len(fast) else main
        if target.layers == 0:
            target.buffers_bytes += need.buffers_bytes
        target.layers += 1
        target.weights_bytes += weights[layer] - moved + (0 if target is main else output)
        target.kv_bytes += cache[layer]
        target.experts_bytes += experts[layer] - moved
        main.weights_bytes += moved
        main.experts_bytes += moved
    return [*fast, main]


def _by_layer(shape: ModelShape) -> tuple[list[int], list[int], int]:
    """Weight bytes of each layer, of its experts, and of what belongs to no layer but the input side."""
    weights, experts, loose = [0] * shape.layers, [0] * shape.layers, 0
    for group in shape.groups:
        if group.layer is not None and group.layer < shape.layers:
            weights[group.layer] += group.size_bytes
            experts[group.layer] += group.size_bytes if group.kind == "experts" else 0
        elif group.kind == "embedding" or not shape.layers:
            loose += group.size_bytes
        else:
            weights[-1] += group.size_bytes
    return weights, experts, loose


def _state(shape: ModelShape, wish: LaunchSettings, fast: Sequence[Share], main: Share) -> State:
    if any(s.headroom_bytes < 0 for s in (*fast, main) if s.total_bytes):
        return "will not fit"
    if not fast:
        return "fits"
    if main.layers == 0 and not main.experts_bytes:
        return "fits" if sum(1 for s in fast if s.layers) == 1 else "split"
    wished = shape.layers if wish.device_layers is None else min(wish.device_layers, shape.layers)
    return "shared" if sum(s.layers for s in fast) >= wished else "spills"
