"""What a run needs of the outside."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from dataclasses import dataclass

from zinc_kettle.core.facts import DriverTest
from zinc_kettle.ports.clock import Clock
from zinc_kettle.ports.driver import LoadSource
from zinc_kettle.ports.engines import Engines
from zinc_kettle.ports.models import Models
from zinc_kettle.ports.store import Store
from zinc_kettle.ports.telemetry import Telemetry


@dataclass(frozen=True)
class Ports:
    """All a study needs of the outside."""

    engines: Engines
    models: Models
    new_driver: Callable[[], Awaitable[LoadSource]]
    telemetry: Telemetry
    store: Store
    clock: Clock
    test_driver: Callable[[int], Awaitable[DriverTest]] | None = None
    """Holds the driver against a paced server at so many streams; its account is kept with the study."""
