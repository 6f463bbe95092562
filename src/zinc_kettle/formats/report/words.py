"""A person's own words: Markdown of paragraphs, lists, emphasis and code; anything else is taken as text."""

from __future__ import annotations

from typing import TYPE_CHECKING

from zinc_kettle.core.text import neutralise
from zinc_kettle.present.report.document import Block, Bullets, Listing, Paragraph, Span, Spans, Style

if TYPE_CHECKING:
    from markdown_it.token import Token

STYLES: dict[str, Style] = {"strong_open": "strong", "em_open": "emphasis"}


def read_words(text: str) -> tuple[Block, ...]:
    """Words as blocks of a document; no HTML, no pictures, no links that lead anywhere."""
    from markdown_it import MarkdownIt

    tokens = MarkdownIt("commonmark", {"html": False}).parse(neutralise(text))
    out: list[Block] = []
    items: list[Spans] = []
    for token in tokens:
        if token.type in {"fence", "code_block"}:
            out.append(Listing(token.content.rstrip("\n"), ""))
        elif token.type in {"bullet_list_close", "ordered_list_close"} and token.level == 0:
            out.append(Bullets(tuple(items), own=True))
            items = []
        elif token.type == "inline" and token.level > 1:
            items.append(_spans(token))
        elif token.type == "inline":
            out.append(Paragraph(_spans(token), own=True))
    return tuple(out)


def _spans(token: Token) -> Spans:
    out: list[Span] = []
    style: Style = "plain"
    for child in token.children or ():
        if child.type in STYLES:
            style = STYLES[child.type]
        elif child.type in {"strong_close", "em_close"}:
            style = "plain"
        elif child.type == "code_inline":
            out.append(Span(child.content, "code"))
        elif child.type in {"softbreak", "hardbreak"}:
            out.append(Span(" "))
        elif child.content:
            out.append(Span(child.content, style))
    return tuple(out)
