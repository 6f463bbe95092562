"""A report as pure data: sections of paragraphs, tables, charts and listings."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Literal, TypeAlias

from zinc_kettle.core.chart import Chart
from zinc_kettle.core.text import capitalised

Style = Literal["plain", "strong", "emphasis", "code"]


@dataclass(frozen=True, slots=True)
class Span:
    """Words of one style."""

    text: str
    style: Style = "plain"


Spans: TypeAlias = tuple[Span, ...]


@dataclass(frozen=True, slots=True)
class Paragraph:
    """A paragraph."""

    spans: Spans
    own: bool = False
    """True for a person's own words."""
    lead: bool = False
    """True for the sentence that stands at the head of a report, too, where this is its first part."""


@dataclass(frozen=True, slots=True)
class Bullets:
    """A list."""

    items: tuple[Spans, ...]
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


def without_private(document: Document, clean: Callable[[str], str]) -> Document:
    """A report from which what should not leave a machine is taken; a person's own words stay as they wrote them."""
    sections = tuple(
        replace(section, title=clean(section.title), blocks=tuple(_cleaned(block, clean) for block in section.blocks))
        for section in document.sections
    )
    return replace(document, title=clean(document.title), lead=clean(document.lead), sections=sections)


def _cleaned(block: Block, clean: Callable[[str], str]) -> Block:
    def line(spans: Spans) -> Spans:
        return tuple(replace(span, text=clean(span.text)) for span in spans)

    match block:
        case Paragraph(own=False):
            return replace(block, spans=line(block.spans))
        case Bullets(own=False):
            return replace(block, items=tuple(map(line, block.items)))
        case Grid():
            return Grid(
                tuple(map(clean, block.heads)),
                tuple(tuple(map(clean, row)) for row in block.rows),
                clean(block.caption),
            )
        case Listing():
            return replace(block, text=clean(block.text))
        case Picture():
            chart = block.chart
            return replace(block, chart=replace(chart, title=clean(chart.title), notes=tuple(map(clean, chart.notes))))
    return block


def paragraph(text: str, style: Style = "plain") -> Paragraph:
    """A paragraph of one style."""
    return Paragraph((Span(text, style),))


def lead_paragraph(text: str) -> Paragraph:
    """The sentence that says what a part came to."""
    return Paragraph((Span(text, "strong"),), lead=True)


def bullets(items: Sequence[str]) -> Bullets:
    """A list of plain lines."""
    return Bullets(tuple((Span(item),) for item in items))


def sentence(text: str) -> str:
    """With a capital at its beginning and a full stop at its end."""
    text = text.strip()
    return f"{capitalised(text)}{'' if text.endswith(('.', '!', '?')) else '.'}" if text else ""
