"""Charts of a run as files."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from zinc_kettle.core.chart import Chart
from zinc_kettle.errors import UsageError
from zinc_kettle.formats.atomic_file import atomic_file
from zinc_kettle.present.charts import offered
from zinc_kettle.present.charts.kinds import Subject

FORMATS = (".svg", ".pdf")


def write_all(subject: Subject, folder: Path, stem: str) -> list[Path]:
    """Draw every kind of chart the data allow into a folder, each as SVG and PDF.

    Raises:
        UsageError: The folder cannot be written.
    """
    written = []
    for kind in offered(subject):
        chart = kind.build(subject)
        for ending in FORMATS:
            written += write(chart, [folder / f"{stem}-{kind.name}{ending}"])
    return written


def write(chart: Chart, files: Sequence[Path]) -> list[Path]:
    """Draw a chart into one or more files; their endings say the formats.

    Raises:
        UsageError: Another ending than .svg or .pdf, or a folder that cannot be written.
    """
    for out in files:
        if out.suffix.lower() not in FORMATS:
            raise UsageError(f"{out.name} ends in none of {', '.join(FORMATS)}", remedy="choose one of these endings")
        _write(chart, out)
    return list(files)


def _write(chart: Chart, out: Path) -> None:
    from zinc_kettle.charts.draw import draw

    with atomic_file(out) as part:
        part.write_bytes(draw(chart, out.suffix.lower().removeprefix(".")))
