"""`chart`: draw a run of a study."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Optional

import typer

from zinc_kettle.app.build import open_store, shipped_stores
from zinc_kettle.app.charting import subject_of
from zinc_kettle.app.export import write, write_all
from zinc_kettle.app.side_names import Sides
from zinc_kettle.cli import output
from zinc_kettle.cli.cells import one_cell
from zinc_kettle.cli.options import RUN, MeasureOption, OutOption, StoreOption
from zinc_kettle.config import places
from zinc_kettle.core.chart_view import View, viewed
from zinc_kettle.errors import UsageError
from zinc_kettle.present.answer import main_measure
from zinc_kettle.present.charts import build, offered
from zinc_kettle.present.charts.kinds import Subject


@dataclass(frozen=True)
class Wanted:
    """What is to be drawn."""

    measure: str
    """The study's own where empty."""
    kind: str
    cell: str
    """`factor=level,…` for kinds that show one cell."""
    factor: str
    others: Path | None
    hide: tuple[str, ...]
    log: str
    window: str

    def view(self) -> View:
        """How it is looked at.

        Raises:
            UsageError: No such axis, or no range.
        """
        if not set(self.log) <= {"x", "y"}:
            raise UsageError(f"there is no axis {self.log!r}", remedy="x, y or xy")
        return View(frozenset(self.hide), frozenset(self.log), _window(self.window))


def _window(text: str) -> tuple[float, float] | None:
    if not text:
        return None
    low, _, high = text.partition("..")
    try:
        found = float(low), float(high)
    except ValueError as error:
        raise UsageError(f"{text!r} is no range", remedy="LOW..HIGH, as in 10..200") from error
    if not found[0] < found[1]:
        raise UsageError(f"{text!r} is no range", remedy="LOW..HIGH, the lower end first")
    return found


def draw_chart(place: str, out: Sequence[Path], folder: Path | None, wanted: Wanted, store: Path | None) -> None:
    """Write one chart into `out`, or all that the run allows into `folder`.

    Args:
        place: STUDY or STUDY:RUN.
        out: Files of a single chart; their endings choose the format.
        folder: Folder for all of them.
        wanted: What is to be drawn.
        store: Another store than the one in the data folder.

    Raises:
        UsageError: No such study, measure, kind, cell or format.
    """
    if bool(out) == (folder is not None):
        raise UsageError("one file or all charts", remedy="--out FILE.svg for one, --all FOLDER for all")
    subject = _subject(place, wanted, store)
    if out:
        for path in write(viewed(build(wanted.kind, subject), wanted.view()), out):
            output.line(str(path))
    elif folder is not None:
        run = subject.results.run.number
        for path in write_all(subject, folder, f"{subject.results.study.name}-{run}-{subject.measure}"):
            output.line(str(path))


def list_charts(place: str, wanted: Wanted, store: Path | None) -> None:
    """Print the kinds a run allows, with the question each answers.

    Raises:
        UsageError: No such study or cell.
    """
    subject = _subject(place, wanted, store)
    output.table(("kind", "the question it answers"), [(kind.name, kind.help) for kind in offered(subject)])


def _subject(place: str, wanted: Wanted, store: Path | None) -> Subject:
    where = places(store)
    opened = open_store(where)
    results = Sides(where, lambda: opened, shipped=lambda: shipped_stores(where)).results(place)
    cell = one_cell(results, wanted.cell) if wanted.cell else None
    return subject_of(
        results,
        wanted.measure or main_measure(results.study),
        where,
        opened,
        cell=cell,
        factor=wanted.factor,
        others=wanted.others,
    )


EXAMPLES = (
    "zinc-kettle chart which-rig --list",
    "zinc-kettle chart three-ways --kind scaling --out scaling.pdf",
)


def command(
    study: Annotated[str, typer.Argument(help=f"{RUN}.")],
    out: OutOption = None,
    folder: Annotated[Optional[Path], typer.Option("--all", help="Write every chart as SVG and PDF into it.")] = None,  # noqa: UP045
    measure: MeasureOption = "",
    kind: Annotated[str, typer.Option("--kind", help="Which kind; see docs/charts.md.")] = "map",
    cell: Annotated[str, typer.Option("--cell", help="factor=level,… for kinds that show one cell.")] = "",
    factor: Annotated[str, typer.Option("--factor", help="The factor a curve runs over.")] = "",
    others: Annotated[
        Optional[Path],  # noqa: UP045
        typer.Option("--with", help="CSV of somebody else's figures, drawn beside; see docs/charts.md."),
    ] = None,
    hide: Annotated[Optional[list[str]], typer.Option("--hide", help="A series to leave out.")] = None,  # noqa: UP045
    log: Annotated[str, typer.Option("--log", help="x, y or xy: axes to draw by the other scale.")] = "",
    window: Annotated[str, typer.Option("--range", help="LOW..HIGH: the part of the x axis to draw.")] = "",
    listing: Annotated[bool, typer.Option("--list", help="List the kinds this run allows, and exit.")] = False,
    store: StoreOption = None,
) -> None:
    """Draw a study as SVG or PDF."""
    wanted = Wanted(measure, kind, cell, factor, others, tuple(hide or ()), log, window)
    if listing:
        list_charts(study, wanted, store)
    else:
        draw_chart(study, out or (), folder, wanted, store)
