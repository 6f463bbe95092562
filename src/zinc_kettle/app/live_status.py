"""A running study's last signs of life, beside its store: what `watch` and other screens show of it.

Not in the store itself: that syncs each write to the disk, which twice a second would show in what is measured.
"""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec

from zinc_kettle.session import progress as p

SIGNS_PER_S = 2.0
MAX_BYTES = 1 << 20
_KINDS: dict[str, type[Any]] = {
    kind.__name__: kind for kind in (p.Making, p.Loading, p.Warming, p.Disturbed, p.Live, p.Progress, p.Paused)
}
"""Events that say how a run stands now; whatever else happens is in the store."""
_FORGETS: dict[str, tuple[str, ...]] = {
    "Loading": ("Live", "Warming", "Making", "Paused", "Disturbed"),
    "Warming": ("Live", "Loading", "Paused", "Disturbed"),
    "Disturbed": ("Live", "Warming"),
    "Live": ("Making", "Paused", "Disturbed"),
    "Paused": ("Live",),
}
"""What is no longer so once an event of this kind has come."""


class Glance:
    """Passes events on, and writes the newest of each kind down.

    Args:
        emit: Takes each event.
        store: The store they belong to.
    """

    def __init__(self, emit: Callable[[p.Event], None], store: Path) -> None:
        self._emit = emit
        self._store = store
        self._file: Path | None = None
        self._last: dict[str, p.Event] = {}
        self._written_s = 0.0

    def __call__(self, event: p.Event) -> None:
        """Take one event."""
        name = type(event).__name__
        if isinstance(event, p.Began):
            self._file = glance_file(self._store, event.run_id)
        elif isinstance(event, p.Ended) and self._file is not None:
            self._file.unlink(missing_ok=True)
        elif name in _KINDS:
            for old in (name, *_FORGETS.get(name, ())):
                self._last.pop(old, None)
            self._last[name] = event
            if time.monotonic() - self._written_s >= 1 / SIGNS_PER_S or not isinstance(event, p.Live):
                self._write()
        self._emit(event)

    def _write(self) -> None:
        if self._file is None:
            return
        self._written_s = time.monotonic()
        body = [(name, msgspec.to_builtins(event)) for name, event in self._last.items()]
        part = self._file.with_suffix(".part")
        with contextlib.suppress(OSError):  # nobody may be watching, and nothing measured is lost
            part.write_bytes(msgspec.json.encode((time.time(), body)))
            part.chmod(0o600)
            part.replace(self._file)


def glance_file(store: Path, run_id: str) -> Path:
    """Where the signs of a run are."""
    return store.with_name(f"{store.name}-live-{run_id}")


def read_glance(store: Path, run_id: str) -> list[p.Event]:
    """The newest events of a run that is measured elsewhere; whether it still is, its lease in the store tells."""
    file = glance_file(store, run_id)
    with contextlib.suppress(OSError, msgspec.MsgspecError, KeyError):
        if file.stat().st_size > MAX_BYTES:
            return []
        _at_s, body = msgspec.json.decode(file.read_bytes(), type=tuple[float, list[tuple[str, dict[str, Any]]]])
        return [msgspec.convert(event, _KINDS[name]) for name, event in body]
    return []
