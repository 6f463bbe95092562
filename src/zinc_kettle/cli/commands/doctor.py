"""`doctor`: checks this machine and suggests fixes."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Optional

import typer

from zinc_kettle.app.doctor import examine, write_bundle
from zinc_kettle.app.ownership import adopt
from zinc_kettle.app.packing import hidden_words
from zinc_kettle.cli import output
from zinc_kettle.cli.options import JsonOption, StoreOption
from zinc_kettle.config import places
from zinc_kettle.core.health import healthy
from zinc_kettle.core.units import plural


def adopt_store(store: Path) -> int:
    """Make a store that was not made here the person's own; returns the exit code.

    Raises:
        UsageError: It cannot be read, or cannot be trusted.
    """
    runs = adopt(places(store))
    output.line(str(store))
    output.note(f"checked, {plural(runs, 'run')}; it is yours now, and can be measured on")
    return 0


def tell_doctor(store_path: Path | None, *, driver: bool, bundle: Path | None, as_json: bool) -> int:
    """Say what was found, and what to do; returns the exit code.

    Raises:
        UsageError: The report cannot be written.
    """
    where = places(store_path)
    checks = examine(where, driver=driver)
    if bundle is not None:
        write_bundle(where, checks, bundle, sorted(hidden_words(where)))
        output.line(str(bundle))
        output.note("Names, addresses and paths of this machine are left out; read it before you send it.")
        return 0
    if as_json:
        for check in checks:
            output.json_line(
                {"name": check.name, "state": check.state, "found": check.found, "remedy": check.remedy or None}
            )
        return 0 if healthy(checks) else 1
    output.table(("", "what", "found"), [(check.mark, check.name, check.found) for check in checks])
    todo = [check for check in checks if check.remedy]
    if todo:
        output.line()
        output.line("What could be done:")
        for check in todo:
            output.line(f"- {check.name}: {check.remedy}")
    broken = sum(check.state == "broken" for check in checks)
    output.note(
        f"{plural(broken, 'thing')} the tool needs does not work" if broken else "nothing the tool needs is broken"
    )
    return 0 if healthy(checks) else 1


EXAMPLES = (
    "zinc-kettle doctor --driver",
    "zinc-kettle doctor --bundle report.zip",
    "zinc-kettle doctor --adopt old.db",
)


def command(
    driver: Annotated[
        bool, typer.Option("--driver", help="Test the driver's stamps, too; takes a few seconds.")
    ] = False,
    bundle: Annotated[
        Optional[Path],  # noqa: UP045
        typer.Option("--bundle", help="Write a report for a bug into this .zip: versions, checks, the log, no names."),
    ] = None,
    adopt: Annotated[
        Optional[Path],  # noqa: UP045
        typer.Option("--adopt", metavar="STORE", help="Check a store that was not made here, and make it yours."),
    ] = None,
    store: StoreOption = None,
    as_json: JsonOption = False,
) -> None:
    """Check this machine and suggest fixes."""
    if adopt is not None:
        raise typer.Exit(adopt_store(adopt))
    raise typer.Exit(tell_doctor(store, driver=driver, bundle=bundle, as_json=as_json))
