"""A document as PDF: typeset by a template that gets it as data, so that no text of it is ever read as markup."""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from zinc_kettle.errors import UsageError
from zinc_kettle.formats.report.page import kind_of
from zinc_kettle.present.report.document import Block, Bullets, Document, Grid, Listing, Paragraph, Picture, Spans

TEMPLATE = Path(__file__).parent / "report.typ"
LANDSCAPE_COLUMNS = 9
"""Tables of more columns are set smaller."""


def pdf(document: Document, drawn: Mapping[str, bytes], fonts: Path) -> bytes:
    """The report as PDF; the same bytes for the same document.

    Args:
        document: What it says.
        drawn: Its charts as SVG, by name.
        fonts: A folder with DejaVu Sans, which the charts use, too.

    Raises:
        UsageError: It cannot be typeset.
    """
    import typst

    plain = {
        "title": document.title,
        "lead": document.lead,
        "simulated": document.simulated,
        "foot": document.foot,
        "sections": [
            {"title": s.title, "part": not s.key, "blocks": [_plain(block, drawn) for block in s.blocks]}
            for s in document.shown
        ],
    }
    try:
        made = typst.compile(TEMPLATE, format="pdf", font_paths=[fonts], sys_inputs={"data": json.dumps(plain)})
    except RuntimeError as error:
        raise UsageError("the report cannot be typeset", why=str(error).partition("\n")[0]) from error
    if not isinstance(made, bytes):
        raise UsageError("the report cannot be typeset")
    return made


def _plain(block: Block, drawn: Mapping[str, bytes]) -> dict[str, Any]:
    kind = kind_of(block)
    if isinstance(block, Paragraph):
        return {"kind": kind, "own": block.own, "spans": _spans(block.spans)}
    if isinstance(block, Bullets):
        return {"kind": kind, "own": block.own, "items": [_spans(item) for item in block.items]}
    if isinstance(block, Grid):
        small = len(block.heads) > LANDSCAPE_COLUMNS
        rows = [[_breakable(cell) for cell in row] for row in block.rows]
        return {"kind": kind, "heads": list(block.heads), "rows": rows, "small": small, "caption": block.caption}
    if isinstance(block, Picture):
        return {"kind": kind, "svg": drawn[block.name].decode(), "alt": f"{block.chart.title} {block.chart.subtitle}"}
    assert isinstance(block, Listing)
    return {"kind": kind, "text": block.text}


def _spans(spans: Spans) -> list[list[str]]:
    return [[span.text, span.style] for span in spans]


def _breakable(text: str) -> str:
    """A long word, such as a hash, may be broken anywhere."""
    return " ".join(
        "\u200b".join(word[i : i + 8] for i in range(0, len(word), 8)) if len(word) > 24 else word
        for word in text.split(" ")
    )
