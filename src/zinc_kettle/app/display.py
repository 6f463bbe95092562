"""How things are to look and to be said, as the person has set it.

Read by itself, without what checks a whole file of preferences: the first paint, and every command, wait for it.
"""

from __future__ import annotations

from typing import Any

from zinc_kettle.config import Places
from zinc_kettle.core.units import PREFIXES, SPOKEN
from zinc_kettle.errors import KettleError
from zinc_kettle.formats.toml import read_toml

PREFERENCES = "preferences.toml"


def worn(places: Places) -> str:
    """The theme that is set: `dark` or `light`."""
    return "light" if _set(places, "screen", "theme") == "light" else "dark"


def speak(places: Places) -> None:
    """Have this process say numbers as the person has set it."""
    found = _set(places, "units", "memory")
    SPOKEN.memory = next((unit for unit in PREFIXES if unit == found), "GB")


def _set(places: Places, section: str, name: str) -> Any:
    """A value of the file; None where there is none, or where the file cannot be read: Settings tells why."""
    try:
        return read_toml(places.home / PREFERENCES)[0][section][name]
    except (KettleError, KeyError, TypeError):
        return None
