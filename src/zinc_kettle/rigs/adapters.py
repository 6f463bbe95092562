"""Each way of reaching a rig, with one face: facts, probe, who is busy there, closing."""

from __future__ import annotations

import asyncio
import json
import os
import sys
import time
from typing import Any, Protocol

from zinc_kettle.core.rig import RigPlan
from zinc_kettle.errors import RigError
from zinc_kettle.rigs import local
from zinc_kettle.rigs.ssh import SshShell, end_child
from zinc_kettle.rigs.ssh_watch import script
from zinc_kettle.wire.boot import BOOT

ASK_S = 10.0
START_S = 20.0
PROBE_S = 30.0


class Adapter(Protocol):
    """A rig as the toolgathers its facts."""

    async def facts(self) -> dict[str, Any]:
        """What it tells of itself; raises RigError."""
        ...

    async def probe(self) -> dict[str, Any]:
        """Its bandwidth and arithmetic rate; raises RigError."""
        ...

    async def busy(self) -> dict[str, Any] | None:
        """Who uses it now; None where that cannot be seen."""
        ...

    async def close(self) -> None:
        """Let go of it."""
        ...


class LocalRig:
    """The machine the tool runs on."""

    async def facts(self) -> dict[str, Any]:
        """Facts of this machine."""
        return await asyncio.to_thread(local.machine_facts)

    async def probe(self) -> dict[str, Any]:
        """Probe this machine."""
        facts = await self.facts()
        return await asyncio.to_thread(local.probe, int(facts.get("physical_cores") or os.cpu_count() or 1))

    async def quick_probe(self) -> dict[str, Any] | None:
        """Probe this machine in under three seconds; None where it is busy."""
        facts = await self.facts()
        return await asyncio.to_thread(local.quick_probe, int(facts.get("physical_cores") or os.cpu_count() or 1))

    async def busy(self) -> dict[str, Any] | None:
        """Who uses this machine."""
        return await asyncio.to_thread(local.busy)

    async def close(self) -> None:
        """Nothing to let go of."""


class UrlRig:
    """An engine behind an address: of the machine nothing can be seen."""

    def __init__(self, plan: RigPlan) -> None:
        self._plan = plan

    async def facts(self) -> dict[str, Any]:
        """Only that it answers."""
        from zinc_kettle.web.bounded import NoAnswerError, ask

        try:
            await ask(self._plan.url, limit_s=ASK_S, any_status=True)
        except NoAnswerError as error:
            raise RigError(f"{self._plan.name} does not answer", why=str(error), remedy="check its address") from error
        return {"graphics": []}

    async def probe(self) -> dict[str, Any]:
        """Not to be had over an address."""
        raise RigError(
            f"{self._plan.name} cannot be probed",
            why="nothing can be run on a rig known only by its address",
            remedy="reach it over SSH, or type its bandwidth in",
        )

    async def busy(self) -> dict[str, Any] | None:
        """Cannot be seen."""
        return None

    async def close(self) -> None:
        """Nothing to let go of."""


class SshRig:
    """A machine over SSH; Python 3 there is all that facts, probe of reading and telemetry need."""

    def __init__(self, plan: RigPlan) -> None:
        self.plan = plan
        self.shell = SshShell(plan.host, ssh_config=plan.ssh_config)

    async def _script(self, name: str, *arguments: str, limit_s: float = ASK_S, python: str = "") -> dict[str, Any]:
        text = await self.shell.run(
            [python or self.plan.python, "-c", BOOT, *arguments], give=script(name), limit_s=limit_s
        )
        try:
            value: dict[str, Any] = json.loads(text)
        except ValueError as error:
            raise RigError(f"{self.plan.name} gave an unexpected answer", why=text[:200]) from error
        return value

    async def facts(self) -> dict[str, Any]:
        """Facts of the machine there."""
        return await self._script("facts", limit_s=START_S)

    async def probe(self) -> dict[str, Any]:
        """Probe it; the arithmetic rate wants numpy there, in the engine's Python where one is named."""
        facts = await self.facts()
        start = time.monotonic()
        cores = int(facts.get("physical_cores") or 1)
        reading = await self._script("probe", str(cores), limit_s=PROBE_S)
        python = self.plan.engine_python or self.plan.python
        gemm, note = {}, ""
        for count in sorted({1, cores}):
            found = (await self._script("probe", "gemm", str(count), limit_s=PROBE_S, python=python))["gemm"]
            if isinstance(found, str):
                note = found
            else:
                gemm[str(count)] = found
        return {
            "reading": reading["reading"],
            "gemm": gemm,
            "gemm_note": note,
            "took_s": time.monotonic() - start,
            "busy_cores": 0.0,
        }

    async def busy(self) -> dict[str, Any] | None:
        """Cores in use there over half a second, and memory."""
        return await self._script("busy", limit_s=START_S)

    async def close(self) -> None:
        """Close tunnels and connection."""
        await self.shell.close()


class RehearsalRig:
    """A simulated rig: its process is started when first asked and ended when closed."""

    def __init__(self, plan: RigPlan) -> None:
        self.plan = plan
        self._process: asyncio.subprocess.Process | None = None
        self._address = plan.url
        self._lock = asyncio.Lock()

    async def address(self) -> str:
        """Where it listens; started where it does not run yet.

        Raises:
            RigError: It did not start.
        """
        async with self._lock:
            if self._address and (self.plan.url or (self._process is not None and self._process.returncode is None)):
                return self._address
            process = await asyncio.create_subprocess_exec(
                sys.executable,
                "-m",
                "zinc_kettle.sim.rehearsal",
                self.plan.name,
                stdin=asyncio.subprocess.PIPE,
                stdout=asyncio.subprocess.PIPE,
                stderr=asyncio.subprocess.DEVNULL,
            )
            self._process = process
            assert process.stdout is not None
            try:
                line = await asyncio.wait_for(process.stdout.readline(), START_S)
                self._address = str(json.loads(line)["address"])
            except (TimeoutError, ValueError, KeyError) as error:
                await self.close()
                raise RigError(
                    f"there is no simulated rig {self.plan.name}",
                    why=str(error),
                    remedy="zinc-kettle rehearse --list shows them",
                ) from error
            return self._address

    async def facts(self) -> dict[str, Any]:
        """What the made-up machine tells."""
        from zinc_kettle.web.bounded import NoAnswerError, ask_json

        url = f"{await self.address()}/rehearse/facts"
        try:
            found: dict[str, Any] = await ask_json(url, limit_s=ASK_S)
        except NoAnswerError as error:
            raise RigError(f"the simulated rig {self.plan.name} does not answer", why=str(error)) from error
        return found

    async def probe(self) -> dict[str, Any]:
        """Nothing to probe: what it can do is made up, and told with its facts."""
        raise RigError(
            f"{self.plan.name} is simulated and cannot be probed", why="its bandwidth is made up, see its facts"
        )

    async def busy(self) -> dict[str, Any] | None:
        """A simulated rig has no others on it."""
        return None

    async def close(self) -> None:
        """End its process."""
        process, self._process = self._process, None
        if process is not None:
            await end_child(process)


def adapter(plan: RigPlan) -> LocalRig | UrlRig | SshRig | RehearsalRig:
    """The adapter for the way a rig is reached."""
    if plan.reach == "ssh":
        return SshRig(plan)
    if plan.reach == "rehearsal":
        return RehearsalRig(plan)
    return UrlRig(plan) if plan.reach == "url" else LocalRig()
