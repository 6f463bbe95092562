"""Engines of simulated rigs: loaded and unloaded by request; everything they give is labelled simulated."""

from __future__ import annotations

import time
from collections.abc import Sequence

from zinc_kettle.core.facts import EngineFacts
from zinc_kettle.core.plan.recipe import Recipe
from zinc_kettle.core.plan.study import LaunchSpec
from zinc_kettle.core.record.telemetry import Launch
from zinc_kettle.core.text import neutralise
from zinc_kettle.engines.roundtrip import round_trip_s
from zinc_kettle.errors import EngineError
from zinc_kettle.ports.models import ModelFile
from zinc_kettle.wire.messages import ChatMessage

ASK_S = 10.0


class RehearsalEngine:
    """A loaded engine of a simulated rig.

    Args:
        base_url: Its address here.
        recipe: Of the engine it stands for.
        spec: What it was started with.
        told: What it said of itself.
        launch: The launch as it is kept.
    """

    def __init__(self, base_url: str, recipe: Recipe, spec: LaunchSpec, told: EngineFacts, launch: Launch) -> None:
        self.base_url = base_url
        self.model_name = spec.model
        self.key_variable: str | None = None
        self.key_file: str | None = None
        self.ca_file: str | None = None
        self.pid: int | None = None
        self.rig = spec.rig
        self.recipe = recipe
        self.launch = launch
        self.facts: EngineFacts = {"engine": "rehearsal engine", "recipe": recipe.name, **told, "simulated": True}
        self._ended = False

    def alive(self) -> bool:
        """False once it was stopped."""
        return not self._ended

    def last_words(self) -> str:
        """A rehearsal says nothing."""
        return ""

    async def count_tokens(self, messages: Sequence[ChatMessage]) -> int | None:
        """Words and the template: how its tokenizer counts."""
        return sum(len(m.content.split()) for m in messages) + int(self.facts.get("template_tokens", 7))

    async def round_trip_s(self) -> float | None:
        """Shortest time of a tiny request to it and back; this one is real."""
        return await round_trip_s(self.base_url)

    async def look_again(self) -> None:
        """What we started stays what it is."""

    async def stop(self) -> None:
        """Unload the model; the rig itself runs on."""
        import httpx

        self._ended = True
        try:
            async with httpx.AsyncClient(timeout=ASK_S, trust_env=False) as http:
                await http.post(f"{self.base_url}/rehearse/unload")
        except httpx.HTTPError:
            pass  # the rig has ended, and its engine with it


class RehearsalStarter:
    """Loads models on a simulated rig that runs at an address."""

    def __init__(self, base_url: str, recipe: Recipe, *, load_limit_s: float = 300.0) -> None:
        self._base_url = base_url
        self._recipe = recipe
        self._load_limit_s = load_limit_s

    async def start(self, spec: LaunchSpec, model: ModelFile | None, *, launch_id: str) -> RehearsalEngine:
        """Load; see ports.Engines."""
        import httpx

        # A made-up engine knows settings by what they mean.
        roles = {str(role).replace("-", "_"): level for role, level in spec.roles.items()}
        body = {"model": spec.model, "quantization": spec.quantization, **roles}
        started = time.monotonic_ns()
        try:
            async with httpx.AsyncClient(timeout=self._load_limit_s, trust_env=False) as http:
                answer = await http.post(f"{self._base_url}/rehearse/load", json=body)
                told = answer.json()
        except (httpx.HTTPError, ValueError) as error:
            raise EngineError(f"the simulated rig {spec.rig} does not answer", why=str(error)) from error
        if answer.status_code != 200:
            words = neutralise(str(told.get("error", {}).get("message", answer.status_code)))
            raise EngineError(
                "the engine did not start",
                why=words,
                last_words=words,
                remedy="a smaller quantization or context, or another rig",
            )
        loaded = int(told["main_bytes"])
        launch = Launch(
            launch_id=launch_id,
            load_ns=time.monotonic_ns() - started,
            file_cached_share=None,
            baseline_bytes=0,
            loaded_bytes=loaded,
        )
        return RehearsalEngine(self._base_url, self._recipe, spec, told, launch)

    async def close(self) -> None:
        """Nothing to let go of."""
