"""The rehearsal fleet: made-up rigs and made-up models. Nothing here stands for hardware or weights that exist."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from zinc_kettle.core.fit.placement import Device
from zinc_kettle.core.model_shape import ModelShape, from_sizes

GB = 1_000_000_000


@dataclass(frozen=True)
class SimDevice:
    """A made-up graphics device."""

    name: str
    memory_bytes: int
    bandwidth: float
    flops: float
    watts: float
    """Beyond idle, at full work."""


@dataclass(frozen=True)
class SimRig:
    """A made-up machine."""

    name: str
    processor: str
    case: str
    cores: int
    threads: int
    memory_bytes: int
    core_bandwidth: float
    """Bytes per second one core can read."""
    bandwidth: float
    """Bytes per second all cores together can read."""
    core_flops: float
    core_watts: float
    """Beyond idle, of one busy core."""
    idle_watts: float
    sustained_watts: float
    """Power its cooling can carry for good."""
    heat_s: float
    """Time constant of heating up."""
    disk: float
    """Bytes per second a model loads with, from disk; from the file cache eight times as fast."""
    price: int
    noise: float = 0.01
    """Standard deviation of a step's length, as a share."""
    devices: tuple[SimDevice, ...] = ()

    def placement_devices(self) -> list[Device]:
        """Its memories, for placing a model."""
        fast = [Device(d.name, False, d.memory_bytes, d.bandwidth, d.flops) for d in self.devices]
        return [*fast, Device("main memory", True, self.memory_bytes, self.bandwidth, self.cores * self.core_flops)]

    def facts(self) -> dict[str, Any]:
        """What it would tell of itself."""
        return {
            "processor": self.processor,
            "architecture": "x86_64",
            "physical_cores": self.cores,
            "hardware_threads": self.threads,
            "memory_bytes": self.memory_bytes,
            "system": "rehearsal",
            "virtual": False,
            "container": False,
            "engine": "rehearsal engine",
            "bandwidth": self.bandwidth,
            "arithmetic": self.cores * self.core_flops,
            "price": self.price,
            "idle_w": self.idle_watts,
            "case": self.case,
            "graphics": [
                {"name": d.name, "memory_bytes": d.memory_bytes, "bandwidth": d.bandwidth, "driver": "rehearsal"}
                for d in self.devices
            ],
        }


_RIGS = (
    SimRig(
        "storm-tern",
        "made-up 4-core low-power processor",
        "fanless mini computer",
        4,
        4,
        16 * GB,
        9e9,
        24e9,
        40e9,
        3.5,
        5.0,
        14.0,
        40.0,
        0.9e9,
        240,
        0.015,
    ),
    SimRig(
        "gannet",
        "made-up 8-core workstation processor",
        "old workstation with one card",
        8,
        16,
        32 * GB,
        11e9,
        42e9,
        55e9,
        9.0,
        48.0,
        400.0,
        60.0,
        0.5e9,
        680,
        0.01,
        (SimDevice("made-up card 12 GB", 12 * GB, 330e9, 11e12, 165),),
    ),
    SimRig(
        "cormorant",
        "made-up 16-core workstation processor",
        "new workstation with two cards",
        16,
        32,
        64 * GB,
        16e9,
        78e9,
        80e9,
        8.0,
        62.0,
        700.0,
        60.0,
        3.2e9,
        2900,
        0.008,
        (
            SimDevice("made-up card 24 GB", 24 * GB, 860e9, 40e12, 300),
            SimDevice("made-up card 24 GB, second", 24 * GB, 860e9, 40e12, 300),
        ),
    ),
    SimRig(
        "petrel",
        "made-up 8-core laptop processor",
        "laptop",
        8,
        16,
        32 * GB,
        14e9,
        60e9,
        110e9,
        5.0,
        7.0,
        28.0,
        25.0,
        2.0e9,
        1150,
        0.02,
    ),
)
SIM_RIGS: dict[str, SimRig] = {rig.name: rig for rig in _RIGS}

_MODELS: dict[str, dict[str, Any]] = {
    "brine-1b": {"layers": 20, "heads": 32, "kv_heads": 8, "head_dim": 64, "ffn": 6144, "vocab": 5632},
    "kelp-4b": {"layers": 40, "heads": 20, "kv_heads": 4, "head_dim": 128, "ffn": 10_240, "vocab": 64_000},
    "fathom-14b": {"layers": 40, "heads": 40, "kv_heads": 8, "head_dim": 128, "ffn": 17_408, "vocab": 64_000},
    "shoal-30b": {
        "layers": 48,
        "heads": 32,
        "kv_heads": 4,
        "head_dim": 128,
        "width": 2048,
        "ffn": 768,
        "vocab": 64_000,
        "experts": 128,
        "experts_active": 8,
    },
}
SIM_MODELS = tuple(_MODELS)


def sim_shape(model: str, quantization: str | None) -> ModelShape:
    """The shape of a made-up model at a quantization.

    Raises:
        KeyError: No such model or quantization.
    """
    return from_sizes(**_MODELS[model], weight_type="F16", name=model).at(quantization or "F16")
