"""Telemetry of a rig over SSH: our sampling script runs there, and its clock is set against ours."""

from __future__ import annotations

import asyncio
import contextlib
import json
import time
from importlib import resources
from typing import Any

from zinc_kettle.core.devices import Reading, reading, use_of, use_of_one
from zinc_kettle.core.record.telemetry import Latest, Machine, Trace, hottest, watts_between
from zinc_kettle.errors import RigError
from zinc_kettle.ports.remote import RemoteProcess, Shell
from zinc_kettle.rigs.telemetry import UNTOLD, trace_from
from zinc_kettle.wire.boot import BOOT, given

CLOCK_TRIES = 7
LIMIT_S = 15.0
KEPT = 200_000
"""Samples kept: more than four hours."""


def script(name: str) -> str:
    """The text of a rig script, as the bootstrap reads it."""
    return given(resources.files("zinc_kettle.rigs.agent").joinpath(f"{name}.py").read_text(encoding="utf-8"))


class RemoteSampler:
    """Samples one process tree on another machine for as long as its engine runs."""

    def __init__(self, process: RemoteProcess) -> None:
        self._process = process
        self.samples: list[dict[str, Any]] = []
        self.offset_ns = 0
        """To be added to its clock to get ours."""
        self.error_ns = 0
        """Half of the shortest round trip: how far the offset may be wrong."""
        self.cores = 1
        self.power_source = ""
        self._asked = 0
        self._clock: asyncio.Queue[int] = asyncio.Queue()
        self._reader: asyncio.Task[None] | None = None

    @classmethod
    async def start(cls, shell: Shell, python: str, pid: int) -> RemoteSampler:
        """Start sampling a process there.

        Raises:
            RigError: The script does not run there.
        """
        process = await shell.start([python, "-c", BOOT, str(pid)], give=script("watch"))
        out = cls(process)
        try:
            first = json.loads(await asyncio.wait_for(process.out_line(), LIMIT_S))
            out.cores, out.power_source = int(first["cores"] or 1), str(first["power"])
            out._reader = asyncio.create_task(out._read())
            await out._set_clock()
        except (TimeoutError, ValueError, KeyError) as error:
            await out.close()
            raise RigError(
                "telemetry does not start there", why=str(error), remedy=f"check that {python} runs"
            ) from error
        return out

    async def _set_clock(self) -> None:
        """Ask its clock a few times; the answer with the shortest way is the best."""
        best: tuple[int, int] | None = None
        for _ in range(CLOCK_TRIES):
            asked = time.monotonic_ns()
            self._process.give(b"\n")
            theirs = await asyncio.wait_for(self._clock.get(), LIMIT_S)
            now = time.monotonic_ns()
            trip = now - asked
            if best is None or trip < best[0]:
                best = (trip, (asked + now) // 2 - theirs)
        assert best is not None
        self.error_ns, self.offset_ns = best[0] // 2, best[1]

    async def _read(self) -> None:
        while line := await self._process.out_line():
            try:
                value = json.loads(line)
            except ValueError:
                continue
            if "clock" in value:
                self._clock.put_nowait(int(value["clock"]))
            elif "t" in value and len(self.samples) < KEPT:
                self.samples.append(value)

    async def close(self) -> None:
        """End it."""
        self._process.close_input()
        with contextlib.suppress(TimeoutError):
            await asyncio.wait_for(self._process.wait(), 3)
        if self._reader is not None:
            self._reader.cancel()
            await asyncio.gather(self._reader, return_exceptions=True)

    def watch(self) -> RemoteWatch:
        """A watch from now on."""
        return RemoteWatch(self, self.peak_anew())

    def peak_anew(self) -> int:
        """Let the record of the highest memory begin anew; samples that are marked with this number have it so."""
        self._asked += 1
        self._process.give(b"anew\n")
        return self._asked


class RemoteWatch:
    """What a sampler sees from one moment to another."""

    def __init__(self, sampler: RemoteSampler, asked: int) -> None:
        self._sampler = sampler
        self._asked = asked
        # One sample more than what comes, so that the beginning is covered.
        self._from = max(0, len(sampler.samples) - 1)
        self._start_ns = time.monotonic_ns()

    def latest(self) -> Latest:
        """What it takes there, as last sampled."""
        seen = self._sampler.samples[-6:]
        if len(seen) < 2:
            return Latest()
        span = seen[-1]["t"] - seen[0]["t"]
        first, last = (-1 if s.get("uj") is None else int(s["uj"]) for s in (seen[0], seen[-1]))
        watts = watts_between(int(seen[0]["t"]), first, int(seen[-1]["t"]), last)
        percent = seen[-1].get("percent")
        return Latest(
            int(seen[-1]["rss"]) + int(seen[-1].get("device") or 0),
            (seen[-1]["cpu"] - seen[0]["cpu"]) / max(1, span),
            watts,
            None if percent is None else int(percent),
            hottest([*_devices(seen[-1]), *_chip(seen[-1])]),
        )

    def end(self, *, driver_cpu_ns: int) -> tuple[Trace, Machine]:
        """What was seen; the driver runs on this machine and is no part of that one."""
        sampler = self._sampler
        seen = sampler.samples[self._from :]
        wall_s = max(1, time.monotonic_ns() - self._start_ns) / 1e9
        columns = [[int(s["t"]) + sampler.offset_ns for s in seen]]
        columns += [[int(s[name]) for s in seen] for name in ("rss", "anon", "file", "cpu")]
        columns += [[UNTOLD if s[name] is None else int(s[name]) for s in seen] for name in ("uj", "device", "percent")]
        highest = max((int(s["high"]) for s in seen if s["asked"] >= self._asked), default=UNTOLD)
        own = int(seen[-1]["own"] - seen[0]["own"]) if seen else 0
        trace = trace_from(columns, own, highest, sampler.power_source)
        return trace, _machine(seen, wall_s, sampler.cores, own)


def _devices(sample: dict[str, Any]) -> list[Reading]:
    return [reading(each) for each in sample.get("each", ())]


def _chip(sample: dict[str, Any]) -> list[Reading]:
    """Of its processor; empty where no sensor tells anything."""
    return [reading(told)] if (told := sample.get("chip")) else []


def _machine(seen: list[dict[str, Any]], wall_s: float, cores: int, own_ns: int) -> Machine:
    if len(seen) < 2:
        return Machine(wall_s, cores, 0.0, 0.0, 0.0)
    span_s = (seen[-1]["t"] - seen[0]["t"]) / 1e9
    busy, stolen, total = (seen[-1]["machine"][i] - seen[0]["machine"][i] for i in range(3))
    engine_s = (seen[-1]["cpu"] - seen[0]["cpu"]) / 1e9
    return Machine(
        wall_s=wall_s,
        cores=cores,
        busy_cores=busy / span_s,
        own_cores=(engine_s + own_ns / 1e9) / span_s,
        stolen_share=stolen / total if total > 0 else 0.0,
        devices=use_of([_devices(s) for s in seen]),
        processor=use_of_one([one for s in seen for one in _chip(s)]),
    )
