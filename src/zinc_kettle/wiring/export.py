"""Charts of a study as files."""

from __future__ import annotations

from pathlib import Path

from zinc_kettle.errors import UsageError
from zinc_kettle.present.figure import line_figure, map_figure
from zinc_kettle.present.view import StudyView

FORMATS = (".svg", ".pdf")
KINDS = ("map", "lines")


def write_chart(view: StudyView, out: Path, *, measure: str, kind: str) -> None:
    """Draw a study's map or lines into a file; the same study gives the same bytes.

    Raises:
        UsageError: No such measure, kind or format, or a folder that cannot be written.
    """
    if out.suffix.lower() not in FORMATS:
        raise UsageError(f"{out.name} is no .svg or .pdf", remedy="choose one of these endings")
    if kind not in KINDS:
        raise UsageError(f"there is no kind {kind!r}", remedy="map or lines")
    figure = map_figure(view, measure) if kind == "map" else line_figure(view, measure)
    from zinc_kettle.charts.draw import draw

    try:
        out.parent.mkdir(parents=True, exist_ok=True)
        out.write_bytes(draw(figure, out.suffix.lower().removeprefix(".")))
    except OSError as error:
        why = str(error.strerror)
        raise UsageError(f"{out.name} cannot be written", why=why, remedy="choose another place") from error
