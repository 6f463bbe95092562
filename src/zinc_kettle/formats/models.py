"""The folder of models: finds files, and makes those that `synth` knows."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from pathlib import Path

from zinc_kettle.core.units import byte_size
from zinc_kettle.errors import ModelError
from zinc_kettle.formats import presets, synth
from zinc_kettle.ports.models import ModelFile

PRESET_SEED = 1
"""Presets are made from this seed, so that the file of a name is the same on every machine."""
HEADER_BYTES = 300_000
DISK_MARGIN_BYTES = 100_000_000


class ModelFolder:
    """Implements ports.Models for one folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def needs_making(self, rig: str | None) -> bool:
        """Always: this folder knows one machine."""
        return True

    def find(self, model: str, quantization: str | None, rig: str | None = None) -> ModelFile | None:
        """The file; None where a preset has still to be made. The folder is this machine's, whatever the rig.

        Raises:
            ModelError: No such file, and no preset of that name.
        """
        if model.endswith(".gguf") or "/" in model:
            try:
                return self._by_path(Path(model).expanduser(), quantization)
            except RuntimeError as error:
                raise ModelError(f"there is no file {model}", why=str(error), remedy="give its full path") from error
        if presets.is_preset(model):
            self._check_preset(model, quantization)
            path = self.folder / synth.file_name(model, str(quantization))
            return _file(model, quantization, path) if path.exists() else None
        names = [f"{model}.{quantization}.gguf", f"{model}-{quantization}.gguf"] if quantization else [f"{model}.gguf"]
        present = {p.name.lower(): p for p in self.folder.glob("*.gguf")} if self.folder.is_dir() else {}
        for name in names:
            if name.lower() in present:
                return _file(model, quantization, present[name.lower()])
        raise ModelError(
            f"there is no model {model!r}" + (f" at {quantization}" if quantization else ""),
            why=f"the model folder has no {' or '.join(names)}",
            remedy=f"put the file there, give its path, or use a preset: {', '.join(presets.PRESETS)}",
        )

    def _by_path(self, path: Path, quantization: str | None) -> ModelFile:
        if not path.is_file():
            raise ModelError(f"there is no file {path.name}", remedy="give the path of a GGUF file")
        return _file(path.stem, quantization, path)

    def _check_preset(self, model: str, quantization: str | None) -> None:
        if quantization not in synth.QUANTIZATIONS:
            given = "no quantization" if quantization is None else repr(quantization)
            raise ModelError(
                f"the preset {model} was requested with {given}",
                remedy=f"set quantization to one of {', '.join(synth.QUANTIZATIONS)}",
            )

    def planned_bytes(self, model: str, quantization: str | None) -> int:
        """Size of a preset's file before it is made."""
        self._check_preset(model, quantization)
        shape = presets.preset(model)
        return synth.tensor_bytes(shape, str(quantization)) + HEADER_BYTES

    def make(self, model: str, quantization: str | None, progress: Callable[[int, int], None]) -> ModelFile:
        """Make a preset's file.

        Raises:
            ModelError: Not enough disk, or it cannot be written.
        """
        need = self.planned_bytes(model, quantization)
        check_disk(self.folder, need)
        path = self.folder / synth.file_name(model, str(quantization))
        synth.write_model(
            path,
            name=model,
            shape=presets.preset(model),
            quantization=str(quantization),
            seed=PRESET_SEED,
            tame=presets.is_tame(model),
            progress=progress,
        )
        return _file(model, quantization, path)


def check_disk(folder: Path, need: int) -> None:
    """Raise ModelError where a folder's disk has no room for `need` bytes and a margin."""
    existing = next(p for p in [folder, *folder.parents] if p.exists())
    free = shutil.disk_usage(existing).free
    if free < need + DISK_MARGIN_BYTES:
        raise ModelError(
            f"{byte_size(need)} are needed and {byte_size(free)} are free",
            remedy="free some disk space, or choose another folder",
        )


def _file(name: str, quantization: str | None, path: Path) -> ModelFile:
    return ModelFile(name, quantization, path, path.stat().st_size)
