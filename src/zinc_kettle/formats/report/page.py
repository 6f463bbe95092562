"""A document as HTML and as Markdown, by templates."""

from __future__ import annotations

import base64
import re
from collections.abc import Callable, Mapping
from functools import cache
from typing import TYPE_CHECKING, Any

from zinc_kettle.present.report.document import Block, Bullets, Document, Grid, Listing, Paragraph, Picture, Spans

if TYPE_CHECKING:
    from jinja2 import Environment

KINDS: dict[type[Block], str] = {
    Paragraph: "paragraph",
    Bullets: "bullets",
    Grid: "grid",
    Picture: "picture",
    Listing: "listing",
}
_SPECIAL = re.compile(r"([\\`*_{}\[\]<>#|~])")


@cache
def _environment() -> Environment:
    from jinja2 import Environment, PackageLoader, StrictUndefined

    made = Environment(
        loader=PackageLoader("zinc_kettle.formats.report", "."),
        autoescape=lambda name: bool(name and ".html" in name),
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
        keep_trailing_newline=True,
    )
    filters: dict[str, Callable[..., object]] = {
        "kind": kind_of,
        "md": markdown_text,
        "line": markdown_line,
        "inline": _inline,
        "fence": _fence,
    }
    made.filters |= filters
    return made


def kind_of(block: Block) -> str:
    """What a block is, in a word."""
    return KINDS[type(block)]


def _inline(svg: bytes) -> str:
    return "data:image/svg+xml;base64," + base64.b64encode(svg).decode()


def html(document: Document, drawn: Mapping[str, bytes]) -> str:
    """A page that needs no other file and no script.

    Args:
        document: What it says.
        drawn: Its charts as SVG, by name.
    """
    return _rendered("report.html.jinja", document, {"drawn": drawn})


def markdown(document: Document, files: Mapping[str, str]) -> str:
    """The same as Markdown.

    Args:
        document: What it says.
        files: Where its charts are, relative to the page, by name.
    """
    text = _rendered("report.md.jinja", document, {"files": files})
    return re.sub(r"\n{3,}", "\n\n", text).strip() + "\n"


def _rendered(template: str, document: Document, more: Mapping[str, Any]) -> str:
    return str(_environment().get_template(template).render(document=document, **more))


def markdown_text(text: str) -> str:
    """A text as Markdown that says just this."""
    return _SPECIAL.sub(r"\\\1", text.replace("\n", " "))


def markdown_line(spans: Spans) -> str:
    """Words with their styles as Markdown."""
    out = []
    for span in spans:
        said = markdown_text(span.text)
        mark = {"strong": "**", "emphasis": "*"}.get(span.style, "")
        if span.style == "code":
            out.append(f"`{span.text.replace('`', chr(39))}`")
        elif mark and said.strip():
            inner = said.strip()
            out.append(said.replace(inner, f"{mark}{inner}{mark}", 1))
        else:
            out.append(said)
    return "".join(out)


def _fence(text: str) -> str:
    """A fence longer than any in the text."""
    longest = max((len(run) for run in re.findall(r"`+", text)), default=0)
    return "`" * max(3, longest + 1)
