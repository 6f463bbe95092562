"""Driving the application without a terminal: waiting until it has nothing left to do, and reading what it shows."""

from __future__ import annotations

import html
import re

from textual.app import App
from textual.pilot import Pilot

from zinc_kettle.tui.app import KettleApp

TAG = re.compile(r"<[^>]+>")


async def settled(pilot: Pilot[int]) -> None:
    """Wait for the keys that were typed, for work beside the screen, and for what that puts up."""
    app = pilot.app
    assert isinstance(app, KettleApp)
    for _ in range(2):
        await app.typed_out()
        await pilot.pause()
        await app.workers.wait_for_complete([w for w in app.workers if w.group != "named"])
        await pilot.pause()


def shown_text(app: App[int]) -> str:
    """What is on the screen, line by line, as words."""
    picture = app.export_screenshot()
    lines = (line for line in picture.splitlines() if "<text" in line)
    return "\n".join(html.unescape(TAG.sub("", line)).replace("\xa0", " ") for line in lines)
