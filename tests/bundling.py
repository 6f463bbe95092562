"""Bundles taken apart and put together again, as a hostile person would."""

from __future__ import annotations

import hashlib
import zipfile
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import tomlkit

from zinc_kettle.formats.bundle.archive import LIST

Parts = dict[str, bytes]


def parts_of(bundle: Path) -> Parts:
    """Everything in a bundle."""
    with zipfile.ZipFile(bundle) as archive:
        return {name: archive.read(name) for name in archive.namelist()}


def built(parts: Mapping[str, bytes], path: Path, **said: Any) -> Path:
    """A bundle of these parts whose list agrees with them, as a hostile person would make it."""
    body = {name: data for name, data in parts.items() if name != LIST}
    told = {**tomlkit.parse(parts[LIST].decode()).unwrap(), **said}
    told["parts"] = [
        {"name": name, "bytes": len(data), "sha256": hashlib.sha256(data).hexdigest()} for name, data in body.items()
    ]
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in {**body, LIST: tomlkit.dumps(told).encode()}.items():
            archive.writestr(name, data)
    return path
