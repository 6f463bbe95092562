"""Where model files come from."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol


@dataclass(frozen=True)
class ModelFile:
    """A model as a file."""

    name: str
    quantization: str | None
    path: Path
    """On the machine where the engine is to run."""
    size_bytes: int


class Models(Protocol):
    """Where model files come from."""

    def find(self, model: str, quantization: str | None, rig: str | None = None) -> ModelFile | None:
        """The file of a model on a rig (this machine where none is named), or None where it must be made first or is
        found only when the engine starts.

        Raises:
            ModelError: It is neither there nor can it be made.
        """
        ...

    def needs_making(self, rig: str | None) -> bool:
        """True where a model that is not found is to be made on this machine before the run."""
        ...

    def planned_bytes(self, model: str, quantization: str | None) -> int:
        """Size of a file that would have to be made."""
        ...

    def make(self, model: str, quantization: str | None, progress: Callable[[int, int], None]) -> ModelFile:
        """Make it; blocks for seconds, so call it in a worker thread."""
        ...
