"""Finds the models in a folder and reads what each is; a file that cannot be read becomes a line that says why."""

from __future__ import annotations

import os
import re
from dataclasses import dataclass
from pathlib import Path

from zinc_kettle.core.model_shape import ModelShape
from zinc_kettle.errors import ModelError
from zinc_kettle.formats import gguf_model, safetensors

MAX_DEPTH = 4
MAX_FOUND = 2_000
_LATER_PART = re.compile(r"-(?!00001)\d{5}-of-\d{5}\.gguf$")


@dataclass(frozen=True, slots=True)
class FoundModel:
    """A model in a folder."""

    path: Path
    size_bytes: int
    """Of all its parts."""
    shape: ModelShape | None
    trouble: str = ""
    """Why it cannot be used."""


def read_model(path: Path) -> ModelShape:
    """Read a model file or a safetensors folder.

    Raises:
        ModelError: It cannot be used.
    """
    if path.is_dir():
        if not safetensors.is_folder(path):
            raise ModelError(f"{path.name} is a folder without config.json and *.safetensors")
        return safetensors.read_safetensors(path)
    if not path.is_file():
        raise ModelError(f"there is no file {path.name}", remedy="give the path of a GGUF file or a safetensors folder")
    return gguf_model.read_gguf(path)


def scan(folder: Path) -> list[FoundModel]:
    """All models under a folder, by name; links to folders are not followed.

    Raises:
        ModelError: There is no such folder.
    """
    if not folder.is_dir():
        raise ModelError(f"there is no folder {folder.name}", remedy="give the path of a folder with model files")
    found: list[Path] = []
    for root, folders, files in os.walk(folder):
        here = Path(root)
        folders.sort()
        if len(here.relative_to(folder).parts) >= MAX_DEPTH:
            folders.clear()
        found += [here / f for f in sorted(files) if f.endswith(".gguf") and not _LATER_PART.search(f)]
        if safetensors.is_folder(here):
            found.append(here)
        if len(found) >= MAX_FOUND:
            break
    return [_look(path) for path in found[:MAX_FOUND]]


def _look(path: Path) -> FoundModel:
    size = 0
    try:
        parts = sorted(path.glob("*.safetensors")) if path.is_dir() else gguf_model.part_paths(path)
        size = sum(p.stat().st_size for p in parts)
        return FoundModel(path, size, read_model(path))
    except ModelError as error:
        return FoundModel(path, size, None, str(error))
    except OSError as error:
        return FoundModel(path, size, None, f"cannot be read: {error.strerror}")
