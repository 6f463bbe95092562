"""A report as pure data: sections of paragraphs, tables, charts and listings."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal, TypeAlias

from zinc_kettle.core.chart import Chart

Style = Literal["plain", "strong", "emphasis", "code"]


@dataclass(frozen=True, slots=True)
class Span:
    """Words of one style."""

    text: str
    style: Style = "plain"


Line: TypeAlias = tuple[Span, ...]


@dataclass(frozen=True, slots=True)
class Paragraph:
    """A paragraph."""

    spans: Line
    own: bool = False
    """True for a person's own words."""


@dataclass(frozen=True, slots=True)
class Bullets:
    """A list."""

    items: tuple[Line, ...]
    own: bool = False


@dataclass(frozen=True, slots=True)
class Grid:
    """A table of text."""

    heads: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    caption: str = ""


@dataclass(frozen=True, slots=True)
class Picture:
    """A chart."""

    chart: Chart
    name: str
    """For its file, where it gets one; unique in its document."""


@dataclass(frozen=True, slots=True)
class Listing:
    """A text as it is, such as a study file."""

    text: str
    language: str = ""


Block: TypeAlias = Paragraph | Bullets | Grid | Picture | Listing


@dataclass(frozen=True, slots=True)
class Section:
    """A heading and what stands below it."""

    key: str
    """Empty for a heading of a part."""
    title: str
    blocks: tuple[Block, ...] = ()
    shown: bool = True
    """False where a person left it out."""


@dataclass(frozen=True)
class Document:
    """A report."""

    title: str
    lead: str
    """The answer in a sentence."""
    sections: tuple[Section, ...]
    simulated: bool
    foot: str
    """Which tool, under which definitions, when."""

    @property
    def shown(self) -> tuple[Section, ...]:
        """What a reader sees."""
        return tuple(section for section in self.sections if section.shown)

    @property
    def pictures(self) -> list[Picture]:
        """Every chart a reader sees."""
        return [block for section in self.shown for block in section.blocks if isinstance(block, Picture)]


def paragraph(text: str, style: Style = "plain") -> Paragraph:
    """A paragraph of one style."""
    return Paragraph((Span(text, style),))


def bullets(items: Sequence[str]) -> Bullets:
    """A list of plain lines."""
    return Bullets(tuple((Span(item),) for item in items))


def sentence(text: str) -> str:
    """With a capital at its beginning and a full stop at its end."""
    text = text.strip()
    return f"{text[:1].upper()}{text[1:]}{'' if text.endswith(('.', '!', '?')) else '.'}" if text else ""
