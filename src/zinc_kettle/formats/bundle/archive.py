"""The file of a bundle: a zip archive with a list of its parts, each with its size and checksum.

A bundle from elsewhere is hostile until it is checked: what is read is bounded before it is read, and nothing in the
archive says where anything is written. docs/bundles.md describes the format.
"""

from __future__ import annotations

import hashlib
import re
import struct
import zipfile
import zlib
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import tomlkit

from zinc_kettle.core.record.bounds import is_possible
from zinc_kettle.core.text import neutralise, shorten
from zinc_kettle.errors import BundleError, StudyFileError
from zinc_kettle.formats.toml import parse_toml

ENDING = ".kettle"
FORMAT, VERSION = "kettle-bundle", 1
LIST = "bundle.toml"
PARTS = (
    "plan.json",
    "run.toml",
    "facts.json",
    "study.toml",
    "decisions.jsonl",
    "notes.jsonl",
    "repeats.jsonl",
    "requests.parquet",
    "traces.parquet",
)
"""What a run may have; and files in `prompts`."""
_NAME = re.compile(
    rf"runs/[1-9]\d{{0,2}}/(?:{'|'.join(map(re.escape, PARTS))}|prompts/[a-z0-9-]{{1,40}}\.(?:txt|jsonl|csv))"
)
MAX_FILE_BYTES = 4 << 30
MAX_PARTS = 2_000
MAX_LIST_BYTES = 512 << 10
MAX_TEXT_BYTES = 64 << 20
"""Of a part that is not Parquet."""
MAX_RATIO = 100
"""Texts of a bundle pack to a twentieth at best; a part that grows more is a trap."""
SMALL_BYTES = 64 << 10
"""Below this a part may be packed however well it will."""
CHUNK_BYTES = 1 << 16
UNREADABLE = (
    OSError,
    zipfile.BadZipFile,
    zlib.error,
    EOFError,
    ValueError,
    RuntimeError,
    NotImplementedError,
    KeyError,
    struct.error,
)
"""What reading a damaged archive raises."""
DATE = (1980, 1, 1, 0, 0, 0)
"""Of every part, so that the same runs make the same file."""


@dataclass(frozen=True, slots=True)
class ArchivePart:
    """A part as the list has it."""

    name: str
    size: int
    sha256: str


@dataclass(frozen=True)
class BundleList:
    """What a bundle says of itself."""

    tool: str
    """Version of the Zinc Kettle that wrote it."""
    definitions: int
    made_s: float
    """When, in seconds since 1970."""
    left_out: tuple[str, ...]
    """Of `prompts` and `answers`, what was not to be passed on."""
    parts: tuple[ArchivePart, ...]
    digest: str
    """Checksum of the list, and so of all: what two people compare who want to be sure they have the same bundle."""

    @property
    def runs(self) -> list[str]:
        """Folders of its runs, in their order."""
        folders = {"/".join(part.name.split("/")[:2]) for part in self.parts}
        return sorted(folders, key=lambda name: int(name.removeprefix("runs/")))


class BundleWriter:
    """Writes a bundle, part by part.

    Args:
        path: The file; there is none of that name, or it is to be replaced.
    """

    def __init__(self, path: Path) -> None:
        self._zip = zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED, compresslevel=6)
        self._parts: list[ArchivePart] = []

    def add(self, name: str, data: bytes) -> None:
        """Add a part that is at hand."""
        assert _NAME.fullmatch(name), name
        self._zip.writestr(_entry(name), data)
        self._parts.append(ArchivePart(name, len(data), hashlib.sha256(data).hexdigest()))

    def add_file(self, name: str, path: Path) -> None:
        """Add a part that is in a file."""
        assert _NAME.fullmatch(name), name
        digest, size = hashlib.sha256(), 0
        with path.open("rb") as source, self._zip.open(_entry(name), "w", force_zip64=True) as to:
            while chunk := source.read(CHUNK_BYTES):
                digest.update(chunk)
                size += len(chunk)
                to.write(chunk)
        self._parts.append(ArchivePart(name, size, digest.hexdigest()))

    def close(self, *, tool: str, definitions: int, made_s: float, left_out: Sequence[str]) -> str:
        """Write the list and end the file; returns the checksum of the list."""
        text = tomlkit.dumps(
            {
                "format": FORMAT,
                "version": VERSION,
                "tool": tool,
                "definitions": definitions,
                "made_s": made_s,
                "left_out": list(left_out),
                "parts": [{"name": p.name, "bytes": p.size, "sha256": p.sha256} for p in self._parts],
            }
        ).encode()
        self._zip.writestr(_entry(LIST), text)
        self._zip.close()
        return hashlib.sha256(text).hexdigest()

    def abandon(self) -> None:
        """End the file as it is."""
        self._zip.close()


def _entry(name: str) -> zipfile.ZipInfo:
    info = zipfile.ZipInfo(name, DATE)
    # Parquet is packed already.
    info.compress_type = zipfile.ZIP_STORED if name.endswith(".parquet") else zipfile.ZIP_DEFLATED
    info.external_attr = 0o600 << 16
    return info


class Bundle:
    """A bundle opened for reading, whose shape is checked: names, sizes, how it is packed, and its list.

    Args:
        path: The file.

    Raises:
        BundleError: It is not a bundle, or one that cannot be trusted to be read.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        try:
            size = path.stat().st_size
            if size > MAX_FILE_BYTES:
                raise BundleError(path.name, f"is larger than {MAX_FILE_BYTES >> 30} GiB")
            self._zip = zipfile.ZipFile(path)
        except OSError as error:
            raise BundleError(path.name, "cannot be read", why=str(error.strerror or error)) from error
        except UNREADABLE as error:
            raise BundleError(path.name, "is not a bundle", why=_said(error)) from error
        try:
            self.list = self._checked(size)
        except BaseException:
            self._zip.close()
            raise

    def __enter__(self) -> Bundle:
        return self

    def __exit__(self, *_: object) -> None:
        self._zip.close()

    def _checked(self, size: int) -> BundleList:
        entries = self._zip.infolist()
        if len(entries) > MAX_PARTS:
            raise BundleError(self.path.name, f"has {len(entries):,} parts", why=f"{MAX_PARTS:,} are allowed")
        names = [entry.filename for entry in entries]
        if len(set(names)) != len(names):
            raise BundleError(self.path.name, "has two parts of one name")
        if sum(entry.compress_size for entry in entries) > size:
            raise BundleError(self.path.name, "says that its parts are larger than the file")
        for entry in entries:
            problem = _entry_problem(entry)
            if problem:
                raise BundleError(self.path.name, f"has a part {_shown(entry.filename)} that {problem}")
        if LIST not in names:
            raise BundleError(self.path.name, f"has no {LIST}", remedy="a file that zinc-kettle pack wrote")
        found = self._listed(self._read(LIST, MAX_LIST_BYTES))
        if {p.name for p in found.parts} != set(names) - {LIST}:
            raise BundleError(self.path.name, "has other parts than its list names")
        sizes = {entry.filename: entry.file_size for entry in entries}
        wrong = [p.name for p in found.parts if sizes[p.name] != p.size]
        if wrong:
            raise BundleError(self.path.name, f"has parts of another size than its list says: {', '.join(wrong[:5])}")
        return found

    def _listed(self, data: bytes) -> BundleList:
        try:
            raw = parse_toml(data.decode(), file=LIST)
            if raw.get("format") != FORMAT:
                raise BundleError(self.path.name, "is not a bundle", why=f"its format is not {FORMAT}")
            if raw["version"] != VERSION:
                raise BundleError(
                    self.path.name,
                    f"is of version {raw['version']!r}",
                    why=f"this tool reads {VERSION}",
                    remedy="open it with a newer Zinc Kettle",
                )
            parts = tuple(ArchivePart(str(p["name"]), int(p["bytes"]), str(p["sha256"])) for p in raw["parts"])
            left_out = tuple(str(word) for word in raw["left_out"] if word in {"prompts", "answers"})
            tool = neutralise(str(raw["tool"]), keep_newlines=False)[:40]
            digest = hashlib.sha256(data).hexdigest()
            made_s, definitions = float(raw["made_s"]), int(raw["definitions"])
            if not (is_possible("made_s", made_s) and 0 < definitions < MAX_PARTS):
                raise ValueError("a number of it cannot be")
            return BundleList(tool, definitions, made_s, left_out, parts, digest)
        except (UnicodeDecodeError, StudyFileError, KeyError, TypeError, ValueError, OverflowError) as error:
            raise BundleError(self.path.name, f"has a {LIST} that cannot be used", why=_said(error)) from error

    def verify(self) -> None:
        """Hold every part against its checksum.

        Raises:
            BundleError: Some are damaged; all of them are named.
        """
        damaged = []
        for part in self.list.parts:
            digest = hashlib.sha256()
            try:
                for chunk in self.chunks(part.name):
                    digest.update(chunk)
            except BundleError:
                damaged.append(part.name)
                continue
            if digest.hexdigest() != part.sha256:
                damaged.append(part.name)
        if damaged:
            more = f" and {len(damaged) - 5} more" if len(damaged) > 5 else ""
            raise BundleError(self.path.name, f"is damaged: {', '.join(damaged[:5])}{more}", remedy="ask for it again")

    def chunks(self, name: str) -> Iterator[bytes]:
        """A part, piece by piece.

        Raises:
            BundleError: It is damaged.
        """
        try:
            with self._zip.open(name) as part:
                while chunk := part.read(CHUNK_BYTES):
                    yield chunk
        except (
            OSError,
            zipfile.BadZipFile,
            zlib.error,
            EOFError,
            ValueError,
            RuntimeError,
            NotImplementedError,
        ) as error:
            raise BundleError(self.path.name, f"has a damaged part, {_shown(name)}", why=_said(error)) from error

    def has(self, name: str) -> bool:
        """True where there is such a part."""
        return any(p.name == name for p in self.list.parts)

    def read(self, name: str) -> bytes:
        """A part whole.

        Raises:
            BundleError: It is missing or damaged.
        """
        if not self.has(name):
            raise BundleError(self.path.name, f"has no {_shown(name)}")
        return self._read(name, MAX_TEXT_BYTES)

    def _read(self, name: str, limit: int) -> bytes:
        out = bytearray()
        for chunk in self.chunks(name):
            out += chunk
            if len(out) > limit:
                raise BundleError(self.path.name, f"has a part {_shown(name)} that is too large")
        return bytes(out)

    def extract(self, name: str, to: Path) -> None:
        """Write a part into a file of our own choosing."""
        with to.open("wb") as file:
            for chunk in self.chunks(name):
                file.write(chunk)

    def prompts(self, run: str) -> list[str]:
        """Names of a run's prompt files, sorted."""
        return sorted(p.name for p in self.list.parts if p.name.startswith(f"{run}/prompts/"))


def _entry_problem(entry: zipfile.ZipInfo) -> str:
    """What is wrong with a part, before it is read; empty where nothing is."""
    if entry.filename != LIST and not _NAME.fullmatch(entry.filename):
        return "belongs to no bundle"
    if entry.flag_bits & 0x1:
        return "is encrypted"
    if entry.compress_type not in {zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED}:
        return "is packed in an unknown way"
    if (entry.external_attr >> 16) & 0o170000 not in {0, 0o100000}:
        return "is not a file"
    limit = MAX_LIST_BYTES if entry.filename == LIST else MAX_TEXT_BYTES
    if entry.file_size > limit and not entry.filename.endswith(".parquet"):
        return "is too large"
    if entry.file_size > SMALL_BYTES and entry.file_size > MAX_RATIO * max(1, entry.compress_size):
        return f"grows to more than {MAX_RATIO} times its size"
    return ""


def _shown(name: str) -> str:
    return repr(shorten(neutralise(name, keep_newlines=False), 60))


def _said(error: BaseException) -> str:
    return shorten(neutralise(str(error), keep_newlines=False), 120)


def plain_toml(values: Mapping[str, Any]) -> bytes:
    """Values as the text of a TOML file."""
    return tomlkit.dumps(dict(values)).encode()
