"""An engine that already runs somewhere and speaks the open protocol: asked, never started or stopped."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import cast

from zinc_kettle.core.facts import EngineFacts
from zinc_kettle.core.plan.recipe import Endpoint, Recipe
from zinc_kettle.core.plan.study import LaunchSpec
from zinc_kettle.core.record.telemetry import Launch
from zinc_kettle.core.redact import redact
from zinc_kettle.driver.target import read_key
from zinc_kettle.engines.introspection import count_tokens, told_facts, told_models
from zinc_kettle.engines.listener import process_at, resident_bytes
from zinc_kettle.engines.roundtrip import round_trip_s
from zinc_kettle.errors import KettleError
from zinc_kettle.ports.models import ModelFile
from zinc_kettle.wire.messages import ChatMessage


class EndpointEngine:
    """A running engine behind an address.

    Args:
        endpoint: Where it is.
        recipe: What it speaks.
        launch_id: Name of this use of it.
        rig: Name of its rig; None for one the study gives by URL.
        folder: Data folder, for key files by bare name.
    """

    def __init__(
        self, endpoint: Endpoint, recipe: Recipe, launch_id: str, rig: str | None = None, folder: Path = Path()
    ) -> None:
        self.rig = rig
        self.recipe = recipe
        self.base_url = endpoint.url
        self.model_name = endpoint.model
        self.key_variable = endpoint.key_variable
        self.key_file = key_path(endpoint.key_file, folder)
        self.ca_file = key_path(endpoint.ca_file, folder)
        self.pid: int | None = None
        self.launch = Launch(launch_id, None, None)
        self._known: EngineFacts = {"engine": "an engine that was already running", "recipe": recipe.name}
        self.facts = self._known

    def alive(self) -> bool:
        """Taken as alive; a request will tell."""
        return True

    def last_words(self) -> str:
        """Nothing can be heard from here."""
        return ""

    async def count_tokens(self, messages: Sequence[ChatMessage]) -> int | None:
        """As its recipe says; where it says nothing, or a key is needed, the session counts by usage instead."""
        keyed = self.key_variable is not None or self.key_file is not None
        return None if keyed else await count_tokens(self.recipe.count, self.base_url, messages)

    async def round_trip_s(self) -> float | None:
        """Shortest time of a tiny request to it and back; also to a plain web server."""
        return await round_trip_s(self.base_url)

    async def look_again(self) -> None:
        """Ask what it is now: somebody may have put another model or another program behind the address."""
        try:
            key = read_key(self.key_variable, self.key_file)
        except KettleError:
            key = ""  # the driver says what is wrong with it
        served, made_up = await told_models(self.base_url, key, self.ca_file)
        told: dict[str, object] = {**await told_facts(self.recipe, self.base_url)}
        told |= ({"served": served} if served else {}) | ({"simulated": True} if made_up else {})
        plain = {name: redact(value, key) if isinstance(value, str) else value for name, value in told.items()}
        self.facts = {**self._known, **cast(EngineFacts, plain)}

    def find_process(self) -> None:
        """Find its process, where it runs on this machine: its memory and processor time are then watched."""
        self.pid = process_at(self.base_url)
        if self.pid is not None:
            self.launch = replace(self.launch, loaded_bytes=resident_bytes(self.pid))

    async def stop(self) -> None:
        """It is not ours to stop."""


def key_path(name: str | None, folder: Path) -> str | None:
    """A key or certificate file: as it is named, `~` for the home folder, else within the keys folder."""
    return None if name is None else str(folder / Path(name).expanduser())


class EndpointStarter:
    """Hands out the one engine of an endpoint."""

    def __init__(self, endpoint: Endpoint, recipe: Recipe, rig: str | None = None, folder: Path = Path()) -> None:
        self._endpoint = endpoint
        self._recipe = recipe
        self._rig = rig
        self._folder = folder

    async def start(self, spec: LaunchSpec, model: ModelFile | None, *, launch_id: str) -> EndpointEngine:
        """Nothing to start; reachability shows with the first request."""
        engine = EndpointEngine(self._endpoint, self._recipe, launch_id, self._rig, self._folder)
        await engine.look_again()
        if not engine.facts.get("simulated"):
            await asyncio.to_thread(engine.find_process)
        return engine

    async def close(self) -> None:
        """Nothing to let go of."""
