"""A rig: what is known of a machine, each fact with where it came from, and what that means for fitting models."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Annotated, Any, Literal

from zinc_kettle.core.address import address_problem, host_problem, listening_problem, variable_problem
from zinc_kettle.core.declared import About, Checked
from zinc_kettle.core.facts import ProbeFacts
from zinc_kettle.core.fit.placement import Device
from zinc_kettle.core.fit.predict import SIMULATED, Calibration, MachineRates, machine_at
from zinc_kettle.core.names import recipe_name_problem
from zinc_kettle.core.plan.recipe import OPEN_PROTOCOL, FileName
from zinc_kettle.core.said_rig import SAY, said_rig, sheet_problem
from zinc_kettle.core.stats import median

PAPER = "from its data sheet"
PROBED_BUSY = "from a probe beside other programs, so too low"
BUSY_CORES = 0.25
"""Cores others keep busy. A quiet desktop idles below a tenth of a core."""
Origin = Literal["gathered", "probed", "typed", "simulated"]
Reach = Literal["here", "url", "ssh", "rehearsal", "paper"]
REACHES: dict[str, str] = {
    "here": "this machine",
    "url": "an engine that already runs, by its address",
    "ssh": "a machine over SSH",
    "rehearsal": "a simulated machine",
    "paper": "a machine of which there is only a data sheet",
}


@dataclass(frozen=True, slots=True)
class Fact:
    """One thing known of a rig."""

    value: object
    origin: Origin
    source: str = ""
    """Where a person has it from: `data sheet`, `wall meter`."""


@dataclass(frozen=True, slots=True)
class FactKind:
    """A fact as it is named, written and shown."""

    name: str
    title: str
    unit: str
    """`bytes`, `B/s`, `W`, `cores`, `price` or empty."""
    typed: bool = False
    """True where a person may type it in."""
    explains: bool = False
    """True where it may explain a difference between two runs."""
    reported: bool = False
    """True where a report's table of rigs has it."""


_KINDS = (
    FactKind("processor", "processor", "", explains=True, reported=True),
    FactKind("architecture", "architecture", ""),
    FactKind("physical_cores", "cores", "", explains=True, reported=True),
    FactKind("hardware_threads", "hardware threads", "", explains=True),
    FactKind("performance_cores", "performance cores", ""),
    FactKind("efficiency_cores", "efficiency cores", ""),
    FactKind("cache_l1_bytes", "L1 data cache per core", "KiB"),
    FactKind("cache_l2_bytes", "L2 cache per core", "KiB"),
    FactKind("cache_l3_bytes", "L3 cache", "KiB"),
    FactKind("last_level_cache_bytes", "last-level cache", "KiB"),
    FactKind("memory_bytes", "memory", "bytes", explains=True, reported=True),
    FactKind("swap_bytes", "swap", "bytes"),
    FactKind("cpu_limit_cores", "limit of the container", "cores"),
    FactKind("memory_limit_bytes", "memory limit of the container", "bytes"),
    FactKind("system", "system", "", explains=True, reported=True),
    FactKind("kernel", "kernel", "", explains=True, reported=True),
    FactKind("virtual", "virtual", "", explains=True, reported=True),
    FactKind("container", "container", ""),
    FactKind("governor", "frequency governor", "", explains=True, reported=True),
    FactKind("engine", "engine", ""),
    FactKind("bandwidth", "memory bandwidth", "B/s", typed=True),
    FactKind("arithmetic", "arithmetic rate", "FLOP/s"),
    FactKind("device_bandwidth", "bandwidth of a device", "B/s", typed=True),
    FactKind("price", "price", "price", typed=True),
    FactKind("power_limit_w", "power limit set", "W", typed=True),
    FactKind("idle_w", "idle power", "W", typed=True),
    FactKind("load_w", "power under load", "W", typed=True),
    FactKind("case", "sits in", "", typed=True),
    FactKind("note", "note", "", typed=True),
)
FACT_KINDS: dict[str, FactKind] = {k.name: k for k in _KINDS}


@dataclass(frozen=True, slots=True)
class Probe:
    """What probing found; bytes and operations per second by number of threads, one value a window."""

    reading: Mapping[int, tuple[float, ...]]
    gemm: Mapping[int, tuple[float, ...]] = field(default_factory=dict)
    gemm_note: str = ""
    """Why the arithmetic rate is missing."""
    took_s: float = 0.0
    busy_cores: float = 0.0
    """What others used of the processor just before."""

    def best_reading(self) -> float | None:
        """The best bandwidth over thread counts: the median window of the count whose median is highest."""
        return max((median(list(v)) for v in self.reading.values() if v), default=None)

    def machine(self, threads: int) -> MachineRates | None:
        """The rig's processor at a number of threads, from the medians."""
        reading = {n: median(list(v)) for n, v in self.reading.items() if v}
        rates = {n: median(list(v)) for n, v in self.gemm.items() if v}
        beside = self.busy_cores > BUSY_CORES
        return machine_at(reading, rates, threads, PROBED_BUSY if beside else "from the probe")

    def plain(self) -> ProbeFacts:
        """As JSON-like values."""
        return {
            "reading": {str(n): list(v) for n, v in self.reading.items()},
            "gemm": {str(n): list(v) for n, v in self.gemm.items()},
            "gemm_note": self.gemm_note,
            "took_s": self.took_s,
            "busy_cores": self.busy_cores,
        }

    @classmethod
    def from_plain(cls, value: ProbeFacts) -> Probe:
        """From what `plain` gave, also after a trip through JSON."""

        def columns(found: Mapping[str, list[float]]) -> dict[int, tuple[float, ...]]:
            return {int(n): tuple(map(float, v)) for n, v in found.items()}

        return cls(
            columns(value.get("reading", {})),
            columns(value.get("gemm", {})),
            str(value.get("gemm_note", "")),
            float(value.get("took_s", 0.0)),
            float(value.get("busy_cores", 0.0)),
        )


@dataclass(frozen=True, slots=True)
class Busy:
    """Who uses the machine now."""

    cores: float
    memory_used_bytes: int
    memory_total_bytes: int
    stolen_share: float = 0.0
    top: tuple[tuple[str, float], ...] = ()
    """Names of the busiest programs and the cores each uses."""
    device_used_bytes: int | None = None
    """Memory in use on graphics devices, where they tell."""

    @property
    def free_bytes(self) -> int:
        """Memory that can be had without swapping."""
        return max(0, self.memory_total_bytes - self.memory_used_bytes)


@dataclass(frozen=True)
class Rig:
    """A machine and all that is known of it."""

    name: str
    reach: Reach
    facts: Mapping[str, Fact] = field(default_factory=dict)
    graphics: tuple[Mapping[str, Any], ...] = ()
    probe: Probe | None = None
    busy: Busy | None = None
    simulated: bool = False
    graphics_note: str = ""
    """Why there may be devices that were not found."""
    trouble: str = ""
    """Why nothing could be gathered."""
    address: str = ""

    @property
    def on_paper(self) -> bool:
        """True where there is only a data sheet of it: nothing can be measured there."""
        return self.reach == "paper"

    def get(self, name: str) -> Any:
        """A fact's value, or None."""
        fact = self.facts.get(name)
        return fact.value if fact else None

    def number(self, name: str) -> float | None:
        """A fact as a number, or None."""
        value = self.get(name)
        return float(value) if isinstance(value, (int, float)) and not isinstance(value, bool) else None

    @property
    def memory_bytes(self) -> int | None:
        """Main memory that may be used: the container's limit where that is lower."""
        known = [n for n in (self.number("memory_bytes"), self.number("memory_limit_bytes")) if n]
        return int(min(known)) if known else None

    @property
    def cores(self) -> int:
        """Physical cores, or hardware threads where cores are not told."""
        return int(self.number("physical_cores") or self.number("hardware_threads") or 1)

    @property
    def bandwidth(self) -> float | None:
        """Main memory's read bandwidth in bytes per second: probed where it was, else typed in."""
        probed = self.probe.best_reading() if self.probe else None
        return probed if probed is not None else self.number("bandwidth")

    def machine(self, threads: int | None = None) -> MachineRates | None:
        """What its processor can do at a number of threads; None where nothing tells."""
        wanted = threads or self.cores
        if self.probe is not None:
            return self.probe.machine(wanted)
        typed = self.number("bandwidth")
        if typed is None:
            return None
        origin = "simulated" if self.simulated else PAPER if self.on_paper else "from the bandwidth typed in"
        # Few threads do not saturate memory; a third of the cores does on usual machines.
        share = min(1.0, 3 * wanted / self.cores)
        rate = self.number("arithmetic")
        rates = {wanted: rate * min(1.0, wanted / self.cores)} if rate else {}
        return machine_at({wanted: typed * share}, rates, wanted, origin)

    def prior(self) -> Calibration:
        """What is taken to hold before anything was measured here."""
        return SIMULATED if self.simulated else Calibration()

    def devices(self) -> list[Device]:
        """Its memories: graphics devices first, main memory last; empty where its memory is not known."""
        if self.memory_bytes is None:
            return []
        typed = self.number("device_bandwidth")
        fast = [
            Device(str(g.get("name", "device")), False, int(g["memory_bytes"]), _rate(g.get("bandwidth")) or typed)
            for g in self.graphics
            if g.get("memory_bytes")
        ]
        return [*fast, Device("main memory", True, self.memory_bytes, self.bandwidth)]


def _rate(value: object) -> float | None:
    return float(value) if isinstance(value, (int, float)) else None


def gathered(found: Mapping[str, Any], origin: Origin = "gathered") -> dict[str, Fact]:
    """Facts a machine told of itself, those that are known here by name."""
    return {name: Fact(found[name], origin) for name in FACT_KINDS if found.get(name) is not None}


def _address_or_none(text: str) -> str:
    return address_problem(text) if text else ""


@dataclass(frozen=True, slots=True)
class RigPlan:
    """How a rig is reached, and what a person typed in of it."""

    name: str
    reach: Annotated[Reach, About("reach", "How the rig is reached.", "ssh", REACHES)]
    typed: Mapping[str, Fact] = field(default_factory=dict)
    url: Annotated[
        str, Checked(_address_or_none), About("address", "Of url: where its engine answers.", "http://127.0.0.1:8080")
    ] = ""
    model: Annotated[str, About("model name", "Of url: the model's name as it is sent.", "default")] = "default"
    key_variable: Annotated[
        str | None,
        Checked(variable_problem),
        About("key variable", "Of url: name of the environment variable with the key.", "OFFICE_KEY"),
    ] = None
    key_file: Annotated[
        FileName | None, About("key file", "Of url: a file with the key, readable by you alone.", "office.key")
    ] = None
    ca_file: Annotated[
        FileName | None, About("certificates", "Of url: certificates to trust beside the system's.", "office-ca.pem")
    ] = None
    metrics: Annotated[
        str | None,
        Checked(address_problem),
        About("metrics", "Of url: where the machine's metrics are read.", "http://127.0.0.1:9100/metrics"),
    ] = None
    host: Annotated[str, Checked(host_problem), About("host", "Of ssh: the host as ssh knows it.", "tern")] = ""
    ssh_config: Annotated[
        str | None, About("ssh configuration", "Of ssh: another file than ~/.ssh/config.", "harbour-ssh")
    ] = None
    sheet: Annotated[
        str, Checked(sheet_problem), About("data sheet", "Of paper: what its data sheet tells, in words.", SAY)
    ] = ""
    python: Annotated[str, About("Python", "Of ssh: the Python that facts and probes run in.", "python3")] = "python3"
    engine_python: Annotated[
        str | None,
        About("engine's Python", "Of here and ssh: the Python that has the engine.", "/opt/kettle/bin/python"),
    ] = None
    models: Annotated[str | None, About("models", "Of ssh: the folder with model files there.", "models")] = None
    engine: Annotated[
        str,
        Checked(recipe_name_problem),
        About("engine", "Of url: what it speaks, by the name of a recipe.", OPEN_PROTOCOL),
    ] = OPEN_PROTOCOL
    engines: Annotated[
        Mapping[str, str],
        About("engines", "Of here and ssh: the Python that has an engine, by engine.", "built-in=/opt/july/bin/python"),
    ] = field(default_factory=dict)
    direct: Annotated[
        str | None,
        Checked(listening_problem),
        About("direct address", "Of ssh: an address its engines listen on, instead of a forwarded port.", "192.0.2.7"),
    ] = None

    @property
    def simulated(self) -> bool:
        """True where nothing it tells is measured."""
        return self.reach == "rehearsal"

    @property
    def address(self) -> str:
        """Where it is, in a few words; never with a user's name or a path."""
        words = {"here": "this machine", "rehearsal": "simulated", "paper": "on paper"}
        return words.get(self.reach) or (self.url if self.reach == "url" else f"ssh {self.host.split('@')[-1]}")


def rig_of(plan: RigPlan, known: Mapping[str, Any]) -> Rig:
    """A rig from how it is reached and what is known of it: `facts`, `probe`, `busy`, `trouble`.

    What was typed in stands beside what was gathered; where both name a fact, the typed one is the person's word.
    """
    found: Mapping[str, Any] = known.get("facts") or {}
    facts = {**gathered(found, "simulated" if plan.simulated else "gathered"), **plan.typed}
    if plan.reach == "paper":
        told = said_rig(plan.sheet)
        found = {"graphics": told.cards}
        facts = {**{name: Fact(value, "typed", "data sheet") for name, value in told.facts.items()}, **plan.typed}
    probe, busy = known.get("probe"), known.get("busy")
    return Rig(
        name=plan.name,
        reach=plan.reach,
        facts=facts,
        graphics=tuple(found.get("graphics") or ()),
        graphics_note=str(found.get("graphics_note", "")),
        probe=Probe.from_plain(probe) if probe else None,
        busy=None if not busy else Busy(**{**busy, "top": tuple(tuple(pair) for pair in busy.get("top", ()))}),
        simulated=plan.simulated,
        trouble=str(known.get("trouble", "")),
        address=plan.address,
    )
