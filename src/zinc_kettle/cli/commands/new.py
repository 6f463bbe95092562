"""`new`: a study file from a template."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Annotated, Optional

import typer

from zinc_kettle.app.build import known
from zinc_kettle.app.planning import template_named, template_text
from zinc_kettle.cli import output
from zinc_kettle.cli.options import StoreOption
from zinc_kettle.config import places
from zinc_kettle.core.plan.templates import TEMPLATES, missing
from zinc_kettle.errors import UsageError
from zinc_kettle.formats.study import parse_study


def list_templates() -> None:
    """Every template, with its question and why it is built so."""
    for template in TEMPLATES.values():
        output.line(f"{template.name}: {template.question}")
        output.line(f"  {template.reason}")
        given = missing(template, ())
        if given:
            output.line(f"  give --vary {given[0]}=…")


def new_study(
    chosen: str,
    vary: Sequence[str],
    hold: Sequence[str],
    name: str,
    out: Path | None,
    store: Path | None,
    *,
    again: bool = False,
) -> Path:
    """Write a study file; returns where. With `again` one that is there and says the same is as good.

    Raises:
        UsageError: No such template, a level that cannot be, a design that cannot be measured, a file that is there.
    """
    where = places(store)
    engines = known(where)
    title, text = template_text(template_named(chosen), engines, vary=_pairs(vary), hold=_pairs(hold), name=name)
    file = out or where.studies / f"{title}.study.toml"
    parse_study(text, engines, file=file.name, folder=file.parent)
    if file.exists() and not (again and file.read_text(encoding="utf-8") == text):
        raise UsageError(f"{file.name} is there already", remedy="choose another --name or --out")
    file.parent.mkdir(parents=True, exist_ok=True)
    file.write_text(text, encoding="utf-8")
    return file


def tell_new(file: Path) -> None:
    """Say where a study was written, and what can be done with it."""
    output.line(str(file))
    output.note(f"zinc-kettle plan {file} shows what it would do, zinc-kettle run {file} measures it")


def _pairs(given: Sequence[str]) -> dict[str, str]:
    """`factor=what` of several options."""
    out = {}
    for part in given:
        name, equals, said = part.partition("=")
        if not equals or not name.strip() or not said.strip():
            raise UsageError(f"{part!r} names no level", remedy="factor=level, such as threads=1..8x2")
        out[name.strip()] = said.strip()
    return out


EXAMPLES = (
    "zinc-kettle new",
    "zinc-kettle new --template threads --hold model=brine-60m --vary threads=1..8x2",
)


def command(
    template: Annotated[str, typer.Option("--template", help="A design; without it all of them are listed.")] = "",
    vary: Annotated[Optional[list[str]], typer.Option("--vary", help="factor=levels, as 1,2,4 or 1..8x2.")] = None,  # noqa: UP045
    hold: Annotated[Optional[list[str]], typer.Option("--hold", help="factor=level, as model=brine-60m.")] = None,  # noqa: UP045
    name: Annotated[str, typer.Option("--name", help="Of the study; made from the template and the model.")] = "",
    out: Annotated[Optional[Path], typer.Option("--out", "-o", help="File to write; else into your studies.")] = None,  # noqa: UP045
    store: StoreOption = None,
) -> None:
    """Write a study file from a template for a usual question."""
    if template:
        tell_new(new_study(template, vary or [], hold or [], name, out, store))
    else:
        list_templates()
