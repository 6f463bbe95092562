"""All rigs of a person: how each is reached (the rig file), and what was gathered and probed of it (kept beside)."""

from __future__ import annotations

import json
import time
from pathlib import Path
from typing import Any, cast

from zinc_kettle.config import DEMO_FILES, Places
from zinc_kettle.core.facts import MachineFacts
from zinc_kettle.core.plan.factors import HERE
from zinc_kettle.core.rig import Rig, RigPlan, rig_of
from zinc_kettle.errors import RigError, UsageError
from zinc_kettle.formats.atomic_file import atomic_file
from zinc_kettle.formats.rigs import add_address, add_on_paper, read_rigs, type_fact
from zinc_kettle.rigs.adapters import Adapter, LocalRig, RehearsalRig, SshRig, UrlRig, adapter
from zinc_kettle.sim.fleet import SIM_RIGS

MAX_KNOWN_BYTES = 4 << 20


class RigBook:
    """Reads the rig file; asks rigs; keeps what they told."""

    def __init__(self, places: Places, *, demo: bool = False) -> None:
        self._file = places.rigs
        self.keys = places.keys
        self._known_file = places.rigs.with_name("known-rigs.json")
        self._plans = {plan.name: plan for plan in read_rigs(self._file)}
        if demo:
            for plan in read_rigs(DEMO_FILES / "rigs.toml"):
                self._plans.setdefault(plan.name, plan)
        self._known = self._read_known()
        self._adapters: dict[str, LocalRig | UrlRig | SshRig | RehearsalRig] = {}

    @property
    def file(self) -> Path:
        """The rig file."""
        return self._file

    def plans(self) -> list[RigPlan]:
        """All rigs, this machine first."""
        return sorted(self._plans.values(), key=lambda p: p.reach != "here")

    def plan(self, name: str | None) -> RigPlan:
        """A rig by its name; this machine where none is given.

        Raises:
            UsageError: There is none of that name.
        """
        if name is None:
            return next(p for p in self._plans.values() if p.reach == "here")
        if name not in self._plans and name in SIM_RIGS:
            return RigPlan(name, "rehearsal")  # what is made up needs no file that says how it is reached
        if name not in self._plans:
            raise UsageError(
                f"there is no rig {name!r}",
                why="the rig file does not list it",
                remedy=f"one of: {', '.join(self._plans)}; docs/rigs.md explains how to add one",
            )
        return self._plans[name]

    def adapter(self, name: str) -> LocalRig | UrlRig | SshRig | RehearsalRig:
        """What asks a rig."""
        if name not in self._adapters:
            self._adapters[name] = adapter(self.plan(name))
        return self._adapters[name]

    def rig(self, name: str | None) -> Rig:
        """What is known of a rig now."""
        plan = self.plan(name)
        known = self._known.get(plan.name, {})
        if plan.simulated and not known.get("facts") and plan.name in SIM_RIGS:
            # What is made up need not be asked for.
            known = {**known, "facts": SIM_RIGS[plan.name].facts()}
        return rig_of(plan, known)

    def facts_of(self, name: str | None) -> MachineFacts:
        """Plain facts to keep with a study: gathered, typed in, probed."""
        plan = self.plan(name)
        known = self._known.get(plan.name, {})
        typed = {key: fact.value for key, fact in plan.typed.items()}
        out = {**(known.get("facts") or {}), **typed, "simulated": plan.simulated, "address": plan.address}
        for name_of in ("probe", "busy"):
            if known.get(name_of):
                out[name_of] = known[name_of]
        return cast(MachineFacts, out)

    async def gather(self, name: str) -> Rig:
        """Ask a rig for its facts and who is busy there; trouble is kept with it instead of raised."""
        if self.plan(name).reach == "paper":
            return self.rig(name)
        entry = self._known.setdefault(name, {})
        asked: Adapter = self.adapter(name)
        try:
            entry["facts"] = await asked.facts()
            entry["busy"] = await asked.busy()
            entry["trouble"] = ""
            entry["gathered_s"] = time.time()
        except RigError as error:
            entry["trouble"] = str(error)
        self._write_known()
        return self.rig(name)

    async def probe(self, name: str) -> Rig:
        """Probe a rig and keep what was found.

        Raises:
            RigError: It cannot be probed.
        """
        if self.plan(name).reach == "paper":
            raise RigError(f"{name} is on paper", why="there is only its data sheet, and nothing to probe")
        found = await self.adapter(name).probe()
        self._known.setdefault(name, {})["probe"] = found
        self._write_known()
        return await self.gather(name)

    async def probe_unasked(self, name: str) -> bool:
        """Probe this machine quickly where nothing tells its bandwidth yet and it is quiet; true where something new is
        known. Trouble is none here: nobody asked for it.
        """
        rig, asked = self.rig(name), self.adapter(name) if self.plan(name).reach == "here" else None
        if not isinstance(asked, LocalRig) or rig.bandwidth is not None:
            return False
        try:
            found = await asked.quick_probe()
        except RigError:
            return False
        if found is not None:
            self._known.setdefault(name, {})["probe"] = found
            self._write_known()
        return found is not None

    def type_in(self, name: str, fact: str, value: float | str, unit: str, source: str) -> Rig:
        """Write a typed fact into the rig file.

        Args:
            name: Of the rig.
            fact: Of the fact.
            value: A number, or text where the fact is text.
            unit: Of the number; empty for text.
            source: Where the person has it from.

        Raises:
            UsageError: The fact cannot be used.
        """
        type_fact(self._file, self.plan(name), fact, value, unit, source)
        return self._read_again(name)

    def add_address(self, name: str, url: str, *, model: str, key_variable: str | None) -> Rig:
        """Write an engine that already runs into the rig file.

        Raises:
            UsageError: Its name or address cannot be used.
        """
        add_address(self._file, name, url, model=model, key_variable=key_variable)
        return self._read_again(name)

    def add_on_paper(self, name: str, sheet: str) -> Rig:
        """Write a machine into the rig file of which there is only a data sheet.

        Raises:
            UsageError: Its name or sheet cannot be used.
        """
        add_on_paper(self._file, name, sheet)
        return self._read_again(name)

    def _read_again(self, name: str) -> Rig:
        for plan in read_rigs(self._file):
            self._plans[plan.name] = plan
        return self.rig(name)

    async def close(self) -> None:
        """Let go of all rigs."""
        for used in self._adapters.values():
            await used.close()
        self._adapters.clear()

    def _read_known(self) -> dict[str, Any]:
        try:
            if self._known_file.stat().st_size > MAX_KNOWN_BYTES:
                return {}
            value = json.loads(self._known_file.read_text(encoding="utf-8"))
        except (OSError, ValueError):
            # What was gathered can be gathered again; nothing measured is in this file.
            return {}
        return value if isinstance(value, dict) else {}

    def _write_known(self) -> None:
        with atomic_file(self._known_file, folder_mode=0o700) as part:
            part.write_text(json.dumps(self._known), encoding="utf-8")


def is_here(name: str | None) -> bool:
    """True for the machine the tool runs on."""
    return name is None or name == HERE
