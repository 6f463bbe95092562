"""Prompt files: plain text, JSON Lines of messages, CSV; and recorded arrival times. All hostile until checked."""

from __future__ import annotations

import csv
import io
import itertools
import json
import math
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from zinc_kettle.core.plan.traffic import MAX_TOKENS_DRAWN, Recorded
from zinc_kettle.core.text import neutralise
from zinc_kettle.formats.bounded import UnreadableFileError, read_bounded_text

MAX_PROMPT_BYTES = 8 << 20
MAX_DATA_BYTES = 64 << 20
MAX_ENTRIES = 100_000
MAX_NAME = 80


class BadPromptFile(ValueError):
    """What is wrong with a prompt file, in a clause, with the line where there is one."""


class _Message(BaseModel):
    model_config = ConfigDict(extra="ignore", frozen=True)
    role: Literal["system", "user", "assistant"]
    content: Annotated[str, Field(min_length=1)]


class _Line(BaseModel):
    """A line of JSON Lines: `messages` or one `prompt`, its `name`, and `output_tokens` where they are known."""

    model_config = ConfigDict(extra="ignore", frozen=True)
    messages: list[_Message] | None = None
    prompt: Annotated[str, Field(min_length=1)] | None = None
    output_tokens: Annotated[int, Field(ge=1, le=MAX_TOKENS_DRAWN)] | None = None
    name: Annotated[str, Field(min_length=1, max_length=MAX_NAME)] | None = None


@dataclass(frozen=True, slots=True)
class NamedPrompt:
    """A prompt of a file, and what it is called."""

    name: str
    """As its line has it, else made of the file's name and the number of the prompt in it."""
    prompt: str | Recorded


def read_text(path: Path, limit: int) -> str:
    """A file as text.

    Raises:
        BadPromptFile: It is too large, unreadable, not UTF-8, or empty.
    """
    try:
        text = read_bounded_text(path, limit, encoding="utf-8-sig")
    except UnreadableFileError as error:
        raise BadPromptFile(str(error)) from error
    if not text.strip():
        raise BadPromptFile("is empty")
    return text


def read_prompts(path: Path) -> list[NamedPrompt]:
    """A prompt file by its ending: `.jsonl` and `.csv` hold many prompts, anything else is one prompt of plain text.

    Raises:
        BadPromptFile: Anything wrong with it.
    """
    if path.suffix == ".jsonl":
        return _bounded(_json_lines(read_text(path, MAX_DATA_BYTES)), path.stem)
    if path.suffix == ".csv":
        return _bounded(_csv_rows(read_text(path, MAX_DATA_BYTES)), path.stem)
    return [NamedPrompt(path.stem, read_text(path, MAX_PROMPT_BYTES).strip())]


def _bounded(entries: Iterator[tuple[str, Recorded]], stem: str) -> list[NamedPrompt]:
    found = list(itertools.islice(entries, MAX_ENTRIES + 1))
    if not found:
        raise BadPromptFile("holds no prompt")
    if len(found) > MAX_ENTRIES:
        raise BadPromptFile(f"has more than {MAX_ENTRIES:,} prompts")
    return [NamedPrompt(name or f"{stem}-{number}", entry) for number, (name, entry) in enumerate(found, start=1)]


def _json_lines(text: str) -> Iterator[tuple[str, Recorded]]:
    for number, line in enumerate(text.splitlines(), start=1):
        if not line.strip():
            continue
        try:
            plain = json.loads(line)
        except (ValueError, RecursionError) as error:  # also a number of more digits than Python reads
            raise BadPromptFile(f"line {number} is not JSON") from error
        try:
            entry = _Line.model_validate(plain, strict=True)
        except ValidationError as error:
            first = error.errors()[0]
            where = ".".join(str(part) for part in first["loc"])
            raise BadPromptFile(f"line {number}: {where}: {first['msg']}") from error
        yield neutralise(entry.name or "", keep_newlines=False), _entry(entry, number)


def _entry(entry: _Line, number: int) -> Recorded:
    if (entry.messages is None) == (entry.prompt is None):
        raise BadPromptFile(f"line {number} needs either messages or prompt")
    messages = tuple((m.role, m.content) for m in entry.messages or ()) or (("user", entry.prompt or ""),)
    if not any(role == "user" for role, _ in messages):
        raise BadPromptFile(f"line {number} has no user message")
    if len(messages) != (1 if entry.messages is None else len(entry.messages)):
        raise BadPromptFile(f"line {number} has no messages")
    return Recorded(messages, entry.output_tokens)


def _csv_rows(text: str) -> Iterator[tuple[str, Recorded]]:
    reader = csv.DictReader(io.StringIO(text), strict=True)
    try:
        if "prompt" not in (reader.fieldnames or ()):
            raise BadPromptFile("has no column named prompt in its first line")
        for row in reader:
            prompt, tokens, name = ((row.get(c) or "").strip() for c in ("prompt", "output_tokens", "name"))
            if not prompt:
                raise BadPromptFile(f"line {reader.line_num} has no prompt")
            entry = Recorded((("user", prompt),), _tokens(tokens, reader.line_num))
            yield neutralise(name, keep_newlines=False)[:MAX_NAME], entry
    except csv.Error as error:
        raise BadPromptFile(f"line {reader.line_num}: {error}") from error


def _tokens(text: str, line: int) -> int | None:
    if not text:
        return None
    if not text.isdecimal() or len(text) > 12 or not 1 <= int(text) <= MAX_TOKENS_DRAWN:
        raise BadPromptFile(f"line {line}: output_tokens = {text[:20]!r} is not a usable number")
    return int(text)


def read_times(path: Path) -> tuple[float, ...]:
    """Recorded arrival times in seconds: one a line, or a CSV with a column `at_s`; sorted, counted from the first.

    Raises:
        BadPromptFile: Anything wrong with it.
    """
    lines = read_text(path, MAX_DATA_BYTES).splitlines()
    reader = csv.reader(lines)
    try:
        out = list(_seconds(reader))
    except csv.Error as error:
        raise BadPromptFile(f"line {reader.line_num}: {error}") from error
    if len(out) < 2 or len(out) > MAX_ENTRIES:
        raise BadPromptFile(f"has {len(out):,} times; 2 to {MAX_ENTRIES:,} are needed")
    first = min(out)
    return tuple(sorted(at - first for at in out))


def _seconds(rows: Iterator[list[str]]) -> Iterator[float]:
    column = 0
    for number, row in enumerate(rows, start=1):
        if number == 1 and "at_s" in row:
            column = row.index("at_s")
        elif row:
            yield _second(row, column, number)


def _second(row: list[Any], column: int, number: int) -> float:
    try:
        at = float(row[column])
    except (IndexError, ValueError) as error:
        raise BadPromptFile(f"line {number} holds no time in seconds") from error
    if not math.isfinite(at):
        raise BadPromptFile(f"line {number} holds no time in seconds")
    return at
