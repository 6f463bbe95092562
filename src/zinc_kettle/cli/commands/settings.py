"""`settings`: what is set, where that is from, and setting it."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Annotated, Optional

import typer

from zinc_kettle.app.settings import change, rows
from zinc_kettle.cli import output
from zinc_kettle.cli.options import JsonOption, StoreOption
from zinc_kettle.config import places
from zinc_kettle.errors import UsageError


def tell_settings(changes: Sequence[str], store_path: Path | None, *, as_json: bool) -> None:
    """Change what is named, then say what everything is.

    Raises:
        UsageError: There is no such setting, or this is no value for it.
    """
    where = places(store_path)
    for said in changes:
        key, equals, text = said.partition("=")
        if not equals:
            raise UsageError(f"{said!r} sets nothing", remedy="money.currency=EUR; money.currency= takes it away")
        change(where, key.strip(), text)
    found = rows(where)
    if as_json:
        for row in found:
            output.json_line({"key": row.key or None, "title": row.title, "value": row.value, "origin": row.origin})
        return
    output.table(
        ("setting", "is", "from", "what it is"),
        [(row.key or row.title, row.value, row.origin, row.meaning) for row in found],
    )


EXAMPLES = (
    "zinc-kettle settings",
    "zinc-kettle settings pace.words_per_minute=200 money.currency=EUR",
)


def command(
    changes: Annotated[Optional[list[str]], typer.Argument(help="KEY=VALUE; KEY= restores the default.")] = None,  # noqa: UP045
    store: StoreOption = None,
    as_json: JsonOption = False,
) -> None:
    """Show settings (pace, money, theme, folders) and where each comes from, or change one."""
    tell_settings(changes or (), store, as_json=as_json)
