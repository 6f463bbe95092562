"""Measuring a model of one's own: its file is found, and asked for."""

from __future__ import annotations

import asyncio
import json
from typing import TYPE_CHECKING

from zinc_kettle.tui.chooser import Choice
from zinc_kettle.tui.host import host

if TYPE_CHECKING:
    from zinc_kettle.tui.station import Station

FIRST_DESIGN = "template:threads"
"""What a model is measured by first: one question with an answer that helps at once."""


def ask_for_model(station: Station) -> None:
    """Find the models on this machine, ask for one, and go to a plan that measures it."""
    station.notify("Looking for model files …", timeout=2)
    station.work(_find(station), group="models")


async def _find(station: Station) -> None:
    app = host(station)
    found = await asyncio.to_thread(app.services.plans.models)
    if not found:
        station.notify(
            "Start it with --models FOLDER, or put a GGUF file into a folder such as ~/models.",
            title="No model file was found",
            severity="warning",
            timeout=12,
        )
        return
    choices = [Choice(model.key, model.title, model.about) for model in found]

    def chosen(key: str) -> None:
        app.plan_from(FIRST_DESIGN, json.loads(key))

    station.choose("Which model is to be measured here?", choices, chosen)
