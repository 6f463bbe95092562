"""What is known of engines and machines, as it is kept with measurements: plain values with named, typed fields.

Any of them may be missing: engines and systems differ in what they report, and earlier versions kept less.
"""

from __future__ import annotations

from typing import Literal, NotRequired, TypedDict


class TouchedFacts(TypedDict, total=False):
    """What decoding one token touches; see core.fit.step_work."""

    bytes: float
    operands: float
    weights: float


class ModelFacts(TypedDict, total=False):
    """What is kept of a model with each of its measurements, enough to compute limits and to calibrate by."""

    name: str
    architecture: str
    layers: int
    weights: int
    weights_bytes: int
    main_type: str
    touched: TouchedFacts
    kv_bytes_per_token_f16: float
    """Of all layers, as long as no window is full."""
    kv_windowed_per_token_f16: float
    """Of these, the layers that look back no further than `window` tokens."""
    window: int
    attention_per_token: float
    """Products of attention for each token of context, as long as no window is full."""
    attention_windowed_per_token: float
    experts_bytes: int
    experts: int
    experts_active: int


class PlacementFacts(TypedDict, total=False):
    """Where a model lies."""

    state: str
    layers_on_devices: int
    bandwidth: float | None
    """Of the devices, in bytes per second; None where one of them is not known."""


class PredictedFacts(TypedDict):
    """What Fit said before a launch."""

    state: str
    decode: float
    """Tokens per second, with all of it in fast memory and nothing in context."""
    decode_low: float
    at: NotRequired[dict[str, tuple[float, float, float]]]
    """As it lies, by the tokens in context in the middle of an answer (`512`): value, lowest, highest."""


def depth_key(depth: float | None) -> str:
    """How a depth is named among what was predicted; None is where it was not known before."""
    return "" if depth is None else f"{depth:g}"


class FileFacts(TypedDict, total=False):
    """A model's file."""

    name: str
    size_bytes: int
    sha256: str


class EngineFacts(TypedDict, total=False):
    """What an engine and its launch reported."""

    engine: str
    recipe: str
    version: str
    build: str
    slots: str
    served: str
    """What an engine that already ran said it serves: names of models, with what it tells of each."""
    file: FileFacts
    launch_line: str
    reached: str
    rig: str
    simulated: bool
    template_tokens: int
    layers_on_devices: int
    clock_error_ms: float
    """How exactly the clock of another machine is known."""
    idle_w: float
    model: ModelFacts
    placement: PlacementFacts
    predicted: PredictedFacts


PROGRAM: tuple[Literal["engine", "version", "build", "served"], ...] = ("engine", "version", "build", "served")
"""What must stay the same in a run for all cells of one engine on one rig."""


def other_program(before: EngineFacts, now: EngineFacts) -> tuple[str, str] | None:
    """What an engine said of itself before, and what it says now, where the two differ; None where they agree as far
    as both told."""
    for name in PROGRAM:
        then, today = before.get(name), now.get(name)
        if then and today and then != today:
            return f"{name} {then}", f"{name} {today}"
    return None


def other_file(before: EngineFacts, now: EngineFacts) -> tuple[str, str] | None:
    """The same of a model's file, by its hash."""
    then, today = (facts.get("file", FileFacts()).get("sha256", "") for facts in (before, now))
    if then and today and then != today:
        return f"a model file with hash {then[:12]}", f"one with hash {today[:12]}"
    return None


class GraphicsFacts(TypedDict, total=False):
    """A graphics device."""

    name: str
    memory_bytes: int | None
    driver: str | None
    power_limit_w: float | None
    bandwidth: float | None
    """bytes per second"""


class ProbeFacts(TypedDict, total=False):
    """Windows of a probe by number of threads, as JSON has them; see core.rig.Probe."""

    reading: dict[str, list[float]]
    gemm: dict[str, list[float]]
    gemm_note: str
    took_s: float
    busy_cores: float


class BusyFacts(TypedDict, total=False):
    """Who used a machine just before a run."""

    cores: float
    memory_used_bytes: int
    memory_total_bytes: int
    stolen_share: float
    top: list[tuple[str, float]]
    device_used_bytes: int | None


class MachineFacts(TypedDict, total=False):
    """What is known of a machine: gathered, probed, typed in."""

    processor: str | None
    architecture: str | None
    physical_cores: int | None
    hardware_threads: int | None
    memory_bytes: int | None
    last_level_cache_bytes: int | None
    system: str | None
    kernel: str | None
    governor: str | None
    python: str | None
    virtual: bool | None
    simulated: bool
    address: str
    graphics: list[GraphicsFacts]
    probe: ProbeFacts
    busy: BusyFacts | None
    bandwidth: float | None
    """Of main memory, in bytes per second, typed in."""
    load_w: float | None
    """A wall-meter reading under load, typed in."""
    idle_w: float | None
    price: float | None
    """As a person typed it in, in their currency."""


class StampErrors(TypedDict):
    """Of the driver's self-test."""

    p50_ms: float
    p99_ms: float
    max_ms: float


class DriverTest(TypedDict, total=False):
    """The driver's self-test before a run."""

    version: str
    streams: int
    tokens_per_s: float
    spread: StampErrors
    burst: StampErrors
    stamp: str
    turnaround_ms: float
    """Median time a stream was idle between two requests, in bursts."""
    cpu_us_per_token: float
    ceiling_tokens_per_s: float
    failed: str
    """Why there is none."""


class RunFacts(MachineFacts, total=False):
    """Those of this machine, of a run's other rigs, and of the driver."""

    rigs: dict[str, MachineFacts]
    driver_test: DriverTest | None


def machine_of(facts: RunFacts, rig: str | None) -> MachineFacts:
    """The facts of one rig of a run; those of this machine where no rig is named."""
    return facts if rig is None else facts.get("rigs", {}).get(rig, {})
