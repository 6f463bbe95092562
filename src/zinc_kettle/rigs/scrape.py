"""Telemetry from a metrics endpoint in the Prometheus text format, as many engines offer one."""

from __future__ import annotations

import threading
import time
from array import array
from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

from zinc_kettle.core.devices import Reading, reading, use_of, use_of_one
from zinc_kettle.core.record.telemetry import Latest, Machine, Trace, hottest, watts_between
from zinc_kettle.core.stats import median
from zinc_kettle.rigs.telemetry import PERIOD_S, UNTOLD, trace_from
from zinc_kettle.web.bounded import NoAnswerError, ask_now

if TYPE_CHECKING:
    import httpx

LIMIT_S = 2.0


@dataclass(frozen=True)
class Names:
    """Which metric tells what; the first that is there is taken."""

    memory: tuple[str, ...] = ("rehearsal_memory_bytes", "process_resident_memory_bytes")
    device: tuple[str, ...] = ("rehearsal_device_memory_bytes",)
    device_load: tuple[str, ...] = ("rehearsal_device_load_share",)
    each: tuple[str, ...] = (
        "rehearsal_each_device_bytes",
        "rehearsal_each_device_busy_share",
        "rehearsal_each_device_watts",
        "rehearsal_each_device_celsius",
    )
    """Of each device, told apart by a label: bytes in use, share of the time busy, power, temperature."""
    celsius: tuple[str, ...] = ("rehearsal_processor_celsius",)
    joules: tuple[str, ...] = ("rehearsal_energy_joules_total",)
    watts: tuple[str, ...] = ("rehearsal_power_watts",)
    cpu_s: tuple[str, ...] = ("process_cpu_seconds_total",)


def parse(text: str) -> dict[str, float]:
    """Sums of all samples of each metric, by name.

    Raises:
        ValueError: It is not in the text format.
    """
    from prometheus_client.parser import text_string_to_metric_families

    out: dict[str, float] = {}
    for family in text_string_to_metric_families(text):
        for sample in family.samples:
            out[sample.name] = out.get(sample.name, 0.0) + sample.value
    return out


def each_device(text: str, names: tuple[str, ...]) -> list[Reading]:
    """Of each device, in the order of their labels, what it tells.

    Args:
        text: As `parse` takes it.
        names: Of the metrics, in bytes, as a share, in watts, and in degrees Celsius.
    """
    from prometheus_client.parser import text_string_to_metric_families

    found: dict[str, list[int | None]] = {}
    for family in text_string_to_metric_families(text):
        for sample in family.samples if family.name in names else ():
            at = names.index(family.name)
            label = " ".join(f"{k}={v}" for k, v in sorted(sample.labels.items()))
            found.setdefault(label, [None] * len(names))[at] = round(sample.value * (1, 100, 1000, 1000)[at])
    return [reading(each) for _, each in sorted(found.items())]


def pick(found: Mapping[str, float], names: tuple[str, ...]) -> float | None:
    """The first of the names that is there."""
    return next((found[name] for name in names if name in found), None)


class ScrapeWatch:
    """Asks an endpoint about twelve times per second until it is ended; what it does not tell is said to be untold."""

    def __init__(self, url: str, names: Names) -> None:
        self._url, self._names = url, names
        self._columns = tuple(array("q") for _ in range(8))
        self._latest = Latest()
        self._devices: list[list[Reading]] = []
        self._chip: list[Reading] = []
        self._cpu_ns = 0
        self._joules = 0.0
        self._last_watts: tuple[float, float] | None = None
        self._start_ns = time.monotonic_ns()
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._run, name="scrape", daemon=True)
        self._thread.start()

    def latest(self) -> Latest:
        """Memory, and 0 cores: an endpoint's processor time is no live figure."""
        return self._latest

    def end(self, *, driver_cpu_ns: int) -> tuple[Trace, Machine]:
        """Stop, and give what was seen; of the other machine's processor nothing is known."""
        self._stop.set()
        self._thread.join(timeout=LIMIT_S + 1)
        wall_s = (time.monotonic_ns() - self._start_ns) / 1e9
        trace = trace_from(self._columns, self._cpu_ns, -1, f"metrics of {self._names.watts[0].split('_')[0]}")
        return trace, Machine(wall_s, 1, 0.0, 0.0, 0.0, use_of(self._devices), use_of_one(self._chip))

    def _run(self) -> None:
        import httpx

        due = time.monotonic()
        with httpx.Client(timeout=LIMIT_S, trust_env=False) as http:
            while True:
                self._sample(http)
                self._cpu_ns = time.thread_time_ns()
                due = max(due + PERIOD_S, time.monotonic())
                if self._stop.wait(max(0.0, due - time.monotonic())):
                    self._sample(http)
                    return

    def _sample(self, http: httpx.Client) -> None:
        asked = time.monotonic_ns()
        try:
            text = ask_now(http, self._url, limit_s=LIMIT_S)
            found = parse(text)
        except (NoAnswerError, ValueError):
            return
        self._devices.append(each_device(text, self._names.each))
        if (celsius := pick(found, self._names.celsius)) is not None:
            self._chip.append(reading([None, None, None, round(celsius * 1000)]))
        # The middle of asking and answering is when the figures were true, as near as can be told.
        at = (asked + time.monotonic_ns()) // 2
        memory = pick(found, self._names.memory)
        device, percent = pick(found, self._names.device), pick(found, self._names.device_load)
        energy = self._energy(found, at / 1e9)
        cpu = pick(found, self._names.cpu_s)
        row = (
            at,
            UNTOLD if memory is None else int(memory),
            UNTOLD,
            UNTOLD,
            0 if cpu is None else int(cpu * 1e9),
            UNTOLD if energy is None else int(energy * 1e6),
            UNTOLD if device is None else int(device),
            UNTOLD if percent is None else round(100 * percent),
        )
        times, spent = self._columns[0], self._columns[5]
        watts = watts_between(times[-1], spent[-1], row[0], row[5]) if len(times) else None
        now = hottest([*self._devices[-1], *self._chip[-1:]])
        self._latest = Latest(int((memory or 0) + (device or 0)), 0.0, watts, None if percent is None else row[7], now)
        for column, value in zip(self._columns, row, strict=True):
            column.append(value)

    def _energy(self, found: Mapping[str, float], at_s: float) -> float | None:
        counter = pick(found, self._names.joules)
        if counter is not None:
            return counter
        watts = pick(found, self._names.watts)
        if watts is None:
            return None
        if self._last_watts is not None:
            before_s, before = self._last_watts
            self._joules += (before + watts) / 2 * (at_s - before_s)
        self._last_watts = (at_s, watts)
        return self._joules


def scraped_idle_watts(url: str, names: Names, seconds: float) -> float | None:
    """Power an endpoint tells over a short while: the median of its watts, or its joules over time. Blocks."""
    import httpx

    watts: list[float] = []
    joules: list[tuple[float, float]] = []
    end = time.monotonic() + seconds
    with httpx.Client(timeout=LIMIT_S, trust_env=False) as http:
        while True:
            try:
                found = parse(ask_now(http, url, limit_s=LIMIT_S))
            except (NoAnswerError, ValueError):
                return None
            power, energy = pick(found, names.watts), pick(found, names.joules)
            if power is not None:
                watts.append(power)
            if energy is not None:
                joules.append((time.monotonic(), energy))
            if time.monotonic() >= end:
                break
            time.sleep(PERIOD_S)
    if watts:
        return median(watts)
    if len(joules) < 2:
        return None
    return (joules[-1][1] - joules[0][1]) / (joules[-1][0] - joules[0][0])
