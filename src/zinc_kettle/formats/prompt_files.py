"""Prompts as a person names them on Plan: files from anywhere, which are copied to the study, and typed text."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

from zinc_kettle.core.names import file_stem, name_from
from zinc_kettle.errors import UsageError
from zinc_kettle.formats.atomic_file import atomic_file
from zinc_kettle.formats.prompts import MAX_DATA_BYTES, MAX_PROMPT_BYTES

_PART = re.compile(r'\s*(?:"(?P<text>[^"]*)"|(?P<file>[^",][^,]*))\s*(?:,|\Z)')
TYPED = "prompt"
"""What a typed prompt is called where it has no words."""
LONGEST_TYPED = 24
MOST_OF_A_NAME = 1_000


def brought(said: str, folder: Path) -> list[str]:
    """Names of prompt files beside a study: of each that lies elsewhere a copy is put there, and typed text is written
    into a file of its own. A name of something that is not there stays, and is found wrong with the plan.

    Args:
        said: Files, and texts in quotation marks, with commas between.
        folder: Of the study.

    Raises:
        UsageError: A file cannot be read or written, or is too large; nothing is lost.
    """
    return [_written(text, folder) if text is not None else _copied(name, folder) for text, name in _parts(said)]


def _parts(said: str) -> Iterator[tuple[str | None, str]]:
    """Each part: a text, or None and a file's name."""
    at = 0
    while at < len(said.rstrip()):
        found = _PART.match(said, at)
        if found is None:
            raise UsageError(
                "the files cannot be told apart", remedy='night-log.txt, ~/calls.jsonl, "Which quay is free?"'
            )
        at = found.end()
        text, name = found["text"], (found["file"] or "").strip()
        if text is not None or name:
            yield (None, name) if text is None else (text, "")


def _copied(name: str, folder: Path) -> str:
    path = Path(name).expanduser() if len(name) <= MOST_OF_A_NAME else Path()
    try:
        if not path.is_absolute() or not path.is_file() or path.parent.resolve() == folder.resolve():
            return path.name if path.is_absolute() and path.parent == folder else name
        if path.stat().st_size > MAX_DATA_BYTES:
            raise UsageError(f"{path.name} is larger than {MAX_DATA_BYTES >> 20} MB", remedy="use a part of it")
        return _kept(path.read_bytes(), file_stem(path.stem) or TYPED, path.suffix, folder)
    except (OSError, ValueError) as error:
        raise UsageError(f"{path.name} cannot be copied to the study", why=str(error)) from error


def _written(text: str, folder: Path) -> str:
    content = text.strip().encode()
    if not content or len(content) > MAX_PROMPT_BYTES:
        raise UsageError("a typed prompt has some words, and not too many", remedy='"Which quay is free?"')
    try:
        return _kept(content + b"\n", name_from(text, otherwise=TYPED, longest=LONGEST_TYPED), ".txt", folder)
    except OSError as error:
        raise UsageError("the typed prompt cannot be written", why=str(error)) from error


def _kept(content: bytes, stem: str, suffix: str, folder: Path) -> str:
    """The name of a file with this content: one that is there already, else a new one of a name that is free."""
    number = 1
    while True:
        file = folder / f"{stem}{f'-{number}' if number > 1 else ''}{suffix}"
        if not file.exists():
            with atomic_file(file, folder_mode=0o700) as part:
                part.write_bytes(content)
            return file.name
        if file.is_file() and file.stat().st_size == len(content) and file.read_bytes() == content:
            return file.name
        number += 1
